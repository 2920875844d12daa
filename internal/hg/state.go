package hg

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// dirstate is the parents of the working folder, as its file has them.
type dirstate struct{ p1, p2 node }

// dirstate reads the file of the working folder.
func (r *place) dirstate() dirstate { return dirstateIn(r.own) }

// dirstateIn reads the file in an .hg, of version 1 or 2 (hg help internals.dirstate-v2). A missing one has no parents.
func dirstateIn(own string) (d dirstate) {
	data, err := os.ReadFile(filepath.Join(own, "dirstate"))
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

// operation is one that hg can leave half done.
type operation struct {
	file    string // its state, in .hg
	command string
	is      vcs.Operation
	known   bool // Dorvik can finish it; else only hg can
}

// operations are those with a file. Rows are written without field names, so a row that lacks a field does not compile.
var operations = []operation{
	{rebaseFile, "rebase", vcs.Rebasing, true},
	{"graftstate", "graft", vcs.Picking, true},
	{histeditFile, "histedit", vcs.Rebasing, true},
	{shelvedFile, "unshelve", vcs.Unmerged, true},
	{"updatestate", "update", vcs.Unmerged, false},
}

const (
	rebaseFile   = "rebasestate"
	histeditFile = "histedit-state"
	shelvedFile  = "shelvedstate"
	mergeFolder  = "merge"             // which files are in conflict, and what they were
	activeFile   = "bookmarks.current" // the name of the active bookmark
)

// has reports whether there is a file or folder in .hg.
func (r *place) has(name string) bool {
	_, err := os.Lstat(filepath.Join(r.own, name))
	return err == nil
}

// begun returns the operation whose file is there, or nil.
func (r *place) begun() *operation {
	for i := range operations {
		if r.has(operations[i].file) {
			return &operations[i]
		}
	}
	return nil
}

// Busy returns the operation that is half done, or an empty text.
func (r *place) Busy() vcs.Operation {
	if o := r.begun(); o != nil {
		return o.is
	}
	if !r.dirstate().p2.null() {
		return vcs.Merging
	}
	return ""
}

// activeName returns the name of the active bookmark, wherever that is; empty for none.
func (r *place) activeName() string {
	name, err := os.ReadFile(filepath.Join(r.own, activeFile))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(name))
}

// LeftError reports an operation that stopped and that only hg itself can finish.
type LeftError struct{ Command string }

func (e *LeftError) Error() string {
	if e.Command == "update" {
		return "hg update was interrupted. “hg update --clean .” goes on without your uncommitted work. Nothing was " +
			"changed"
	}
	return fmt.Sprintf("hg %[1]s stopped where only hg itself can go on: “hg %[1]s --continue” does, and “hg %[1]s "+
		"--abort” takes it back. Nothing was changed", e.Command)
}

// stateFiles lists the files and folders in .hg that belong to half-done operations.
func (r *place) stateFiles() (names []string) {
	if r.has(mergeFolder) {
		names = append(names, mergeFolder)
	}
	for _, o := range operations {
		if o.known && r.has(o.file) {
			names = append(names, o.file)
		}
	}
	return names
}

// Standing is the changeset that the working folder stands on: its first parent or, while something is unshelved, the
// one before hg committed the uncommitted work for a while.
func (r *place) Standing() object.ID {
	if s, err := r.shelved(); err == nil && s != nil {
		return s.original
	}
	return r.Parents()[0]
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
