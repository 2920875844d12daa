package merge

import (
	"context"
	"fmt"
	"path"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// moveEntries moves entries of a tree, all at once: everything is removed before anything is placed, and files before
// their directories. If another question's outcome took a place, the entry stays where it was or goes beside it.
func moveEntries(ctx context.Context, store *object.Overlay, tree object.ID, moves []Move) (object.ID, error) {
	var taken []takenUp
	for _, trees := range []bool{false, true} {
		var err error
		if tree, err = takeUp(ctx, store, tree, moves, trees, &taken); err != nil {
			return tree, err
		}
	}
	for _, t := range taken {
		to, err := placeFor(ctx, store, tree, t.Move)
		if err != nil {
			return tree, err
		}
		if tree, err = store.Edit(ctx, tree, map[string]object.Entry{to: t.entry}); err != nil {
			return tree, err
		}
	}
	return tree, nil
}

// takenUp is a removed entry that will be placed elsewhere.
type takenUp struct {
	Move
	entry object.Entry
}

// takeUp removes what moves of files, or of directories, place elsewhere.
func takeUp(ctx context.Context, store *object.Overlay, tree object.ID, moves []Move, trees bool,
	taken *[]takenUp) (object.ID, error) {
	gone := map[string]object.Entry{}
	for _, m := range moves {
		at, err := store.Find(ctx, tree, m.From)
		if err != nil {
			return tree, err
		}
		if _, ok := gone[m.From]; ok || at.Absent() || at.IsTree() != trees || m.Tree != trees {
			continue
		}
		gone[m.From] = object.Entry{}
		if m.To != "" {
			*taken = append(*taken, takenUp{m, at})
		}
	}
	return store.Edit(ctx, tree, gone)
}

// placeFor returns the path for a moved entry: its target, its origin, or a name beside the target, whichever is free
// first.
func placeFor(ctx context.Context, store *object.Overlay, tree object.ID, m Move) (string, error) {
	free := func(p string) (bool, error) {
		at, err := store.Find(ctx, tree, p)
		for dir := parent(p); err == nil && dir != "" && at.Absent(); dir = parent(dir) {
			var above object.Entry
			if above, err = store.Find(ctx, tree, dir); above.IsFile() {
				return false, err
			}
		}
		return at.Absent(), err
	}
	for _, p := range []string{m.To, m.From} {
		if ok, err := free(p); ok || err != nil {
			return p, err
		}
	}
	return beside(m.From, "moved", free)
}

// beside returns a free name for a second thing at a path, with its side in it: pier-yours.png for pier.png.
func beside(p string, side Side, free func(p string) (bool, error)) (string, error) {
	ext := path.Ext(p)
	if ext == path.Base(p) {
		ext = "" // a leading dot does not begin an ending
	}
	for n := 1; ; n++ {
		suffix := "-" + string(side)
		if n > 1 {
			suffix += fmt.Sprint("-", n)
		}
		name := strings.TrimSuffix(p, ext) + suffix + ext
		if ok, err := free(name); ok || err != nil {
			return name, err
		}
	}
}

// parent returns the directory of a path; that of the top is "".
func parent(p string) string { return p[:max(0, strings.LastIndexByte(p, '/'))] }
