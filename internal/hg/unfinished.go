package hg

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

// Unfinished reads a half-done operation. The error is a *LeftError if only hg can finish it.
func (r *work) Unfinished(ctx context.Context) (*vcs.Unfinished, error) {
	for _, s := range states {
		if _, err := os.Lstat(filepath.Join(r.own, s.file)); err == nil && s.is == "" {
			return nil, &LeftError{s.command}
		}
	}
	is := r.Busy()
	if is == "" {
		return nil, nil
	}
	h, err := r.here(ctx)
	if err != nil {
		return nil, err
	}
	u := &vcs.Unfinished{Operation: is, By: vcs.InMercurial.Name, Branch: h.name(), Head: h.tip(), Before: h.tip(),
		Files: r.stateFiles()}
	switch is {
	case vcs.Rebasing:
		err = r.readRebase(u)
	case vcs.Picking:
		err = r.readGraft(ctx, u)
	default:
		u.Merged = h.parents[1:]
	}
	return u, err
}

// readGraft reads the state of a graft: a version, and a map in CBOR (RFC 8949) whose lists of nodes are texts.
func (r *work) readGraft(ctx context.Context, u *vcs.Unfinished) error {
	data, err := os.ReadFile(filepath.Join(r.own, "graftstate"))
	if err != nil {
		return err
	}
	_, rest, _ := strings.Cut(string(data), "\n")
	lists, err := cborLists(rest)
	if err != nil {
		return fmt.Errorf("what hg wrote down of its graft cannot be read: %w", err)
	}
	for i, hex := range lists["nodes"] {
		id, err := object.ParseID(hex)
		if err != nil {
			return fmt.Errorf("what hg wrote down of its graft cannot be read: %w", err)
		}
		one := vcs.Command{Verb: vcs.Pick, Commit: id}
		if i == 0 {
			u.Stopped, u.Done = id, append(u.Done, one)
		} else {
			u.Todo = append(u.Todo, one)
		}
	}
	if made := lists["newnodes"]; len(made) > 0 { // the branch began below the first of them
		ids, err := r.Commits(ctx, "p1("+made[0]+")")
		if err != nil {
			return err
		}
		for _, id := range ids {
			u.Before = id
		}
	}
	return nil
}

// cborLists reads a map of texts to lists of texts. Other values are passed over.
func cborLists(data string) (map[string][]string, error) {
	d := &cbor{rest: data}
	kind, n, err := d.head()
	if err != nil || kind != 5 {
		return nil, errors.Join(errState, err)
	}
	out := map[string][]string{}
	for range n {
		key, err := d.text()
		if err != nil {
			return nil, err
		}
		if kind, _, _ := (&cbor{rest: d.rest}).head(); kind != 4 {
			if err := d.pass(0); err != nil {
				return nil, err
			}
			continue
		}
		_, m, err := d.head()
		if err != nil {
			return nil, err
		}
		for range m {
			text, err := d.text()
			if err != nil {
				return nil, err
			}
			out[key] = append(out[key], text)
		}
	}
	return out, nil
}

// cbor reads items of definite length.
type cbor struct{ rest string }

// head reads the kind of the next item, and its number or length.
func (d *cbor) head() (kind byte, n int, err error) {
	if d.rest == "" {
		return 0, 0, errState
	}
	c := d.rest[0]
	d.rest = d.rest[1:]
	kind, n = c>>5, int(c&31)
	if n < 24 {
		return kind, n, nil
	}
	if n > 26 {
		return 0, 0, errState
	}
	size := 1 << (n - 24)
	if len(d.rest) < size {
		return 0, 0, errState
	}
	n = 0
	for range size {
		n, d.rest = n<<8|int(d.rest[0]), d.rest[1:]
	}
	return kind, n, nil
}

// text reads a text or bytes.
func (d *cbor) text() (string, error) {
	kind, n, err := d.head()
	if err != nil || kind != 2 && kind != 3 || n > len(d.rest) {
		return "", errors.Join(errState, err)
	}
	text := d.rest[:n]
	d.rest = d.rest[n:]
	return text, nil
}

// pass passes over an item.
func (d *cbor) pass(deep int) error {
	kind, n, err := d.head()
	switch {
	case err != nil || deep > 20:
		return errors.Join(errState, err)
	case kind == 2 || kind == 3:
		if n > len(d.rest) {
			return errState
		}
		d.rest = d.rest[n:]
		return nil
	case kind == 5:
		n *= 2
	case kind != 4:
		return nil
	}
	for range n {
		if err := d.pass(deep + 1); err != nil {
			return err
		}
	}
	return nil
}

// conflicts returns the files that hg calls unresolved.
func (r *work) conflicts(ctx context.Context) (map[string]bool, error) {
	out, said, code, err := r.hg.all(ctx, "files", "-T", "{path}\\0", "-R", r.dir, "set:unresolved()")
	if err != nil {
		return nil, err
	}
	const noneFound = 1
	if code != 0 && code != noneFound {
		return nil, &Error{"looking for conflicts", said, code}
	}
	open := map[string]bool{}
	for path := range strings.SplitSeq(out, "\x00") {
		if path != "" {
			open[path] = true
		}
	}
	return open, nil
}

// midway marks the files of a half-done operation: those in conflict, with what the three sides have, and the rest,
// which is part of what hg would commit next.
func (r *work) midway(ctx context.Context, dirty []vcs.Dirty) error {
	u, err := r.Unfinished(ctx)
	if err != nil {
		return err
	}
	open, err := r.conflicts(ctx)
	if err != nil {
		return err
	}
	one, other := u.Head, u.Stopped
	if len(u.Merged) > 0 {
		other = u.Merged[0]
	}
	base := "ancestor(" + one.String() + "," + other.String() + ")"
	if u.Operation != vcs.Merging {
		base = "p1(" + other.String() + ")"
	}
	below, err := r.Commits(ctx, base)
	if err != nil {
		return err
	}
	store := object.NewOverlay(object.SHA1, r)
	for i := range dirty {
		d := &dirty[i]
		if d.Untracked {
			continue
		}
		if !open[d.Path] {
			d.Staged, d.Unstaged = true, false
			continue
		}
		d.Conflict, d.Unstaged, d.Index = true, false, object.Entry{}
		for k, of := range [][]object.ID{below, {one}, {other}} {
			for _, id := range of {
				c, err := store.Commit(ctx, id)
				if err != nil {
					return err
				}
				e, err := store.Find(ctx, c.Tree, d.Path)
				if err != nil {
					return err
				}
				d.Stages[k] = e.Detached()
			}
		}
	}
	return nil
}
