package merge

import (
	"dorvik/internal/core/object"
	"maps"
	"path"
	"slices"
	"strings"
)

// emptied is a directory of the base that one side (the mover) has no more, and
// in which the other changed something.
type emptied struct {
	path       string
	mover      int // inYours or inTheirs
	base, kept object.Entry
}

// A directory is moved where its files went somewhere together. That matters
// only for files that the other side added to it, so it is looked at only where
// there are such files.
type movedDirs struct {
	added   map[string]object.Entry // by path: what the other side put into directories that are gone
	sources map[string]bool         // files whose new places tell where the directories went
	into    map[string]bool         // directories that files were added to
	beside  map[string]bool         // directories that are gone and have such a directory above them
	to      map[string]string       // where directories went
	moved   map[string]string       // a file of each that moved
	split   []string                // directories whose files went apart, no place having most
}

// scan reads a directory that the mover has no more. within says that files
// were added to it or above it.
func (m *movedDirs) scan(store *object.Overlay, dir string, base, kept object.Entry, within bool) error {
	if err := store.Walk(func(name string, at []object.Entry) error {
		if isFile(at[1]) && !isFile(at[0]) {
			m.added[dir+"/"+name] = at[1]
			m.into[dir], within = true, true
		}
		return nil
	}, base.Subtree(), kept.Subtree()); err != nil {
		return err
	}
	return store.Walk(func(name string, at []object.Entry) error {
		p := dir + "/" + name
		if isFile(at[0]) && within {
			m.sources[p] = true
		}
		if at[0].IsTree() && within {
			m.beside[p] = true
		}
		if at[0].IsTree() || at[1].IsTree() {
			return m.scan(store, p, at[0], at[1], within)
		}
		return nil
	}, base.Subtree(), kept.Subtree())
}

// count works out from a side's renames where its directories went: a directory
// is where more of its files went to than anywhere else. A file that went from
// a/b/x to c/b/x says that a/b is c/b now, and a is c.
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

// follow gives the place a file of a moved directory would have if it went
// along, and the directory that was moved.
func (m *movedDirs) follow(p string) (place, dir string, ok bool) {
	for dir = parent(p); dir != ""; dir = parent(dir) {
		if to, moved := m.to[dir]; moved {
			return path.Join(to, p[len(dir)+1:]), dir, true
		}
	}
	return "", "", false
}

// directories finds, for each side as mover, the directories whose going
// matters.
func (r *Result) directories() (out [3]*movedDirs, err error) {
	last := [3]string{"/", "/", "/"} // no path
	for _, e := range r.emptied {
		if strings.HasPrefix(e.path, last[e.mover]+"/") {
			continue // scanned from above
		}
		last[e.mover] = e.path
		m := out[e.mover]
		if m == nil {
			m = &movedDirs{added: map[string]object.Entry{}, sources: map[string]bool{}, into: map[string]bool{},
				beside: map[string]bool{}, to: map[string]string{}, moved: map[string]string{}}
		}
		if err := m.scan(r.store, e.path, e.base, e.kept, false); err != nil {
			return out, err
		}
		if len(m.added) > 0 {
			out[e.mover] = m
		}
	}
	return out, nil
}

// askFollowers asks about each file that one side put into a directory which the other
// moved: stay where it was put, or follow the directory. The one who moved it could
// not know of the file, nor the other of the move.
func (m *renamesMade) askFollowers(dirs [3]*movedDirs) error {
	named := map[string]bool{}
	for _, c := range m.names {
		for _, p := range c.Paths() {
			named[p] = true
		}
	}
	for _, mover := range []int{inYours, inTheirs} {
		d := dirs[mover]
		if d == nil {
			continue
		}
		adder := inYours + inTheirs - mover
		places := map[string][]string{}
		asked := map[string]bool{}
		witness := map[string]string{}
		for _, p := range slices.Sorted(maps.Keys(d.added)) {
			place, dir, ok := d.follow(p)
			if !ok {
				continue
			}
			if other := dirs[adder]; other != nil && other.to[parent(place)] != "" {
				continue // the adder moved that very directory away
			}
			places[place] = append(places[place], p)
			witness[p] = d.moved[dir]
		}
		ask := func(p, place string) error {
			asked[p] = true
			if named[p] {
				return nil // its name is asked already
			}
			stay, other := Placing{Name: p}, Placing{}
			c := Conflict{Path: p, Kind: DirectoryRename}
			n := &Naming{At: p, From: m.from[p], Placer: sides[adder], Moved: witness[p]}
			switch {
			case place != "":
				c.Path, n.Also = place, p
				other = Placing{place, []Move{{From: p, To: place}}}
			case n.From != "":
				// Both have the file: where it cannot follow it can be where the mover has it.
				if ok, err := m.free(n.From); err != nil {
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
			if adder == inTheirs {
				n.Yours, n.Theirs = other, stay
			}
			c.Subject = n
			m.names = append(m.names, c)
			return nil
		}
		for _, place := range slices.Sorted(maps.Keys(places)) {
			free, err := m.free(place)
			if err != nil {
				return err
			}
			for _, p := range places[place] {
				follow := ""
				if free && len(places[place]) == 1 {
					follow = place
				}
				if err := ask(p, follow); err != nil {
					return err
				}
			}
		}
		for _, dir := range d.split {
			for ; dir != "" && !d.into[dir]; dir = parent(dir) {
			}
			for _, p := range slices.Sorted(maps.Keys(d.added)) {
				if parent(p) == dir && !asked[p] {
					if err := ask(p, ""); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}
