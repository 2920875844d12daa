package hg

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// place is where a repository is, and what runs its commands.
type place struct {
	dir    string // top of the working folder
	own    string // its .hg folder
	from   string // the .hg folder that has its changesets: another one in a share
	hg     *server
	mirror *mirror
	refs   *beside.Names
	busy   *os.File // inherited by hg; nil if it cannot be written
}

// HoldFile returns the file that hg inherits, to be locked by who changes the repository; nil if it cannot be written.
func (r *place) HoldFile() *os.File { return r.busy }

// Where returns where the repository is.
func (r *place) Where() vcs.Where { return vcs.Where{Dir: r.dir, Own: r.own} }

// sharedFrom returns the .hg folder with the changesets of one: another one, or itself.
func sharedFrom(own string) string {
	text, err := os.ReadFile(filepath.Join(own, "sharedpath"))
	if err != nil {
		return own
	}
	at := filepath.FromSlash(strings.TrimSpace(string(text)))
	if !filepath.IsAbs(at) {
		at = filepath.Join(own, at)
	}
	return at
}

// store returns the path of a file of the storage.
func (r *place) store(name string) string { return filepath.Join(r.from, "store", name) }

// Inside returns the path of a file in the .hg folder.
func (r *place) Inside(_ context.Context, name string) (string, error) {
	return filepath.Join(r.own, filepath.FromSlash(name)), nil
}

// run runs an hg command.
func (r *place) run(ctx context.Context, doing string, args ...string) (string, error) {
	return r.hg.run(ctx, doing, args...)
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
