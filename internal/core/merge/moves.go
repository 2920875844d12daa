package merge

import (
	"dorvik/internal/core/object"
	"fmt"
	"path"
	"strings"
)

// move makes moves in a tree, all at once: all is taken away before any of it is put
// anywhere, files before the directories they are in. What finds its place taken by the
// outcome of another question stays where it was, or goes beside.
func move(store *object.Overlay, tree object.ID, moves []Move) (object.ID, error) {
	type held struct {
		Move
		entry object.Entry
	}
	var puts []held
	for _, trees := range []bool{false, true} {
		gone := map[string]object.Entry{}
		for _, m := range moves {
			at, err := store.Find(tree, m.From)
			if err != nil {
				return tree, err
			}
			if _, twice := gone[m.From]; twice || at.Absent() || at.IsTree() != trees || m.Tree != trees {
				continue
			}
			gone[m.From] = object.Entry{}
			if m.To != "" {
				puts = append(puts, held{m, at})
			}
		}
		var err error
		if tree, err = store.Edit(tree, gone); err != nil {
			return tree, err
		}
	}
	free := func(p string) (bool, error) {
		at, err := store.Find(tree, p)
		for dir := parent(p); err == nil && dir != "" && at.Absent(); dir = parent(dir) {
			var above object.Entry
			if above, err = store.Find(tree, dir); isFile(above) {
				return false, err
			}
		}
		return at.Absent(), err
	}
	for _, h := range puts {
		to := h.To
		for _, p := range []string{h.To, h.From} {
			ok, err := free(p)
			if err != nil {
				return tree, err
			}
			if to = p; ok {
				break
			}
			to = ""
		}
		if to == "" {
			var err error
			if to, err = beside(h.From, "moved", free); err != nil {
				return tree, err
			}
		}
		var err error
		if tree, err = store.Edit(tree, map[string]object.Entry{to: h.entry}); err != nil {
			return tree, err
		}
	}
	return tree, nil
}

// beside gives a name for a second thing at a path, made of the side it is of, that
// is free: pier.png gives pier-yours.png.
func beside(p string, side Side, free func(p string) (bool, error)) (string, error) {
	ext := path.Ext(p)
	if ext == path.Base(p) {
		ext = "" // a name that begins with a dot has no ending
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

// parent is the directory of a path, empty for the top.
func parent(p string) string { return p[:max(0, strings.LastIndexByte(p, '/'))] }
