package workdir

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"syscall"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// Files moves the files of a change in a working tree: old ones away, where they are compared, and new ones to their
// places. Each step may be taken again after it was interrupted, and PutBack undoes them all.
type Files struct {
	Tree     beneath.Folder // the working tree
	Away     beneath.Folder // for old files
	Fresh    beneath.Folder // in which new files are made
	Aside    beneath.Folder // for the paths of Blocking
	Blocking []string       // untracked paths that are in the way
	Made     []string       // folders that the change creates, parents first
	Branch   string         // for errors
	Ledger   *ledger.Ledger
	// Holds reports whether a path of a folder holds an entry, or nothing for an absent one. begun accepts the
	// beginning of the content, too.
	Holds func(in beneath.Folder, path string, e object.Entry, begun bool) (bool, error)
	// Make makes a new file in Fresh.
	Make func(path string, e object.Entry) error
}

// isGone reports whether an error means that there is no such file or folder.
func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) }

// MoveAside moves untracked obstacles aside.
func (f *Files) MoveAside() error {
	for _, p := range f.Blocking {
		if err := f.Tree.Move(p, f.Aside, p); err != nil {
			return fmt.Errorf("moving %s aside: %w", p, err)
		}
	}
	return nil
}

// BringBack returns obstacles to their places.
func (f *Files) BringBack() {
	for _, p := range f.Blocking {
		GiveBack(f.Ledger, f.Tree, p, f.Aside, p)
	}
}

// MoveAway moves the files away that the change replaces, and compares them. If one is not what it was when the join
// was computed, the error is a *change.MovedError.
func (f *Files) MoveAway(changes []object.Change) error {
	for _, c := range changes {
		if c.Old.Absent() {
			continue
		}
		if err := ledger.Step("away " + c.Path); err != nil {
			return err
		}
		err := f.Tree.Move(c.Path, f.Away, c.Path)
		if isGone(err) {
			return &change.MovedError{Branch: f.Branch, Work: true}
		}
		if err != nil {
			return fmt.Errorf("moving %s away: %w", c.Path, err)
		}
		same, err := f.Holds(f.Away, c.Path, c.Old, false)
		if err != nil {
			return err
		}
		if !same {
			return &change.MovedError{Branch: f.Branch, Work: true}
		}
	}
	for _, c := range changes {
		for dir := plan.Folder(c.Path); dir != "" && !c.Old.Absent(); dir = plan.Folder(dir) {
			if f.Tree.Remove(dir) != nil { // it is not empty
				break
			}
		}
	}
	return nil
}

// WriteNew puts the files of the change into their free places.
func (f *Files) WriteNew(changes []object.Change) error {
	for _, c := range changes {
		if c.New.Absent() {
			continue
		}
		err := ledger.Step("write " + c.Path)
		if err == nil {
			err = f.Make(c.Path, c.New)
		}
		if err == nil {
			err = f.Fresh.Move(c.Path, f.Tree, c.Path)
		}
		if errors.Is(err, beneath.ErrTaken) {
			return &change.MovedError{Branch: f.Branch, Work: true}
		}
		if err != nil {
			return fmt.Errorf("writing %s: %w", c.Path, err)
		}
	}
	return nil
}

// PutBack removes what the change wrote and returns the files that were moved away. Files that hold something else were
// saved meanwhile; they stay, and where the others are is told.
func (f *Files) PutBack(changes []object.Change) error {
	for _, c := range slices.Backward(changes) {
		moved := f.Away.Has(c.Path)
		untouched := slices.Contains(f.Blocking, c.Path) && !f.Aside.Has(c.Path)
		if c.New.Absent() || untouched || !moved && !c.Old.Absent() || !f.Tree.Has(c.Path) {
			continue
		}
		ours, err := f.Holds(f.Tree, c.Path, c.New, true)
		if err == nil && ours {
			err = f.Tree.Remove(c.Path)
		}
		if err != nil && !isGone(err) {
			return fmt.Errorf("putting %s back: %w", c.Path, err)
		}
		for dir := plan.Folder(c.Path); slices.Contains(f.Made, dir) && f.Tree.Remove(dir) == nil; dir = plan.Folder(
			dir) {
		}
	}
	for _, c := range changes {
		GiveBack(f.Ledger, f.Tree, c.Path, f.Away, c.Path)
	}
	for _, dir := range slices.Backward(f.Made) {
		if info, err := f.Tree.Lstat(dir); err == nil &&
			info.IsDir() { // a file may stand there that is still in the way
			_ = f.Tree.Remove(dir) // what is not empty stays
		}
	}
	os.RemoveAll(string(f.Fresh))
	return nil
}

// Clean removes the old files, and what is left of making new ones.
func (f *Files) Clean() {
	os.RemoveAll(string(f.Away))
	os.RemoveAll(string(f.Fresh))
}
