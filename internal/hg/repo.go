// Package hg reads and changes Mercurial repositories. It runs hg, and only commands that print, transfer or store
// changesets; never those that merge, replay or shelve. The history is translated to objects of core (mirror.go).
package hg

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Repo is a repository with its working folder. It implements vcs.System. It is safe for concurrent use; its commands
// run one after the other. It consists of layers, a file each; each has those below: place, objects, settings, lines,
// wire, work, changes, checkouts.
type Repo struct{ *checkouts }

// place is where a repository is, and what runs its commands.
type place struct {
	dir    string // top of the working folder
	own    string // its .hg folder
	hg     *server
	mirror *mirror
	refs   *refs
}

// objects reads and keeps objects.
type objects struct{ *place }

var _ vcs.System = (*Repo)(nil)

// TopOf returns the nearest folder upwards that is the top of a working folder.
func TopOf(dir string) (top string, ok bool) {
	at, err := filepath.Abs(dir)
	if err == nil {
		at, err = filepath.EvalSymlinks(at)
	}
	if err != nil {
		return "", false
	}
	for ; ; at = filepath.Dir(at) {
		if info, err := os.Stat(filepath.Join(at, ".hg")); err == nil && info.IsDir() {
			return at, true
		}
		if at == filepath.Dir(at) {
			return "", false
		}
	}
}

// notRead are forms of storage that Dorvik does not read, by their names in the repository's requirements, and what
// they are.
var notRead = map[string]string{
	"treemanifest":                 "manifests as trees",
	"narrowhg-experimental":        "a clone of a part of the files",
	"exp-remotefilelog-repo-req-1": "files that are fetched when they are needed",
	"exp-remotefilelog-repo-req":   "files that are fetched when they are needed",
	"lfs":                          "files that are kept elsewhere (lfs)",
	"exp-archived-phase":           "archived changesets",
}

// Open opens the repository whose working folder has the given top. It reads what is new in the history; the first time
// that is all of it.
func Open(ctx context.Context, top string) (*Repo, error) {
	r := &place{dir: top, own: filepath.Join(top, ".hg"), hg: &server{dir: top}}
	for _, file := range []string{"requires", "store/requires"} {
		text, err := os.ReadFile(filepath.Join(r.own, file))
		if err != nil {
			continue // an old repository has none
		}
		for word := range strings.FieldsSeq(string(text)) {
			if what := notRead[word]; what != "" {
				return nil, fmt.Errorf("this repository has %s, which Dorvik cannot read. Nothing was changed", what)
			}
		}
	}
	var err error
	if r.mirror, err = openMirror(r.hg, filepath.Join(r.own, "dorvik", "mirror")); err != nil {
		return nil, err
	}
	if r.refs, err = openRefs(filepath.Join(r.own, "dorvik", "refs.json")); err != nil {
		return nil, err
	}
	if err := r.mirror.sync(ctx); err != nil {
		r.hg.close()
		return nil, err
	}
	read := &settings{objects: &objects{r}, config: &configuration{place: r}}
	return &Repo{&checkouts{&changes{&work{&wire{&lines{read}}}}}}, nil
}

// Where returns where the repository is.
func (r *place) Where() vcs.Where { return vcs.Where{Dir: r.dir, Own: r.own} }

// Inside returns the path of a file in the .hg folder.
func (r *place) Inside(_ context.Context, name string) (string, error) {
	return filepath.Join(r.own, filepath.FromSlash(name)), nil
}

// Close ends the command server.
func (r *objects) Close() { r.hg.close() }

// Recorded returns the paths that a file was recorded to be a copy of, in any changeset. It is for merge.Engine.
func (r *objects) Recorded(path string) []string { return r.mirror.recorded(path) }

// run runs an hg command.
func (r *place) run(ctx context.Context, doing string, args ...string) (string, error) {
	return r.hg.run(ctx, doing, args...)
}

// Read returns an object. If it is not there, another program may have added changesets since.
func (r *objects) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	if len(id.Raw()) != len(node{}) {
		return 0, nil, fmt.Errorf("object %s: %w", id, object.ErrMissing)
	}
	kind, data, err := r.mirror.store.Read(id)
	if !errors.Is(err, object.ErrMissing) {
		return kind, data, err
	}
	if err := r.mirror.sync(ctx); err != nil {
		return 0, nil, err
	}
	return r.mirror.store.Read(id)
}

// ReadMany reads several objects at once.
func (r *objects) ReadMany(_ context.Context, ids []object.ID, each func(id object.ID, kind object.Kind, data []byte)) {
	r.mirror.store.ReadMany(ids, each)
}

// Keep stores commits or trees from an overlay, beside Mercurial's own storage. They become changesets when a join is
// accepted.
func (r *objects) Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error {
	return r.mirror.keep(ctx, made, tips...)
}

// HoldAt notes a commit. Nothing that is kept is ever removed.
func (r *objects) HoldAt(_ context.Context, name string, at object.ID) error {
	return r.refs.set("refs/dorvik/"+name, at, "")
}

// Loose finds none: hg has no changesets that nothing reaches.
func (r *objects) Loose(context.Context, []object.ID) ([]object.ID, error) { return nil, nil }

// Alone reports whether so many digits of ids are unambiguous among the changesets.
func (r *objects) Alone(_ context.Context, ids []object.ID, digits int) (bool, error) {
	list, err := os.ReadFile(r.mirror.file("changesets"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, fmt.Errorf("reading the history: %w", err)
	}
	short := map[string]object.ID{}
	for _, id := range ids {
		if other, taken := short[id.Prefix(digits)]; taken && other != id {
			return false, nil
		}
		short[id.Prefix(digits)] = id
	}
	for ; len(list) >= 2*len(node{}); list = list[2*len(node{}):] {
		id := object.RawID(list[:len(node{})])
		if other, taken := short[id.Prefix(digits)]; taken && other != id {
			return false, nil
		}
	}
	return true, nil
}

// Abbrev asks for no more digits than usual: hg takes any number that is unambiguous.
func (r *objects) Abbrev(context.Context) int { return 0 }

// GraphFiles are git's.
func (r *objects) GraphFiles(context.Context) [][]byte { return nil }

// Signature finds none: signatures of Mercurial are changesets of their own, or belong to extensions.
func (r *objects) Signature(context.Context, object.ID) (vcs.Signed, error) {
	return vcs.Signed{Grade: "N"}, nil
}

// nodes reads a list of nodes, one a line.
func nodes(out string) (ids []object.ID, err error) {
	for line := range strings.Lines(out) {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		n, err := parseNode(line)
		if err != nil {
			return nil, err
		}
		ids = append(ids, n.id())
	}
	return ids, nil
}
