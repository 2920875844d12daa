package prove

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// installs lists how projects install what they depend on, into a folder that is not committed.
var installs = []struct {
	of           diagnose.Kind
	manifests    []string // name what is to be installed
	folder       string
	needs        func(manifests string) bool // nil if the manifests alone decide
	onlyLikeHere bool                        // only if the working tree has the folder, or the output asks
	by           []lockedBy                  // the first whose file exists is used
}{
	{diagnose.NodePackage, []string{"package.json"}, "node_modules", needsNode, false, []lockedBy{
		{"package-lock.json", "npm ci", "", true}, {"npm-shrinkwrap.json", "npm ci", "", true},
		{"pnpm-lock.yaml", "pnpm install --frozen-lockfile", "", true},
		{"yarn.lock", "yarn install --frozen-lockfile", "", true},
		{"bun.lock", "bun install --frozen-lockfile", "", true},
		{"bun.lockb", "bun install --frozen-lockfile", "", true}, {"package.json", "npm install", "", false}}},
	{diagnose.PHPPackage, []string{"composer.json"}, "vendor", needsPHP, false, []lockedBy{
		{"composer.lock", "composer install", "", true}, {"composer.json", "composer install", "", false}}},
	{diagnose.RubyLibrary, []string{"Gemfile"}, "vendor/bundle", nil, true, []lockedBy{
		{"Gemfile.lock", "bundle install", "", true}, {"Gemfile", "bundle install", "", false}}},
	{diagnose.PythonModule, []string{"requirements.txt", "pyproject.toml", "setup.cfg", "setup.py", "Pipfile"}, ".venv",
		nil, true, []lockedBy{{"uv.lock", "uv sync", enterVenv, true},
			{"poetry.lock", "poetry install", `. "$(poetry env info --path)/bin/activate"`, true},
			{"Pipfile.lock", "pipenv sync", `. "$(pipenv --venv)/bin/activate"`, true},
			{"requirements.txt", inVenv + "pip install -r requirements.txt", enterVenv, false},
			{"pyproject.toml", inVenv + "pip install -e .", enterVenv, false},
			{"setup.py", inVenv + "pip install -e .", enterVenv, false}}},
}

// enterVenv enters the virtual environment of Python (PEP 405): what follows in the same shell uses it. inVenv makes it
// before.
const (
	enterVenv = ". .venv/bin/activate"
	inVenv    = "python3 -m venv .venv && " + enterVenv + " && "
)

// lockedBy is an install command and the file that selects it.
type lockedBy struct {
	file    string
	command string
	enter   string // what uses the installed things in a shell; empty if nothing is needed
	locks   bool   // the file says exactly what is installed, so that the same file need not be installed twice
}

// line is the command, and what uses what it installed.
func (by lockedBy) line() string {
	if by.enter == "" || strings.Contains(by.command, by.enter) {
		return by.command
	}
	return by.command + " && " + by.enter
}

// needsNode reports whether a package.json has dependencies.
func needsNode(text string) bool {
	var p struct {
		Dependencies    map[string]any `json:"dependencies"`
		DevDependencies map[string]any `json:"devDependencies"`
	}
	return json.Unmarshal([]byte(text), &p) == nil && len(p.Dependencies)+len(p.DevDependencies) > 0
}

// needsPHP reports whether a composer.json has dependencies beside PHP itself and its extensions.
func needsPHP(text string) bool {
	var p struct {
		Require map[string]any `json:"require"`
		Dev     map[string]any `json:"require-dev"`
	}
	if json.Unmarshal([]byte(text), &p) != nil {
		return false
	}
	for _, names := range []map[string]any{p.Require, p.Dev} {
		for name := range names {
			if strings.Contains(name, "/") {
				return true
			}
		}
	}
	return false
}

// notInstalled returns a sentence about missing dependencies and the command that installs them. Both are empty if
// nothing is missing.
func (pr *Prover) notInstalled(ctx context.Context, dir string, tree object.ID) (lack, command string, err error) {
	for i, in := range installs {
		named, text, err := pr.manifests(ctx, i, tree)
		if err != nil {
			return "", "", err
		}
		if len(named) == 0 || in.needs != nil && !in.needs(text) || isThere(dir, in.folder) ||
			in.onlyLikeHere && !isThere(pr.Repo.Where().Dir, in.folder) {
			continue
		}
		if command := installedBy(i, dir); command != "" {
			return fmt.Sprintf("what %s names is not installed there (there is no %s; “%s” installs it)",
				words.List(named), in.folder, command), command, nil
		}
	}
	return "", "", nil
}

// manifests returns the names and the joined text of the manifests that a tree has.
func (pr *Prover) manifests(ctx context.Context, row int, tree object.ID) (names []string, text string, err error) {
	for _, name := range installs[row].manifests {
		one, ok, err := pr.Planner.TextAt(ctx, tree, name)
		if err != nil {
			return nil, "", err
		}
		if ok {
			names, text = append(names, name), text+one
		}
	}
	return names, text, nil
}

