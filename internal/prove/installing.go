package prove

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/words"
)

// installs lists how projects install their dependencies into a folder that is not committed.
var installs = []struct {
	manifest, folder string
	needs            func(manifest string) bool // nil if the manifest alone decides
	onlyLikeHere     bool                       // only if the person's working tree has the folder
	by               []lockedBy                 // the first whose file exists is used
}{
	{"package.json", "node_modules", needsNode, false, []lockedBy{{"package-lock.json", "npm ci"},
		{"npm-shrinkwrap.json", "npm ci"}, {"pnpm-lock.yaml", "pnpm install --frozen-lockfile"},
		{"yarn.lock", "yarn install --frozen-lockfile"}, {"package.json", "npm install"}}},
	{"composer.json", "vendor", nil, true, []lockedBy{{"composer.json", "composer install"}}},
	{"Gemfile", "vendor/bundle", nil, true, []lockedBy{{"Gemfile", "bundle install"}}},
	{"requirements.txt", ".venv", nil, true, []lockedBy{{"requirements.txt",
		"python3 -m venv .venv && .venv/bin/pip install -r requirements.txt"}}},
}

// lockedBy is an install command and the file that selects it.
type lockedBy struct{ file, command string }

// needsNode reports whether a package.json has dependencies.
func needsNode(text string) bool {
	var p struct {
		Dependencies    map[string]any `json:"dependencies"`
		DevDependencies map[string]any `json:"devDependencies"`
	}
	return json.Unmarshal([]byte(text), &p) == nil && len(p.Dependencies)+len(p.DevDependencies) > 0
}

// notInstalled returns a sentence about missing dependencies and the command that installs them. Both are empty if
// nothing is missing.
func (pr *Prover) notInstalled(ctx context.Context, dir string, tree object.ID) (lack, command string, err error) {
	there := func(root, name string) bool {
		_, err := os.Stat(filepath.Join(root, filepath.FromSlash(name)))
		return err == nil
	}
	for _, in := range installs {
		text, ok, err := pr.Planner.TextAt(ctx, tree, in.manifest)
		if err != nil {
			return "", "", err
		}
		if !ok || in.needs != nil && !in.needs(text) || there(dir, in.folder) ||
			in.onlyLikeHere && !there(pr.Repo.Where().Dir, in.folder) {
			continue
		}
		for _, by := range in.by {
			if there(dir, by.file) {
				return fmt.Sprintf("what %s names is not installed there (there is no %s; “%s” installs it)",
					in.manifest,
					in.folder, by.command), by.command, nil
			}
		}
	}
	return "", "", nil
}

// unknownCommand says that the shell does not know the command of a step; empty where that is not why it failed. Shells
// end with 127 then (POSIX, 2.8.2), and with 126 where the file cannot be run.
func unknownCommand(r check.Report) string {
	for _, st := range r.Steps {
		if !st.Ran || st.Passed {
			continue
		}
		switch r.Exit {
		case 127:
			return fmt.Sprintf("The shell does not know a command in “%s”: nothing was checked.",
				words.OneLine(st.Line))
		case 126:
			return fmt.Sprintf("The shell cannot run a command in “%s”: nothing was checked.", words.OneLine(st.Line))
		}
	}
	return ""
}
