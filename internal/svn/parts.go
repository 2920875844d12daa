package svn

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/beside"
)

// errBehind reports that a part is checked in, and that the files here are still of the revision before.
var errBehind = errors.New(
	"it is checked in, and your files are still of the revision before: another program used the " +
		"working copy meanwhile. Look again: what you checked in is joined with your files, which have it already")

// checkInPart checks in a group of which some files have more changes than go. svn takes whole files, so it does that
// in a likeness, in which these files have the part alone. The files here are not touched. What svn knows afterwards is
// put into the place of what it knew: from then on the files here have the rest as their changes. commit checks in what
// is in a folder. The error is errBehind if the revision is made, and svn knows nothing of it here.
func (r *wire) checkInPart(ctx context.Context, s *seen, g group, commit func(dir string) error) error {
	dir, remove, err := r.scratch()
	defer remove()
	if err != nil {
		return err
	}
	was, err := HashAt(filepath.Join(dir, ".svn", "wc.db"))
	if err != nil {
		return err
	}
	if err := r.layOut(ctx, s, g, dir); err != nil {
		return fmt.Errorf("preparing the check-in: %w; nothing was checked in", err)
	}
	if err := commit(dir); err != nil {
		return err
	}
	db, err := LockDatabase(r.own)
	if err != nil {
		return errBehind
	}
	defer db.Close()
	if now, err := db.Hash(); err != nil || now != was {
		return errBehind
	}
	if err := os.Rename(filepath.Join(dir, ".svn", "wc.db"), filepath.Join(r.own, "wc.db")); err != nil {
		return fmt.Errorf("%w (%w)", errBehind, err)
	}
	return nil
}

// layOut writes the files of a group as they go. Those that have a part get a time that no file here has, so that svn
// compares the whole files with what was checked in.
func (r *wire) layOut(ctx context.Context, s *seen, g group, dir string) error {
	c, err := r.store().Commit(ctx, g.commit)
	if err != nil {
		return err
	}
	for path, n := range s.nodes {
		if n.dir {
			if err := os.MkdirAll(filepath.Join(dir, filepath.FromSlash(path)), 0o700); err != nil {
				return err
			}
		}
	}
	at := beneath.Folder(dir)
	past := time.Unix(int64(binary.BigEndian.Uint32(g.commit.Raw())%1e9), 0) // before 2001, and another for each group
	for _, path := range g.paths {
		path = nodeOf(path)
		e, err := r.store().Find(ctx, c.Tree, path)
		if err != nil {
			return err
		}
		if e.Absent() || e.IsTree() || at.Has(path) {
			continue
		}
		full := filepath.FromSlash(path)
		if e.Same(s.work.set[path]) {
			if err := CopyWhole(filepath.Join(r.dir, full), filepath.Join(dir, full)); err != nil {
				return err
			}
			continue
		}
		data, err := r.store().Blob(ctx, e.ID)
		if err != nil {
			return err
		}
		if err := beside.WriteEntry(at, path, e, data); err != nil {
			return err
		}
		if err := os.Chtimes(filepath.Join(dir, full), past, past); err != nil {
			return err
		}
	}
	return nil
}
