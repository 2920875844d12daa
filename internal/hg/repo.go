// Package hg reads and changes Mercurial repositories. It runs hg, and only commands that print, transfer or store
// changesets; never those that merge, replay or shelve. The history is translated to objects of core (mirror.go).
package hg

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/vcs"
)

// Repo is a repository with its working folder. It implements vcs.System. It is safe for concurrent use; its commands
// run one after the other. It consists of layers, a file each; each has those below: place, objects, settings, lines,
// wire, work, changes, checkouts.
type Repo struct{ *checkouts }

var _ vcs.System = (*Repo)(nil)

// TopOf returns the nearest folder upwards that is the top of a working folder.
func TopOf(dir string) (top string, ok bool) { return beside.TopOf(dir, ".hg") }

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
	r.from = sharedFrom(r.own)
	for _, file := range []string{filepath.Join(r.own, "requires"), filepath.Join(r.from, "requires"), r.store(
		"requires")} {
		text, err := os.ReadFile(file)
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
	// Without it the repository can be read, and is not changed.
	if r.busy, err = os.OpenFile(filepath.Join(r.own, "dorvik", "busy"), os.O_RDWR|os.O_CREATE, 0o600); err == nil {
		r.hg.inherits = r.busy
	}
	if r.refs, err = beside.OpenNames(filepath.Join(r.own, "dorvik", "refs.json")); err != nil {
		return nil, err
	}
	if err := r.mirror.sync(ctx); err != nil {
		(&objects{r}).Close()
		return nil, err
	}
	config := &configuration{place: r}
	read := &settings{&objects{r}, beside.NewKeys(config.all), config}
	return &Repo{&checkouts{&changes{&work{&wire{&lines{read}}}}}}, nil
}