// isThere reports whether a folder has a file.
func isThere(dir, name string) bool {
	_, err := os.Stat(filepath.Join(dir, filepath.FromSlash(name)))
	return err == nil
}

// installedBy returns the command that installs what a row of installs is about; empty if none of its files is there.
func installedBy(row int, dir string) string {
	for _, by := range installs[row].by {
		if isThere(dir, by.file) {
			return by.line()
		}
	}
	return ""
}

// seeMissing adds to a checkout what the output of a failed run says is not installed, so that nobody is blamed for it.
// A name that yours, theirs or the base had as a file is not one of those, nor is a module that the project's manifests
// do not name: there the code is at fault.
func (pr *Prover) seeMissing(ctx context.Context, p *plan.Position, at *LaidOut, tree object.ID, r check.Report,
	output []string) error {
	missing := diagnose.NotFound(output)
	if at.install == "" { // otherwise that is why
		at.Unchecked = unknownCommand(r, missing)
	}
	if at.Unchecked != "" || len(missing) == 0 {
		return nil
	}
	own, err := pr.names(ctx, p, tree)
	if err != nil {
		return err
	}
	for _, m := range missing {
		if own[m.Name] || own[path.Base(m.Name)] || m.Kind == diagnose.Program && at.install != "" {
			continue
		}
		lack, command, err := pr.lack(ctx, at.In.Dir, tree, m)
		if err != nil {
			return err
		}
		switch {
		case lack == "" || command != "" && command == at.install: // or told already
		default:
			at.Lacks, at.install = append(at.Lacks, lack), cmp.Or(at.install, command)
		}
	}
	return nil
}

// lack describes a missing thing as a clause, with the command that installs it, if there is one. The clause is empty
// if the project's manifests do not name it.
func (pr *Prover) lack(ctx context.Context, dir string, tree object.ID, m diagnose.Missing) (clause, command string,
	err error) {
	clause = fmt.Sprintf("“%s” is not installed there", words.OneLine(m.Name))
	for i, in := range installs {
		if in.of != m.Kind {
			continue
		}
		named, text, err := pr.manifests(ctx, i, tree)
		switch {
		case err != nil:
			return "", "", err
		case len(named) == 0:
			return clause + ", and no file says how to install it", "", nil
		case m.Kind != diagnose.PHPPackage && !strings.Contains(folded(text), folded(m.Name)):
			return "", "", nil
		}
		if clause += ", which is named in " + words.List(named); installedBy(i, dir) != "" {
			command = installedBy(i, dir)
			clause += fmt.Sprintf(" (“%s” installs it)", command)
		}
		return clause, command, nil
	}
	return clause, "", nil
}

// folded writes a module's name as package indexes compare them (PEP 503).
func folded(name string) string { return strings.ReplaceAll(strings.ToLower(name), "_", "-") }

// names returns the names of files and folders in a tree and on both sides, with and without their endings.
func (pr *Prover) names(ctx context.Context, p *plan.Position, tree object.ID) (map[string]bool, error) {
	trees := []object.ID{tree}
	if p != nil {
		for _, commit := range []object.ID{p.Yours, p.Theirs, p.Base()} {
			if commit.IsZero() {
				continue
			}
			of, err := pr.Planner.Tree(ctx, commit)
			if err != nil {
				return nil, err
			}
			trees = append(trees, of)
		}
	}
	out, from := map[string]bool{}, object.ID{}
	for _, to := range trees { // the first whole, the others by what is different
		if err := pr.Planner.Store.EachChange(ctx, from, to, func(c object.Change) {
			for part := range strings.SplitSeq(c.Path, "/") {
				out[part], out[strings.TrimSuffix(part, path.Ext(part))] = true, true
			}
		}); err != nil {
			return nil, err
		}
		from = tree
	}
	return out, nil
}

// unknownCommand says that the shell does not know the command of a step; empty where that is not why it failed. Shells
// end with 127 then (POSIX, 2.8.2), and with 126 where the file cannot be run. Build tools hand the number on from a
// shell of their own, which then misses a program that the step does not name.
func unknownCommand(r check.Report, missing []diagnose.Missing) string {
	for _, st := range r.Steps {
		if !st.Ran || st.Passed {
			continue
		}
		switch {
		case r.Exit == 127 && !slices.ContainsFunc(missing, func(m diagnose.Missing) bool {
			return m.Kind == diagnose.Program && !strings.Contains(st.Line, m.Name)
		}):
			return fmt.Sprintf("The shell does not know a command in “%s”: nothing was checked.",
				words.OneLine(st.Line))
		case r.Exit == 126:
			return fmt.Sprintf("The shell cannot run a command in “%s”: nothing was checked.", words.OneLine(st.Line))
		}
	}
	return ""
}
