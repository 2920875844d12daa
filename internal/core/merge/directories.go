package merge

import (
	"context"
	"maps"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// movedDirs finds moved directories: those whose files moved somewhere together. That matters only for files that the
// other side added there, so other directories are not examined.
type movedDirs struct {
	added   map[string]object.Entry // by path: files the other side added to directories that are gone
	sources map[string]bool         // files whose new paths show where the directories went
	into    map[string]bool         // directories that files were added to
	beside  map[string]bool         // gone directories inside another gone directory
	to      map[string]string       // new paths of directories
	moved   map[string]string       // one moved file of each directory
	split   []string                // directories whose files went to several places, none with most
}

// scan reads a directory that the mover deleted. within reports that files were added to it or above it.
func (m *movedDirs) scan(ctx context.Context, store *object.Overlay, dir string, base, kept object.Entry,
	within bool) error {
	if err := store.Walk(ctx, func(name string, at []object.Entry) error {
		if at[1].IsFile() && !at[0].IsFile() {
			m.added[dir+"/"+name] = at[1]
			m.into[dir], within = true, true
		}
		return nil
	}, base.Subtree(), kept.Subtree()); err != nil {
		return err
	}
	return store.Walk(ctx, func(name string, at []object.Entry) error {
		p := dir + "/" + name
		if at[0].IsFile() && within {
			m.sources[p] = true
		}
		if at[0].IsTree() && within {
			m.beside[p] = true
		}
		if at[0].IsTree() || at[1].IsTree() {
			return m.scan(ctx, store, p, at[0], at[1], within)
		}
		return nil
	}, base.Subtree(), kept.Subtree())
}

// count derives the new places of directories from a side's renames: where most of the files went. A file that moved
// from a/b/x to c/b/x means that a/b is now c/b, and a is c.
func (m *movedDirs) count(renames []Rename) {
	votes := map[string]map[string]int{}
	vote := func(from, to string) {
		if votes[from] == nil {
			votes[from] = map[string]int{}
		}
		votes[from][to]++
	}
	for _, r := range renames {
		from, to := parent(r.From), parent(r.To)
		if m.into[from] || m.beside[from] {
			vote(from, to)
		}
		for (m.into[from] || m.beside[from]) && from != "" && to != "" && path.Base(from) == path.Base(to) {
			from, to = parent(from), parent(to)
			if m.into[from] {
				vote(from, to)
			}
		}
	}
	for _, from := range slices.Sorted(maps.Keys(votes)) {
		best, most, tied := "", 0, false
		for to, n := range votes[from] {
			switch {
			case n > most:
				best, most, tied = to, n, false
			case n == most:
				tied = true
			}
		}
		if tied {
			m.split = append(m.split, from)
		} else {
			m.to[from] = best
			for _, r := range renames {
				if strings.HasPrefix(r.From, from+"/") && strings.HasPrefix(r.To, best) {
					m.moved[from] = r.From
					break
				}
			}
		}
	}
}

// follow returns the path of a file if it moved along with its directory, and that directory.
func (m *movedDirs) follow(p string) (place, dir string, ok bool) {
	for dir = parent(p); dir != ""; dir = parent(dir) {
		if to, ok := m.to[dir]; ok {
			return path.Join(to, p[len(dir)+1:]), dir, true
		}
	}
	return "", "", false
}

// directories finds, for each side as mover, the deleted directories that matter.
func (r *Result) directories(ctx context.Context) (out Three[*movedDirs], err error) {
	last := Three[string]{Yours: "/", Theirs: "/"} // a value that is no path
	for _, e := range r.emptied {
		if strings.HasPrefix(e.path, *last.Of(e.mover)+"/") {
			continue // already scanned with a directory above
		}
		*last.Of(e.mover) = e.path
		m := *out.Of(e.mover)
		if m == nil {
			m = &movedDirs{added: map[string]object.Entry{}, sources: map[string]bool{}, into: map[string]bool{},
				beside: map[string]bool{}, to: map[string]string{}, moved: map[string]string{}}
		}
		if err := m.scan(ctx, r.store, e.path, e.base, e.kept, false); err != nil {
			return out, err
		}
		if len(m.added) > 0 {
			*out.Of(e.mover) = m
		}
	}
	return out, nil
}

// askFollowers asks about each file that one side put into a directory that the other moved: should it stay or follow?
// The mover did not know of the file, nor the other side of the move. If theirs moves quay/ to pier/ and yours adds
// quay/new.txt, the file stays at quay/new.txt until somebody decides.
func (m *renamesMade) askFollowers(ctx context.Context, dirs *Three[*movedDirs]) error {
	named := map[string]bool{}
	for _, c := range m.names {
		for _, p := range c.Paths() {
			named[p] = true
		}
	}
	for _, mover := range []Side{Yours, Theirs} {
		d := *dirs.Of(mover)
		if d == nil {
			continue
		}
		f := &followers{renamesMade: m, movedDirs: d, adder: mover.Other(), named: named,
			places: map[string][]string{}, asked: map[string]bool{}, witness: map[string]string{}}
		f.findPlaces(*dirs.Of(f.adder))
		if err := f.ask(ctx); err != nil {
			return err
		}
	}
	return nil
}

// followers are the files that one side, the adder, put into directories that the other moved.
type followers struct {
	*renamesMade
	*movedDirs
	adder   Side
	named   map[string]bool     // paths whose names are already in conflict
	places  map[string][]string // files, by the path they would move to
	witness map[string]string   // by file, another one that moved with its directory
	asked   map[string]bool
}

// findPlaces finds where the files would move. own are the directories that the adder moved.
func (f *followers) findPlaces(own *movedDirs) {
	for _, p := range slices.Sorted(maps.Keys(f.added)) {
		place, dir, ok := f.follow(p)
		if !ok || own != nil && own.to[parent(place)] != "" {
			continue // the side that added the file moved that directory away
		}
		f.places[place] = append(f.places[place], p)
		f.witness[p] = f.movedDirs.moved[dir]
	}
}

// ask asks about each file, beginning with those whose directory moved to one place.
func (f *followers) ask(ctx context.Context) error {
	for _, place := range slices.Sorted(maps.Keys(f.places)) {
		free, err := f.free(ctx, place)
		if err != nil {
			return err
		}
		for _, p := range f.places[place] {
			follow := ""
			if free && len(f.places[place]) == 1 {
				follow = place
			}
			if err := f.askFile(ctx, p, follow); err != nil {
				return err
			}
		}
	}
	for _, dir := range f.split {
		for ; dir != "" && !f.into[dir]; dir = parent(dir) {
		}
		for _, p := range slices.Sorted(maps.Keys(f.added)) {
			if parent(p) == dir && !f.asked[p] {
				if err := f.askFile(ctx, p, ""); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// askFile asks whether a file stays or moves to a path. An empty path means that it cannot follow.
func (f *followers) askFile(ctx context.Context, p, place string) error {
	f.asked[p] = true
	if f.named[p] {
		return nil
	}
	stay, other := Placing{Name: p}, Placing{}
	c := Conflict{Path: p, Kind: DirectoryRename}
	n := &Naming{At: p, From: f.from[p], Placer: f.adder, Moved: f.witness[p]}
	switch {
	case place != "":
		c.Path, n.Also = place, p
		other = Placing{place, []Move{{From: p, To: place}}}
	case n.From != "":
		// Both sides have the file. If it cannot follow the directory, it can stay where the side that moved it has it.
		if ok, err := f.free(ctx, n.From); err != nil {
			return err
		} else if ok {
			other = Placing{n.From, []Move{{From: p, To: n.From}}}
		} else {
			other = stay
		}
	default:
		other.Moves = []Move{{From: p}}
	}
	n.Yours, n.Theirs = stay, other
	if f.adder == Theirs {
		n.Yours, n.Theirs = other, stay
	}
	c.Subject = n
	f.names = append(f.names, c)
	return nil
}
