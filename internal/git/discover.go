package git

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
)

// Early is a repository whose kind and settings git has not confirmed yet.
type Early struct{ repo *Repo }

// Is reports whether it is the repository that was opened.
func (e *Early) Is(r *Repo) bool { return e.repo == r }

// Resolve is Repo.Resolve for a plain name. It returns the zero id for others. The empty name stands for the probable
// upstream of HEAD.
func (e *Early) Resolve(rev string) object.ID {
	if rev == "" {
		branch, _ := e.repo.head()
		rev = "refs/remotes/origin/" + branch
	}
	id, err := e.repo.resolvePlain(rev)
	if err != nil {
		return object.ID{}
	}
	return id
}

// Objects returns a reader that does not use git until git has confirmed the repository.
func (e *Early) Objects() *Repo { return e.repo }

// discover finds a repository of the usual form: a directory with a .git directory. It asks git for the settings, and
// calls early meanwhile. ok is false in all other cases; then git has to be asked what it is.
func discover(ctx context.Context, dir string, early func(*Early)) (r *Repo, ok bool) {
	for _, name := range []string{"GIT_CEILING_DIRECTORIES", "GIT_DISCOVERY_ACROSS_FILESYSTEM"} {
		if os.Getenv(name) != "" {
			return nil, false
		}
	}
	top, ok := topOf(dir)
	if !ok {
		return nil, false
	}
	r = newRepo(&Place{Dir: top, GitDir: filepath.Join(top, ".git"), Common: filepath.Join(top, ".git")})
	r.Format = r.likelyFormat()
	r.reading()
	if r.store != nil {
		early(&Early{r})
	}
	stamps, begun := r.stamps(), time.Now()
	text, err := listSettings(ctx, top)
	if err != nil {
		return nil, false
	}
	r.settings.take(r.Configuration, top, text, stamps, begun)
	format := object.SHA1
	own := false // git read the repository's own settings, so it trusts it and knows its format
	for _, s := range r.settings.list {
		switch own = own || s.scope == "local"; {
		case s.key == "core.worktree", s.key == "core.repositoryformatversion" && s.value != "0" && s.value != "1",
			s.key == "core.bare" && s.value != "false":
			return nil, false
		case s.key == "extensions.objectformat":
			if format, err = object.ParseFormat(s.value); err != nil {
				return nil, false
			}
		case s.key == "extensions.partialclone", s.key == "extensions.noop", s.key == "extensions.preciousobjects":
		case strings.HasPrefix(s.key, "extensions."):
			return nil, false
		}
	}
	if !own {
		return nil, false
	}
	if format != r.Format { // discard the first repository and its caches
		r = newRepo(&Place{Dir: r.Dir, GitDir: r.GitDir, Common: r.Common, Format: format})
		r.settings.take(r.Configuration, top, text, stamps, begun)
		r.reading()
	}
	_, err = os.Stat(filepath.Join(r.GitDir, "shallow"))
	r.Shallow = err == nil
	return r, true
}

// likelyFormat guesses the format from the branch's id, or returns the usual one.
func (r *Refs) likelyFormat() object.Format {
	if branch, ok := r.head(); ok {
		if id, err := r.readRef("refs/heads/" + branch); err == nil && len(id.Raw()) == object.SHA256.Size() {
			return object.SHA256
		}
	}
	return object.SHA1
}

// topOf returns the nearest directory upwards that has a .git directory.
func topOf(dir string) (top string, ok bool) {
	at, err := filepath.Abs(dir)
	if err == nil {
		at, err = filepath.EvalSymlinks(at)
	}
	if err != nil {
		return "", false
	}
	device, ok := deviceOf(at)
	for ; ok; at = filepath.Dir(at) {
		if on, same := deviceOf(at); !same || on != device {
			return "", false // git looks no further up
		}
		if info, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			_, err := os.Stat(filepath.Join(at, ".git", "HEAD"))
			_, linked := os.Lstat(filepath.Join(at, ".git", "commondir"))
			return at, info.IsDir() && err == nil && linked != nil
		}
		_, head := os.Lstat(filepath.Join(at, "HEAD"))
		_, objects := os.Lstat(filepath.Join(at, "objects"))
		if head == nil && objects == nil || at == filepath.Dir(at) {
			return "", false // inside a git directory, or in no repository
		}
	}
	return "", false
}

func deviceOf(dir string) (string, bool) {
	info, err := os.Stat(dir)
	if err != nil {
		return "", false
	}
	sys, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", false
	}
	return strconv.FormatUint(uint64(sys.Dev), 10), true
}
