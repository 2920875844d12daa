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

// Operations that stopped are known by files in .hg, and by a second parent of the working folder.

// states are the files of the operations. Those without a kind are told and left to hg.
var states = []struct {
	file, command string
	is            vcs.Operation
}{
	{"rebasestate", "rebase", vcs.Rebasing},
	{"graftstate", "graft", vcs.Picking},
	{"histedit-state", "histedit", ""},
	{"shelvedstate", "unshelve", ""},
	{"updatestate", "update", ""},
}

// LeftError reports an operation that stopped and that only hg itself can finish.
type LeftError struct{ Command string }

func (e *LeftError) Error() string {
	if e.Command == "update" {
		return "hg update was interrupted. “hg update --clean .” goes on without your uncommitted work. Nothing was " +
			"changed"
	}
	return fmt.Sprintf("hg %[1]s stopped in the middle. “hg %[1]s --continue” goes on, and “hg %[1]s --abort” takes "+
		"it back. Nothing was changed", e.Command)
}

// Busy returns the operation that is half done, or an empty text.
func (r *place) Busy() vcs.Operation {
	for _, s := range states {
		if _, err := os.Lstat(filepath.Join(r.own, s.file)); err != nil {
			continue
		}
		if s.is == "" {
			return vcs.Unmerged
		}
		return s.is
	}
	if !r.dirstate().p2.null() {
		return vcs.Merging
	}
	return ""
}

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
	u := &vcs.Unfinished{Operation: is, By: vcs.InMercurial.Program, Branch: h.name(), Head: h.tip(), Before: h.tip(),
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

// stateFiles lists the files and folders in .hg that belong to half-done operations.
func (r *place) stateFiles() (names []string) {
	for _, name := range []string{"merge", "rebasestate", "graftstate"} {
		if _, err := os.Lstat(filepath.Join(r.own, name)); err == nil {
			names = append(names, name)
		}
	}
	return names
}

var errState = errors.New("what hg wrote down of its rebase cannot be read")

// readRebase reads the state of a rebase: the changeset where one was, an empty line, the second parent, three flags,
// the bookmark, and a line for each changeset: its node, what it became or -1, and where it goes.
func (r *place) readRebase(u *vcs.Unfinished) error {
	text, err := os.ReadFile(filepath.Join(r.own, "rebasestate"))
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	const heads = 7
	if len(lines) < heads {
		return errState
	}
	if u.Before, err = object.ParseID(lines[0]); err != nil {
		return errState
	}
	if lines[3] != "0" {
		u.Todo = append(u.Todo, vcs.Command{Verb: "collapse"})
	}
	u.Remade = map[object.ID]object.ID{}
	for _, line := range lines[heads:] {
		f := strings.Split(line, ":")
		if len(f) < 3 {
			return errState
		}
		id, err := object.ParseID(f[0])
		onto, oerr := object.ParseID(f[2])
		if err != nil || oerr != nil {
			return errState
		}
		if u.Onto.IsZero() {
			u.Onto = onto
		}
		one := vcs.Command{Verb: vcs.Pick, Commit: id}
		made, merr := object.ParseID(f[1])
		switch {
		case merr == nil && made == id: // it stays where it is
		case merr == nil:
			u.Done, u.Remade[id] = append(u.Done, one), made
		case f[1] != "-1": // left out
		case u.Stopped.IsZero():
			u.Stopped, u.Done = id, append(u.Done, one)
		default:
			u.Todo = append(u.Todo, one)
		}
	}
	return nil
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
	if err != nil || code != 0 && code != 1 {
		return nil, errors.Join(err, &Error{"looking for conflicts", said, code})
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

// Parents returns the parents of the working folder, without hg. The second is zero unless a merge is half done.
func (r *place) Parents() (ids [2]object.ID) {
	d := r.dirstate()
	for i, n := range []node{d.p1, d.p2} {
		if !n.null() {
			ids[i] = n.id()
		}
	}
	return ids
}
