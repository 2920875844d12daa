package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// HookError says that a hook refused what was to be done.
type HookError struct {
	Name string
	Said []string // on both its outputs
	Code int
}

func (e *HookError) Error() string {
	said := ""
	if len(e.Said) > 0 {
		said = ": " + strings.Join(e.Said, "; ")
	}
	return fmt.Sprintf("the hook %s ended with %d%s", e.Name, e.Code, said)
}

// Hook is a program of the repository's that git runs at a step.
type Hook struct {
	Name   string
	Path   string
	InTree bool // it is among the files of the working tree, where a commit can change it
}

// Hook looks for a hook in the folder of hooks; nil where there is none that can be run.
func (r *Repo) Hook(dir, name string) *Hook {
	path := filepath.Join(dir, name)
	info, err := os.Stat(path)
	if err != nil || info.IsDir() || info.Mode()&0o111 == 0 {
		return nil
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil
	}
	inside := func(dir string) bool {
		dir, err := filepath.EvalSymlinks(dir)
		rel, rerr := filepath.Rel(dir, real)
		return err == nil && rerr == nil && rel != ".." && !strings.HasPrefix(rel, "../")
	}
	return &Hook{Name: name, Path: path, InTree: inside(r.Dir) && !inside(filepath.Join(r.Dir, ".git")) &&
		!inside(r.GitDir)}
}

// RunHook runs a hook as git does, in the working tree or in a checkout, and gives what it said. A
// hook that ends with anything but 0 is a *HookError. It is started here and not by “git hook
// run”, which old versions do not have and which hands on no standard input in others.
func (r *Repo) RunHook(ctx context.Context, h *Hook, dir, stdin string, args ...string) (said []string, err error) {
	if dir == "" {
		dir = r.Dir
	}
	// As git does, a shell runs what is no program and names none.
	cmd := exec.CommandContext(ctx, "sh", append([]string{"-c", `exec "$0" "$@"`, h.Path}, args...)...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(stdin)
	cmd.Env = append(CleanEnvironment(), "GIT_EDITOR=:", "GIT_PREFIX=")
	apart(cmd)
	out, err := cmd.CombinedOutput()
	if err == nil {
		return lines(string(out)), nil
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf("running the hook %s: %w", h.Name, ctx.Err())
	}
	refused := &HookError{h.Name, lines(string(out)), -1}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		refused.Code = exit.ExitCode()
	} else {
		refused.Said = []string{err.Error()}
	}
	return refused.Said, refused
}

// ToMerge brings the checkout to where a merge is about to be committed: its HEAD at yours, index
// and files joined, and theirs, unless zero, noted as what is being merged, as it is where a person
// commits the merge. The function it gives takes that back.
func (r *Repo) ToMerge(ctx context.Context, c *Checkout, yours, theirs object.ID) (done func(), err error) {
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
