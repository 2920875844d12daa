package prove

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// CheckCommand returns the check of a tree: dorvik.check, or one derived from the project's files. ok is false if
// there is none.
func (pr *Prover) CheckCommand(ctx context.Context, tree object.ID) (c check.Command, ok bool, err error) {
	set, err := pr.Repo.Values(ctx, "dorvik.check", false)
	if err != nil {
		return c, false, err
	}
	c.Own = true
	for _, one := range set {
		if one.Value != "" {
			c.Steps, c.Own = append(c.Steps, one.Value), c.Own && one.Own
		}
	}
	if len(c.Steps) > 0 {
		c.Source, c.Configured = pr.Repo.Dialect().Source("check"), true
		return c, true, nil
	}
	c, ok = check.Find(func(name string) (string, bool) {
		if strings.HasSuffix(name, "/") {
			return pr.Planner.NamesIn(ctx, tree, strings.TrimSuffix(name, "/"))
		}
		e, ferr := pr.Planner.Store.Find(ctx, tree, name)
		if ferr != nil || !e.Mode.IsRegular() {
			return "", false
		}
		data, ferr := pr.Planner.Store.Blob(ctx, e.ID)
		return string(data), ferr == nil
	})
	return c, ok, nil
}

// RunCheck runs a command on a commit in its own checkout and stores the result. If p is given, it first runs the
// tests that are most likely to fail.
func (pr *Prover) RunCheck(ctx context.Context, p *plan.Position, c check.Command, tip object.ID,
	emit func(line string),
	told begun) (r check.Report, at *LaidOut, err error) {
	tree, err := pr.Planner.Tree(ctx, tip)
	if err != nil {
		return r, nil, err
	}
	if at, err = pr.checkout(ctx, "check", tip, emit); err != nil {
		return r, nil, err
	}
	steps, err := pr.stepsFor(ctx, p, at.In.Dir, c, tree)
	if err != nil {
		return r, at, err
	}
	now := lastRun{tree: tree}
	r, err = pr.runSteps(ctx, p, at, c, steps, tree, func(l string) {
		if now.output = append(now.output, l); len(now.output) > 2*mostOutput {
			now.output = slices.Clone(now.output[mostOutput:])
		}
		emit(l)
	}, func(steps []check.Step, which int) {
		now.output = nil
		if told != nil {
			told(steps, which)
		}
	})
	if err != nil {
		return r, at, err
	}
	now.steps = r.Steps
	pr.last = now
	// The time of a part does not predict the time of the whole.
	part := slices.ContainsFunc(r.Steps, func(one check.Step) bool {
		return one.First != "" ||
			one.Known == check.PassedBefore
	})
	return r, at, pr.Ledger.KeepCheck(ledger.Checked{Tree: tree, Command: c.Line(), Passed: r.Passed, Took: r.Took},
		r.Passed || !part)
}

// environment returns the environment of checks: what builds need, and the variables in dorvik.checkEnv.
func (pr *Prover) environment(ctx context.Context) ([]string, error) {
	env, _, err := pr.environments(ctx)
	return env, err
}

// environments also returns the names of variables that it removed.
func (pr *Prover) environments(ctx context.Context) (env, left []string, err error) {
	keep, err := pr.Repo.Values(ctx, "dorvik.checkEnv", false)
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for _, k := range keep {
		if k.Own { // only the person's own settings can request variables
			names = append(names, strings.Fields(k.Value)...)
		}
	}
	given, set, err := pr.Repo.BuildEnvironment(ctx)
	env, left = check.Environment(given, names)
	return append(env, set...), left, err
}

// checkout prepares a checkout of a commit. It reports what differs from a normal working tree.
func (pr *Prover) checkout(ctx context.Context, name string, tip object.ID, emit func(string)) (*LaidOut, error) {
	tree, err := pr.Planner.Tree(ctx, tip)
	if err != nil {
		return nil, err
	}
	if err := pr.Repo.Keep(ctx, pr.Planner.Store, tip); err != nil {
		return nil, err
	}
	if err := pr.Repo.HoldAt(ctx, name, tip); err != nil {
		return nil, err
	}
	co, err := pr.Repo.OpenCheckout(ctx, name, tip)
	if err != nil {
		return nil, err
	}
	return pr.furnish(ctx, co, tree, emit)
}

// LaidOut is a checkout with a list of what it lacks. A check can fail because of that.
type LaidOut struct {
	In    *vcs.Checkout
	Lacks []string
	// Unchecked says why a failed run checked nothing, as a sentence; or it is empty.
	Unchecked string
	install   string // command that installs missing dependencies; or empty
}

// blames reports whether a failure in the checkout is about the code.
func (at *LaidOut) blames() bool { return at.Unchecked == "" && len(at.Lacks) == 0 }

// orUnknown returns an error if a run failed for what its checkout lacks.
func (at *LaidOut) orUnknown(r check.Report, of string) error {
	if r.Passed || at.blames() {
		return nil
	}
	return fmt.Errorf("the check of %s failed, which says nothing about the code: %s", of,
		cmp.Or(strings.TrimSuffix(at.Unchecked, "."), words.List(at.Lacks)))
}

