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

// Early is a repository of which git has not said yet that it is one, and what its settings are.
type Early struct{ repo *Repo }

// Is reports whether it is the one that was opened.
func (e *Early) Is(r *Repo) bool { return e.repo == r }

// Resolve is Repo.Resolve for a plain name; the zero id where it is none. The empty name stands for what the branch
// that HEAD is on most often follows.
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

// Objects returns what is read, without git as long as it has not said what the repository is.
func (e *Early) Objects() *Repo { return e.repo }

// discover finds a repository as it most often is: a folder with a .git folder in it, of which git says what its
// settings are. ok is false where there is anything else about it; then git has to say what it is. early is called
// while git does.
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
	own := false // git took the repository's own settings in: it trusts it, and knows its format
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
	if format != r.Format { // the first is dropped, and what was read in it
		r = newRepo(&Place{Dir: r.Dir, GitDir: r.GitDir, Common: r.Common, Format: format})
		r.settings.take(r.Configuration, top, text, stamps, begun)
		r.reading()
	}
	_, err = os.Stat(filepath.Join(r.GitDir, "shallow"))
	r.Shallow = err == nil
	return r, true
}

// likelyFormat is that of the id that the branch stands at, or else what most have.
func (r *Refs) likelyFormat() object.Format {
	if branch, ok := r.head(); ok {
		if id, err := r.readRef("refs/heads/" + branch); err == nil && len(id.Raw()) == object.SHA256.Size() {
			return object.SHA256
		}
	}
	return object.SHA1
}

// topOf goes up from a folder to the first that has a .git folder.
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
			return "", false // git does not look beyond
		}
		if info, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			_, err := os.Stat(filepath.Join(at, ".git", "HEAD"))
			_, linked := os.Lstat(filepath.Join(at, ".git", "commondir"))
			return at, info.IsDir() && err == nil && linked != nil
		}
		_, head := os.Lstat(filepath.Join(at, "HEAD"))
		_, objects := os.Lstat(filepath.Join(at, "objects"))
		if head == nil && objects == nil || at == filepath.Dir(at) {
			return "", false // inside a git directory, or nowhere
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
