// Package replay brings commits one by one onto another tip, as pure
// computation: what a rebase makes, without a working tree.
package replay

import (
	"crypto/sha256"
	"fmt"
	"hash"
	"sort"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/history"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// ChangeID names what a commit changes, wherever its lines stand: two commits
// with equal ChangeIDs make the same change.
type ChangeID [sha256.Size]byte

// nearby is the number of unchanged lines around a hunk that count as part of
// the change, so that "add a brace" in one place is not the same in another.
const nearby = 3

// ChangeOf computes the ChangeID of a commit against its first parent. ok is
// false for merges and for commits that change nothing: they have none.
func ChangeOf(store *object.Overlay, c *object.Commit) (id ChangeID, ok bool, err error) {
	if len(c.Parents) > 1 {
		return id, false, nil
	}
	before, err := history.FirstParentTree(store, c)
	if err != nil {
		return id, false, err
	}
	changes, err := store.Changes(before, c.Tree)
	if err != nil || len(changes) == 0 {
		return id, false, err
	}
	sort.Slice(changes, func(i, j int) bool { return changes[i].Path < changes[j].Path })
	h := sha256.New()
	for _, ch := range changes {
		fmt.Fprintf(h, "%q %o %o\n", ch.Path, ch.Old.Mode, ch.New.Mode)
		if err := hashChange(h, store, ch); err != nil {
			return id, false, err
		}
	}
	h.Sum(id[:0])
	return id, true, nil
}

func hashChange(h hash.Hash, store *object.Overlay, ch object.Change) error {
	var lines [2][]string
	for i, e := range []object.Entry{ch.Old, ch.New} {
		if e.Absent() {
			continue
		}
		if !e.Mode.IsRegular() {
			fmt.Fprintf(h, "ids %s %s\n", ch.Old.ID, ch.New.ID)
			return nil
		}
		data, err := store.Blob(e.ID)
		if err != nil {
			return err
		}
		if !merge.IsText(data) {
			fmt.Fprintf(h, "ids %s %s\n", ch.Old.ID, ch.New.ID)
			return nil
		}
		lines[i] = diff.Lines(string(data))
	}
	a, b := lines[0], lines[1]
	put := func(sign byte, lines []string) {
		for _, l := range lines {
			fmt.Fprintf(h, "%c%d %s", sign, len(l), l)
		}
	}
	done := 0 // lines of a that are written or passed over
	for i, e := range diff.Histogram(a, b) {
		gap := a[done:e.A0]
		switch {
		case i == 0:
			put(' ', gap[max(0, len(gap)-nearby):])
		case len(gap) > 2*nearby:
			put(' ', gap[:nearby])
			fmt.Fprint(h, "@\n")
			put(' ', gap[len(gap)-nearby:])
		default:
			put(' ', gap)
		}
		put('-', a[e.A0:e.A1])
		put('+', b[e.B0:e.B1])
		done = e.A1
	}
	put(' ', a[done:min(done+nearby, len(a))])
	return nil
}
