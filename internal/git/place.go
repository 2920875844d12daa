package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Place is the location of a repository. It runs git there.
type Place struct {
	Dir     string // top of the working tree
	GitDir  string // git directory of this working tree
	Common  string // the git directory that all working trees of the repository share
	Format  object.Format
	Shallow bool

	// Hold is an open file that every command inherits that changes branch, index or files. Whoever can lock it knows
	// that no such command runs.
	Hold *os.File

	asks  []string                           // who asks for passwords: variables for commands that talk to remotes
	guard func(ctx context.Context) []string // arguments that keep git from running hooks that were not agreed to
}

// AskBy sets the variables with which commands that talk to remotes ask the person for passwords.
func (r *Place) AskBy(env []string) { r.asks = env }

// run runs git in the repository and returns its output.
func (r *Place) run(ctx context.Context, doing string, args ...string) (string, error) {
	out, _, err := r.runIn(ctx, call{doing: doing, args: args})
	return string(out), err
}

// runIn runs git in the repository with input. It runs no hooks of the working tree except agreed ones.
func (r *Place) runIn(ctx context.Context, c call) (stdout, stderr []byte, err error) {
	c.args = append(r.guard(ctx), c.args...)
	return runIn(ctx, r.Dir, c)
}

// Inside returns the path of a file of the git directory.
func (r *Place) Inside(ctx context.Context, name string) (string, error) {
	if r.Common == r.GitDir && name != "hooks" { // hooks may be configured to be elsewhere
		return filepath.Join(r.GitDir, filepath.FromSlash(name)), nil
	}
	out, err := r.run(ctx, "looking for "+name, "rev-parse", "--path-format=absolute", "--git-path", name)
	return strings.TrimSuffix(out, "\n"), err
}

// ask asks git which repository a directory belongs to.
func (r *Place) ask(ctx context.Context) error {
	// One command asks everything. In a bare repository the last question fails, and the others are answered.
	out, err := r.run(ctx, "looking for the repository", "rev-parse", "--is-bare-repository", "--is-inside-work-tree",
		"--is-shallow-repository", "--show-object-format", "--absolute-git-dir", "--path-format=absolute",
		"--git-common-dir", "--show-toplevel")
	f := strings.Split(strings.TrimSuffix(out, "\n"), "\n")
	if len(f) < 5 {
		switch {
		case err == nil:
			err = fmt.Errorf("looking for the repository: git answered %q", out)
		case code(err) == 128 && strings.Contains(err.Error(), "not a git repository"):
			err = ErrNotRepo
		case strings.Contains(err.Error(), "unknown repository extension"):
			err = fmt.Errorf("%w: the git on your PATH is too old for this repository; install a newer one", err)
		}
		return err
	}
	switch {
	case f[1] != "true" && f[0] != "true":
		return &InsideError{f[4]}
	case f[1] != "true":
		return ErrBare
	case err != nil:
		return err
	}
	r.Shallow = f[2] == "true"
	if r.Format, err = object.ParseFormat(f[3]); err != nil {
		return err
	}
	if len(f) == 7 {
		r.GitDir, r.Common, r.Dir = f[4], f[5], f[6]
	} else if err := r.places(ctx); err != nil { // a path contains a line feed
		return err
	}
	return nil
}

// places asks git for each path separately.
func (r *Place) places(ctx context.Context) error {
	var at [3]string
	for i, of := range []string{"--absolute-git-dir", "--git-common-dir", "--show-toplevel"} {
		out, err := r.run(ctx, "looking for the repository", "rev-parse", "--path-format=absolute", of)
		if err != nil {
			return err
		}
		at[i] = strings.TrimSuffix(out, "\n")
	}
	r.GitDir, r.Common, r.Dir = at[0], at[1], at[2]
	return nil
}

// ErrNotRepo reports that a directory is in no repository.
var ErrNotRepo = errors.New("this folder is not in a git repository; go to your clone, or give it with -C")

// ErrBare reports that a repository has no working tree.
var ErrBare = errors.New("this is a bare repository: it has no branch to work on; go to a clone of it")

// InsideError reports that a directory is inside the git directory of a repository.
type InsideError struct{ Dir string }

func (e *InsideError) Error() string {
	return "this is inside the git directory " + e.Dir + ", where no file of yours is; go to the folder above it"
}

// lockedBy converts the error of a command that met a lock to a *LockedError. Other errors stay as they are.
func lockedBy(err error, said string) error {
	if m := inTheWay.FindStringSubmatch(said); err != nil && m != nil {
		return &vcs.LockedError{Path: m[1], Err: err}
	}
	return err
}

// Where returns where the repository is.
func (r *Place) Where() vcs.Where { return vcs.Where{Dir: r.Dir, Own: r.GitDir} }
