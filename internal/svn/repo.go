// Package svn reads working copies of Subversion, and checks in. It runs svn, and only commands that print, transfer or
// note; never those that merge or resolve, and “update” only where no file was changed. What was checked out and the
// revisions since are translated to objects of core (course.go); what was changed and is not checked in becomes commits
// on top (work.go).
package svn

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Repo is a working copy. It implements vcs.System. It is safe for concurrent use. It consists of layers, a file each;
// each has those below: place,
// objects, settings, copies, courses, looks, lines, work, wire, checkouts.
type Repo struct {
	*checkouts
	// Held are the locks.
	Held vcs.Locking
}

var (
	_ vcs.System      = (*Repo)(nil)
	_ vcs.Parting     = (*Repo)(nil)
	_ vcs.Recording   = (*Repo)(nil)
	_ vcs.Discovering = (*Repo)(nil)
	_ vcs.Ungrouping  = (*Repo)(nil)
)

// TopOf returns the nearest folder upwards that is the top of a working copy.
func TopOf(dir string) (top string, ok bool) { return beside.TopOf(dir, ".svn") }

// Open opens the working copy with the given top.
func Open(ctx context.Context, top string) (*Repo, error) {
	own := filepath.Join(top, ".svn")
	if _, err := os.Stat(filepath.Join(own, "wc.db")); err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return nil, errors.New("this working copy is of a Subversion before 1.7: “svn upgrade” brings it up to " +
				"date. Nothing was changed")
		}
		return nil, fmt.Errorf("opening the working copy: %w", err)
	}
	r := &place{dir: top, own: own, settingsAt: own, svn: &program{}, bare: &bare{commits: map[object.ID][]byte{}}}
	var err error
	if r.mirror, err = openMirror(own); err != nil {
		return nil, err
	}
	if r.names, err = beside.OpenNames(filepath.Join(own, "dorvik", "refs.json")); err != nil {
		return nil, err
	}
	// Without it the working copy can be read, and is not changed.
	if r.busy, err = os.OpenFile(filepath.Join(own, "dorvik", "busy"), os.O_RDWR|os.O_CREATE, 0o600); err == nil {
		r.svn.inherits = r.busy
	}
	r.sweep()
	r.made = object.NewOverlay(object.SHA1, stored{r})
	read := newSettings(&objects{r})
	if r.svn.user, err = read.Config(ctx, userName); err != nil {
		return nil, err
	}
	at := &looks{courses: &courses{&copies{read}}}
	held := &locks{at}
	return &Repo{&checkouts{&wire{work: &work{&lines{at}}}}, held}, nil
}
