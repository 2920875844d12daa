package object

import "strings"

// Find gives the entry at a slash-separated path below a tree; the zero Entry
// where there is none.
func (o *Overlay) Find(tree ID, path string) (Entry, error) {
	name, rest, deeper := strings.Cut(path, "/")
	entries, err := o.Tree(tree)
	if err != nil {
		return Entry{}, err
	}
	for _, e := range entries {
		if e.Name != name {
			continue
		}
		if !deeper {
			return e, nil
		}
		if e.IsTree() {
			return o.Find(e.ID, rest)
		}
	}
	return Entry{}, nil
}

// Change is a path at which two trees differ.
type Change struct {
	Path     string
	Old, New Entry // absent where the path was added or removed
}

// Changes lists what differs between two trees, file by file, in path order of
// the walk. It descends only into subtrees that differ.
func (o *Overlay) Changes(old, new ID) ([]Change, error) {
	var out []Change
	err := o.changes("", old, new, func(c Change) { out = append(out, c) })
	return out, err
}

func (o *Overlay) changes(prefix string, old, new ID, emit func(Change)) error {
	if old == new {
		return nil
	}
	a, err := o.Tree(old)
	if err != nil {
		return err
	}
	b, err := o.Tree(new)
	if err != nil {
		return err
	}
	return Zip(func(name string, at []Entry) error {
		x, y := at[0], at[1]
		if x.Same(y) {
			return nil
		}
		path := prefix + name
		var xt, yt ID
		if x.IsTree() {
			xt, x = x.ID, Entry{}
		}
		if y.IsTree() {
			yt, y = y.ID, Entry{}
		}
		if !x.Absent() || !y.Absent() {
			emit(Change{path, x, y})
		}
		return o.changes(path+"/", xt, yt, emit)
	}, a, b)
}

// Zip walks several sorted lists of entries together and calls visit once for
// each name, with that name's entry in each list (absent where it has none).
// The slice handed to visit is reused. Lists in tree order put a directory
// "a" after a file "a.b"; a name present as file in one and directory in
// another still gets one call.
func Zip(visit func(name string, at []Entry) error, lists ...[]Entry) error {
	at := make([]Entry, len(lists))
	pos := make([]int, len(lists))
	skip := make([]map[string]bool, len(lists))
	for {
		best := ""
		for i, l := range lists {
			for pos[i] < len(l) && skip[i][l[pos[i]].Name] {
				pos[i]++
			}
			if pos[i] < len(l) {
				if key := sortName(l[pos[i]]); best == "" || key < best {
					best = key
				}
			}
		}
		if best == "" {
			return nil
		}
		name := strings.TrimSuffix(best, "/")
		for i, l := range lists {
			at[i] = Entry{}
			if pos[i] < len(l) && l[pos[i]].Name == name {
				at[i] = l[pos[i]]
				pos[i]++
				continue
			}
			if best != name {
				continue // directories sort last: no file of this name can follow
			}
			// The same name may stand further on, as a directory.
			for j := pos[i]; j < len(l) && sortName(l[j]) <= name+"/"; j++ {
				if l[j].Name == name {
					at[i] = l[j]
					if skip[i] == nil {
						skip[i] = map[string]bool{}
					}
					skip[i][name] = true
					break
				}
			}
		}
		if err := visit(name, at); err != nil {
			return err
		}
	}
}

// Edit gives the id of the tree that results from setting paths in a tree; an
// absent entry removes its path. Directories left empty go too.
func (o *Overlay) Edit(tree ID, set map[string]Entry) (ID, error) {
	if len(set) == 0 {
		return tree, nil
	}
	entries, err := o.Tree(tree)
	if err != nil {
		return ID{}, err
	}
	byName := make(map[string]Entry, len(entries))
	for _, e := range entries {
		byName[e.Name] = e
	}
	below := map[string]map[string]Entry{}
	for path, e := range set {
		name, rest, deeper := strings.Cut(path, "/")
		if deeper {
			if below[name] == nil {
				below[name] = map[string]Entry{}
			}
			below[name][rest] = e
			continue
		}
		if e.Absent() {
			delete(byName, name)
			continue
		}
		byName[name] = Entry{name, e.Mode, e.ID}
	}
	for name, sub := range below {
		var under ID
		if at := byName[name]; at.IsTree() {
			under = at.ID
		}
		id, err := o.Edit(under, sub)
		if err != nil {
			return ID{}, err
		}
		switch {
		case !id.IsZero():
			byName[name] = Entry{name, ModeTree, id}
		case byName[name].IsTree():
			delete(byName, name)
		}
	}
	if len(byName) == 0 {
		return ID{}, nil
	}
	out := make([]Entry, 0, len(byName))
	for _, e := range byName {
		out = append(out, e)
	}
	return o.PutTree(out), nil
}

// EmptyTree makes the tree without entries.
func (o *Overlay) EmptyTree() ID { return o.PutTree(nil) }