// furnish checks out submodules and lists what is missing.
func (pr *Prover) furnish(ctx context.Context, co *vcs.Checkout, tree object.ID, emit func(line string)) (*LaidOut,
	error) {
	out := &LaidOut{In: co}
	empty, err := pr.Repo.FillSubmodules(ctx, co)
	if err != nil {
		return nil, err
	}
	for _, p := range empty {
		out.Lacks = append(out.Lacks, fmt.Sprintf("the submodule %s, or its commit, is not in your working tree: the "+
			"check runs without it (“git submodule update --init %[1]s” brings it)", p))
	}
	unfiltered, err := pr.unfiltered(ctx, co, tree)
	if err != nil {
		return nil, err
	}
	out.Lacks = append(out.Lacks, unfiltered...)
	lack, command, err := pr.notInstalled(ctx, co.Dir, tree)
	if err != nil {
		return nil, err
	}
	if out.install = command; lack != "" {
		out.Lacks = append(out.Lacks, lack)
	}
	for _, l := range out.Lacks {
		emit("dorvik: " + l)
	}
	sparse, err := pr.Repo.Flag(ctx, "core.sparseCheckout")
	if err == nil && sparse {
		emit("dorvik: your working tree is sparse; the check has all files")
	}
	return out, err
}

// pointer is the beginning of a text that stands for a large file stored elsewhere.
var pointer = []byte("version https://")

// mostPointer is the largest size of such a text, in bytes.
const mostPointer = 1024

// unfiltered lists files whose filter did not run, so that the checkout has them as they are stored.
func (pr *Prover) unfiltered(ctx context.Context, co *vcs.Checkout, tree object.ID) (out []string, err error) {
	rules, files := map[string]*attr.Rules{}, []string(nil)
	filters := false
	if err := pr.Planner.Store.EachChange(ctx, object.ID{}, tree, func(c object.Change) {
		if !c.New.Mode.IsRegular() {
			return
		}
		files = append(files, c.Path)
		if path.Base(c.Path) != ".gitattributes" {
			return
		}
		if text, err := pr.Planner.Store.Blob(ctx, c.New.ID); err == nil && bytes.Contains(text, []byte("filter=")) {
			filters = true
		}
	}); err != nil || !filters {
		return nil, err
	}
	for _, f := range files {
		if path.Base(f) == ".gitattributes" {
			text, _, err := pr.Planner.TextAt(ctx, tree, f)
			if err != nil {
				return nil, err
			}
			rules[path.Dir(f)] = attr.Parse(text)
		}
	}
	set, err := pr.Repo.Values(ctx, `^filter\..*\.(smudge|process)$`, true)
	if err != nil {
		return nil, err
	}
	ready := map[string]bool{}
	for _, one := range set {
		ready[strings.TrimSuffix(strings.TrimPrefix(one.Name, "filter."), path.Ext(one.Name))] = true
	}
	below, above := pr.Drivers.Attributes(ctx)
	missing, pointers := map[string][]string{}, []string(nil)
	for _, f := range files {
		name := attr.Of(scopes(rules, f, below, above), f)["filter"].Text
		switch {
		case name == "":
		case !ready[name]:
			missing[name] = append(missing[name], f)
		case isPointer(filepath.Join(co.Dir, filepath.FromSlash(f))):
			pointers = append(pointers, f)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(missing)) {
		n := len(missing[name])
		out = append(out, fmt.Sprintf("%s kept by the filter “%s”, which is not set up here: the check has what is "+
			"stored in %s place (%s)", words.Count(n, "file is", "files are"), name, words.Is(n, "its", "their"),
			words.List(words.Some(missing[name], 2))))
	}
	if n := len(pointers); n > 0 {
		out = append(out, fmt.Sprintf("%s kept: the check has the %s (%s)",
			words.Count(n, "large file is not here but as a pointer to where it is",
				"large files are not here but as pointers to where they are"),
			words.Is(n, "pointer", "pointers"), words.List(words.Some(pointers, 2))))
	}
	return out, nil
}

// scopes returns the attribute rules of a file, weakest first.
func scopes(rules map[string]*attr.Rules, file string, below, above *attr.Rules) (out []attr.Scope) {
	add := func(dir string, r *attr.Rules) {
		if r != nil {
			out = append(out, attr.Scope{Dir: dir, File: r})
		}
	}
	add("", above)
	for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
		add(dir, rules[dir])
	}
	add("", rules["."])
	add("", below)
	slices.Reverse(out)
	return out
}

// isPointer reports whether a file is a pointer to a large one.
func isPointer(file string) bool {
	info, err := os.Lstat(file)
	if err != nil || !info.Mode().IsRegular() || info.Size() > mostPointer {
		return false
	}
	text, err := os.ReadFile(file)
	return err == nil && bytes.HasPrefix(text, pointer) && bytes.Contains(text, []byte("\noid "))
}
