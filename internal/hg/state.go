package hg

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// dirstate is the parents of the working folder, as its file has them.
type dirstate struct{ p1, p2 node }

// dirstate reads the file, of version 1 or 2 (hg help internals.dirstate-v2). A missing one has no parents.
func (r *place) dirstate() (d dirstate) {
	data, err := os.ReadFile(filepath.Join(r.own, "dirstate"))
	if err != nil {
		return d
	}
	const mark, padded = "dirstate-v2\n", 32 // a node of version 2 has room for a longer hash
	if rest, ok := bytes.CutPrefix(data, []byte(mark)); ok {
		if len(rest) >= 2*padded {
			copy(d.p1[:], rest)
			copy(d.p2[:], rest[padded:])
		}
		return d
	}
	if len(data) >= 2*len(d.p1) {
		copy(d.p1[:], data)
		copy(d.p2[:], data[len(d.p1):])
	}
	return d
}

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
	seen := map[object.ID]bool{} // what changesets go onto, and those that were made
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
		seen[onto] = true
		one := vcs.Command{Verb: vcs.Pick, Commit: id}
		made, merr := object.ParseID(f[1])
		switch {
		case merr == nil && made == id: // it stays where it is
		case merr == nil && seen[made]: // nothing was left of it
			one.Verb = vcs.Drop
			u.Done = append(u.Done, one)
		case merr == nil:
			u.Done, u.Remade[id], seen[made] = append(u.Done, one), made, true
		case f[1] != "-1": // left out
		case u.Stopped.IsZero():
			u.Stopped, u.Done = id, append(u.Done, one)
		default:
			u.Todo = append(u.Todo, one)
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
