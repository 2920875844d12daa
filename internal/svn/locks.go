package svn

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/vcs"
)

// locks reads and takes locks.
type locks struct{ *looks }

// lockEntry is a lock as “svn status -u” describes it.
type lockEntry struct {
	Token   string    `xml:"token"`
	Owner   string    `xml:"owner"`
	Comment string    `xml:"comment"`
	Created time.Time `xml:"created"`
}

// lockedList is what “svn status -u” prints of locks: of the working copy, and of the repository.
type lockedList struct {
	Entries []lockedEntry `xml:"target>entry"`
	Lists   []struct {
		Entries []lockedEntry `xml:"entry"`
	} `xml:"changelist"`
}

type lockedEntry struct {
	Path  string     `xml:"path,attr"`
	Here  *lockEntry `xml:"wc-status>lock"`
	There *lockEntry `xml:"repos-status>lock"`
}

func (r *place) locksFile() string { return filepath.Join(r.own, "dorvik", "locks.json") }

// askLocks asks the repository for locks, and notes them.
func (r *locks) askLocks(ctx context.Context) ([]vcs.Lock, error) {
	var l lockedList
	err := r.svn.asked(ctx, func() error {
		return r.svn.xml(ctx, in(r.dir, "asking for locks", "status", "-u", "--ignore-externals", "."), &l)
	})
	if err != nil {
		return nil, err
	}
	for _, list := range l.Lists {
		l.Entries = append(l.Entries, list.Entries...)
	}
	var out []vcs.Lock
	for _, e := range l.Entries {
		is := vcs.Lock{Path: filepath.ToSlash(e.Path)}
		switch {
		case e.Here == nil && e.There == nil:
			continue
		case e.There == nil:
			is.Broken = true
		default:
			is.Owner, is.Why, is.Since = e.There.Owner, strings.TrimSpace(e.There.Comment), e.There.Created
			is.Mine = e.Here != nil && e.Here.Token == e.There.Token
			is.Broken = e.Here != nil && !is.Mine
		}
		out = append(out, is)
	}
	slices.SortFunc(out, func(a, b vcs.Lock) int { return strings.Compare(a.Path, b.Path) })
	data, err := json.Marshal(out)
	if err == nil {
		err = beside.WriteFile(r.locksFile(), data)
	}
	if err != nil {
		return nil, fmt.Errorf("noting the locks: %w", err)
	}
	return out, nil
}

// Locks returns the locks as they were when the repository was asked last.
func (r *locks) Locks(context.Context) (out []vcs.Lock, err error) {
	data, err := os.ReadFile(r.locksFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &out)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the locks: %w; remove %s, and they are asked for again", err, r.locksFile())
	}
	return out, nil
}

// Lock takes locks of files, for a reason that others see.
func (r *locks) Lock(ctx context.Context, paths []string, why string, take bool) error {
	args := []string{"lock", "--message", why}
	if take {
		args = append(args, "--force")
	}
	return r.change(ctx, in(r.dir, "taking the lock", args...), paths)
}

// Unlock gives locks back.
func (r *locks) Unlock(ctx context.Context, paths []string) error {
	return r.change(ctx, in(r.dir, "giving the lock back", "unlock"), paths)
}

// change runs a command on locks. svn ends well though it warns that somebody has one, so its words are read.
func (r *locks) change(ctx context.Context, c call, paths []string) error {
	var said []string
	c.warns = func(lines []string) { said = lines }
	err := r.svn.asked(ctx, func() error { return r.svn.at(ctx, c, paths) })
	if err == nil && len(said) > 0 {
		if refusal := refusalOf(said); refusal.Kind != vcs.Other {
			err = refusal
		}
	}
	_, asked := r.askLocks(ctx)
	return errors.Join(err, asked)
}

// Free returns a refusal if somebody else holds a lock of a path.
func (r *locks) Free(ctx context.Context, paths []string) error {
	all, err := r.askLocks(ctx)
	if err != nil {
		return err
	}
	var nodes []string
	for _, path := range paths {
		nodes = append(nodes, nodeOf(path))
	}
	return vcs.LockedBy(all, nodes)
}

// Ask asks the repository for the locks.
func (r *locks) Ask(ctx context.Context) error {
	_, err := r.askLocks(ctx)
	return err
}

// Used reports whether there are locks, or files that are to be locked.
func (r *locks) Used(ctx context.Context) bool {
	if list, err := r.Locks(ctx); err != nil || len(list) > 0 {
		return true
	}
	s, err := r.recent(ctx)
	if err != nil {
		return false
	}
	for _, props := range s.props {
		if _, needs := props[needsLock]; needs {
			return true
		}
	}
	return false
}

// needsLock is the property of files that are to be locked before they are changed.
const needsLock = "svn:needs-lock"

// Lockable returns those of some paths that have the property svn:needs-lock.
func (r *locks) Lockable(ctx context.Context, paths []string) (out []string, err error) {
	s, err := r.recent(ctx)
	if err != nil {
		return nil, err
	}
	for _, path := range paths {
		if _, needs := s.props[path][needsLock]; needs {
			out = append(out, path)
		}
	}
	return out, nil
}
