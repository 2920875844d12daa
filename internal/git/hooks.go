package git

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Hook returns an executable hook of the hooks directory, or nil.
func (r *HookRunner) Hook(dir, name string) *vcs.Hook {
	path := filepath.Join(dir, name)
	info, err := os.Stat(path)
	if err != nil || info.IsDir() || info.Mode()&0o111 == 0 {
		return nil
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil
	}
	return &vcs.Hook{Name: name, Path: path, InTree: r.inTree(real)}
}

// inTree reports whether a path, with links resolved, is in the working tree.
func (r *HookRunner) inTree(real string) bool {
	inside := func(dir string) bool {
		dir, err := filepath.EvalSymlinks(dir)
		rel, rerr := filepath.Rel(dir, real)
		return err == nil && rerr == nil && rel != ".." && !strings.HasPrefix(rel, "../")
	}
	return inside(r.Dir) && !inside(filepath.Join(r.Dir, ".git")) && !inside(r.GitDir) && !inside(r.Common)
}

// HooksDir returns the hooks directory of the settings. A relative one is below the working tree.
func (r *HookRunner) HooksDir(ctx context.Context) string {
	dir, err := r.config.ConfigPath(ctx, "core.hooksPath")
	if err != nil || dir == "" {
		dir = filepath.Join(r.Common, "hooks")
	}
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(r.Dir, dir)
	}
	return dir
}

// HooksInTree reports whether the hooks that git would run are, or would be, in the working tree, where a commit can
// change them.
func (r *HookRunner) HooksInTree(ctx context.Context) bool {
	dir := r.HooksDir(ctx)
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		real = filepath.Clean(dir) // a commit can change the folder
	}
	if r.inTree(real) {
		return true
	}
	entries, _ := os.ReadDir(dir) // a missing folder means no hooks
	return slices.ContainsFunc(entries, func(e os.DirEntry) bool {
		real, err := filepath.EvalSymlinks(filepath.Join(dir, e.Name()))
		return e.Type()&os.ModeSymlink != 0 && err == nil && r.inTree(real)
	})
}

// agreedHooks returns the directory that git gets for hooks in place of one in the working tree. It is empty until
// LetHooksRun is called, whatever an earlier run or others left there.
func (r *HookRunner) agreedHooks() string {
	if dir := r.agreed.Load(); dir != nil {
		return *dir
	}
	return os.DevNull
}

// guard returns the settings that keep git from running hooks of the working tree, except agreed ones.
func (r *HookRunner) guard(ctx context.Context) []string {
	if !r.HooksInTree(ctx) {
		return nil
	}
	return []string{"-c", "core.hooksPath=" + r.agreedHooks()}
}

// LetHooksRun lets git run exactly these hooks in place of those in the working tree. Each runs only while it and its
// files keep their present contents, checked by name and path.
func (r *HookRunner) LetHooksRun(hooks []*vcs.Hook, now map[string]map[string]string) error {
	dir := filepath.Join(r.GitDir, "dorvik", "hooks")
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("setting hooks aside: %w", err)
	}
	for _, h := range hooks {
		var script strings.Builder
		script.WriteString("#!/bin/sh\n# made by dorvik: runs a hook that was agreed to, while it is as it was then\n")
		err := os.MkdirAll(filepath.Join(dir, h.Name+".is"), 0o700)
		for i, path := range slices.Sorted(maps.Keys(now[h.Name])) {
			kept := filepath.Join(dir, h.Name+".is", fmt.Sprint(i))
			err = errors.Join(err, os.WriteFile(kept, []byte(now[h.Name][path]), 0o600))
			fmt.Fprintf(&script, "cmp -s %s %s || exit 0\n", quoted(kept), quoted(path))
		}
		fmt.Fprintf(&script, "exec %s \"$@\"\n", quoted(h.Path))
		err = errors.Join(err, os.WriteFile(filepath.Join(dir, h.Name), []byte(script.String()), 0o700))
		if err != nil {
			return fmt.Errorf("setting hooks aside: %w", err)
		}
	}
	r.agreed.Store(&dir)
	return nil
}

// quoted quotes a word for the shell.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Hooks lists the executable hooks.
func (r *HookRunner) Hooks(ctx context.Context) (out []*vcs.Hook, err error) {
	dir := r.HooksDir(ctx)
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if h := r.Hook(dir, e.Name()); h != nil && !strings.Contains(e.Name(), ".") {
			out = append(out, h)
		}
	}
	return out, err
}

// RunHook runs a hook as git does, in the working tree or in a checkout, and returns its output. A nonzero exit is a
// *HookError. It does not use “git hook run”, which old versions lack and which passes no standard input in others.
func (r *HookRunner) RunHook(ctx context.Context, h *vcs.Hook, dir, stdin string, args ...string) (said []string,
	err error) {
	if dir == "" {
		dir = r.Dir
	}
	// Like git, let a shell run files without an interpreter line.
	cmd := exec.CommandContext(ctx, "sh", append([]string{"-c", `exec "$0" "$@"`, h.Path}, args...)...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(stdin)
	cmd.Env = append(cleanEnvironment(), "GIT_EDITOR=:", "GIT_PREFIX=")
	apart(cmd)
	out, err := cmd.CombinedOutput()
	if err == nil {
		return lines(string(out)), nil
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf("running the hook %s: %w", h.Name, ctx.Err())
	}
	refused := &vcs.HookError{Name: h.Name, Said: lines(string(out)), Code: -1}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		refused.Code = exit.ExitCode()
	} else {
		refused.Said = []string{err.Error()}
	}
	return refused.Said, refused
}

// ToMerge brings the checkout to the state before a merge commit: HEAD at yours, index and files joined and, unless
// zero, theirs in MERGE_HEAD. The returned function reverts that.
func (r *HookRunner) ToMerge(ctx context.Context, c *vcs.Checkout, yours, theirs object.ID) (done func(), err error) {
	const doing = "preparing the checkout for the hook"
	if _, err := runOut(ctx, c.Dir, doing, "update-ref", "--no-deref", "HEAD", yours.String()); err != nil {
		return nil, err
	}
	if theirs.IsZero() {
		return func() {}, nil
	}
	out, err := runOut(ctx, c.Dir, doing, "rev-parse", "--path-format=absolute", "--git-path", "MERGE_HEAD")
	if err != nil {
		return nil, err
	}
	path := strings.TrimSuffix(out, "\n")
	if err := os.WriteFile(path, []byte(theirs.String()+"\n"), 0o644); err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	return func() { os.Remove(path) }, nil
}

// HookRunner runs the repository's hooks.
type HookRunner struct {
	*Place
	config *Configuration
	agreed atomic.Pointer[string] // folder with the hooks that have consent; nil for none
}
