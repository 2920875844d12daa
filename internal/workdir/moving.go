package workdir

import (
	"errors"
	"path/filepath"
	"slices"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// GiveBack moves a file that is kept under a name back to its place in a working tree. If it is not there, nothing
// happens. If the place is taken or the move fails, the file stays where it is kept, and the ledger tells where.
func GiveBack(l *ledger.Ledger, tree beneath.Folder, path string, kept beneath.Folder, as string) {
	if !kept.Has(as) {
		return
	}
	tree.RemoveEmpty(path) // folders that were made in its place
	at := filepath.Join(string(kept), filepath.FromSlash(as))
	switch err := kept.Move(as, tree, path); {
	case errors.Is(err, beneath.ErrTaken):
		l.Tell("%s stays as it is; what you had there is kept as %s.", path, at)
	case err != nil:
		l.Tell("%s could not go back to its place (%v); it is kept as %s.", path, err, at)
	}
}

// MissingFolders lists the folders of a working tree that changes will create, parents first.
func MissingFolders(tree beneath.Folder, changes []object.Change) (out []string) {
	seen := map[string]bool{}
	for _, c := range changes {
		if c.New.Absent() {
			continue
		}
		for dir := plan.Folder(c.Path); dir != "" && !seen[dir]; dir = plan.Folder(dir) {
			seen[dir] = true
			if !tree.Has(dir) {
				out = append(out, dir)
			}
		}
	}
	slices.Sort(out)
	return out
}
