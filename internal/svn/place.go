package svn

import (
	"context"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// place is where a working copy is, and what reads it.
type place struct {
	dir    string // its top
	own    string // its .svn folder
	svn    *program
	mirror *mirror
	names  *beside.Names
	busy   *os.File        // inherited by svn; nil if it cannot be written
	made   *object.Overlay // what was made of the files and of revisions
	bare   *bare
	// settingsAt is the .svn folder whose settings count: another one for a likeness.
	settingsAt string
	notes      *Notes // of change lists; nil for those that are stored
}

// HoldFile returns the file that svn inherits, to be locked by who changes the working copy; nil if it cannot be
// written.
func (r *place) HoldFile() *os.File { return r.busy }

// Where returns where the working copy is.
func (r *place) Where() vcs.Where { return vcs.Where{Dir: r.dir, Own: r.own} }

// Inside returns the path of a file in the .svn folder.
func (r *place) Inside(_ context.Context, name string) (string, error) {
	return filepath.Join(r.own, filepath.FromSlash(name)), nil
}

// escaped is a path as a part of a URL.
func escaped(path string) string {
	var out []string
	for part := range strings.SplitSeq(path, "/") {
		out = append(out, url.PathEscape(part))
	}
	return strings.Join(out, "/")
}
