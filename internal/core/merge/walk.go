package merge

import (
	"context"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

func tree(id object.ID) object.Entry { return object.Entry{Mode: object.ModeTree, ID: id} }

// name joins the entries at one path, whatever their types.
func (m *merger) name(ctx context.Context, path string, b, y, t object.Entry) error {
	if b.Absent() && object.CheckName(path[strings.LastIndexByte(path, '/')+1:]) != nil {
		return &object.NameError{Path: path}
	}
	if b.IsFile() && !y.IsFile() && !t.IsFile() {
		m.out.gone = append(m.out.gone, path)
	}
	if b.IsTree() && !y.IsTree() && !t.IsTree() {
		m.out.goneTrees = append(m.out.goneTrees, Edit{path, b})
	}
	// If the ancestors disagree, neither side counts as having left the path unchanged.
	asked, open := m.open[path]
	asked = asked || m.asking
	switch {
	case y.Same(t):
		if !b.Same(y) {
			m.joined(path, FromBoth, b, y, t, y)
		}
		return nil
	case asked && !y.IsTree() && !t.IsTree():
		if b.IsTree() {
			b = object.Entry{}
		}
		return m.disputed(ctx, path, b, y, t)
	case asked && !m.asking:
		m.asking = true // everything in the directory is in conflict
		defer func() { m.asking = false }()
	case asked || open && (y.IsTree() || t.IsTree()): // something inside may be in conflict
	case b.Same(y):
		m.joined(path, FromTheirs, b, y, t, t)
		return nil
	case b.Same(t):
		m.joined(path, FromYours, b, y, t, y)
		return nil
	}
	switch {
	case y.IsTree() && t.IsTree():
		return m.dir(ctx, path, b, y, t)
	case b.IsTree() && y.IsTree():
		m.out.emptied = append(m.out.emptied, emptied{path, Theirs, b, y})
		return m.treeAgainstFile(ctx, path, b, y, t)
	case b.IsTree() && t.IsTree():
		m.out.emptied = append(m.out.emptied, emptied{path, Yours, b, t})
		return m.treeAgainstFile(ctx, path, b, y, t)
	case y.IsTree() || t.IsTree():
		return m.treeAgainstFile(ctx, path, b, y, t)
	}
	if b.IsTree() { // both sides removed the directory
		switch {
		case y.Absent():
			m.joined(path, FromTheirs, b, y, t, t)
			return nil
		case t.Absent():
			m.joined(path, FromYours, b, y, t, y)
			return nil
		}
		b = object.Entry{}
	}
	return m.file(ctx, path, b, y, t)
}

func (m *merger) dir(ctx context.Context, path string, b, y, t object.Entry) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	var places []spot
	if n := len(m.spare); n > 0 {
		places, m.spare = m.spare[n-1][:0], m.spare[:n-1]
	}
	places, err := m.places(ctx, places, b.Subtree(), y.Subtree(), t.Subtree())
	if err != nil {
		return err
	}
	if path != "" {
		path += "/"
	}
	stop := make(chan struct{})
	read, done := m.readAhead(ctx, places, stop)
	defer func() {
		close(stop)
		<-done
		m.spare = append(m.spare, places)
	}()
	for i, p := range places {
		if i%readAtOnce == 0 {
			<-read
		}
		if err := m.name(ctx, path+p.name, p.b, p.y, p.t); err != nil {
			return err
		}
	}
	return nil
}

// places appends the names at which three directories differ.
func (m *merger) places(ctx context.Context, list []spot, b, y, t object.ID) ([]spot, error) {
	store := m.engine.Store
	if !m.touched {
		err := store.WalkDifferences(ctx, func(name string, at []object.Entry) error {
			list = append(list, spot{name, at[0], at[1], at[2]})
			return nil
		}, b, y, t)
		return list, err
	}
	var names []string
	if err := store.WalkDifferences(ctx, func(name string, at []object.Entry) error {
		list = append(list, spot{name: name, b: at[0], y: at[1]})
		names = append(names, name)
		return nil
	}, b, y); err != nil {
		return list, err
	}
	return list, store.Pick(ctx, t, names, func(i int, e object.Entry) { list[i].t = e })
}

// readAtOnce is the number of places whose objects are read together.
const readAtOnce = 32

// readAhead prefetches the objects of places while earlier ones are joined. It sends on read before each readAtOnce of
// them until stop is closed, and closes done at the end.
func (m *merger) readAhead(ctx context.Context, places []spot, stop <-chan struct{}) (read, done chan struct{}) {
	read, done = make(chan struct{}), make(chan struct{})
	next := func(places []spot) {
		var ids []object.ID
		for _, p := range places {
			if p.y.Same(p.t) || p.b.Same(p.y) || p.b.Same(p.t) {
				continue
			}
			texts := p.y.Mode.IsRegular() && p.t.Mode.IsRegular() // other kinds have no text to join
			for _, e := range []object.Entry{p.b, p.y, p.t} {
				if e.IsTree() || texts && e.Mode.IsRegular() {
					ids = append(ids, e.ID)
				}
			}
		}
		m.engine.Store.Prefetch(ctx, ids...)
	}
	go func() {
		defer close(done)
		for chunk := range slices.Chunk(places, readAtOnce) {
			next(chunk)
			select {
			case read <- struct{}{}:
			case <-stop:
				return
			}
		}
	}()
	return read, done
}

// treeAgainstFile joins a path that is a directory on one side only. It joins the directory as if the other side had
// deleted it. If anything is left and the other side has a file there, they clash.
func (m *merger) treeAgainstFile(ctx context.Context, path string, b, y, t object.Entry) error {
	if m.touched {
		return errNotEnough
	}
	ofYours, ofTheirs, joined, conflicts := len(m.out.ofYours), len(m.out.ofTheirs), len(m.out.Joined),
		len(m.out.Conflicts)
	if err := m.dir(ctx, path, b, y, t); err != nil {
		return err
	}
	file := y
	if y.IsTree() {
		file = t
	}
	if file.Absent() {
		return nil
	}
	left := len(m.out.Conflicts) > conflicts
	if !left {
		set := map[string]object.Entry{}
		for _, e := range m.out.ofYours[ofYours:] {
			set[e.Path[len(path)+1:]] = e.Entry
		}
		id, err := m.engine.Store.Edit(ctx, y.Subtree(), set)
		if err != nil {
			return err
		}
		left = !id.IsZero()
	}
	// In each case the path is joined, or in conflict, as a whole. Its files may still have been renamed.
	for _, c := range m.out.Conflicts[conflicts:] {
		if base, _, _ := c.Subject.Sides(); base.IsFile() {
			m.out.gone = append(m.out.gone, c.Path)
		}
	}
	m.out.ofYours, m.out.ofTheirs = m.out.ofYours[:ofYours], m.out.ofTheirs[:ofTheirs]
	m.out.Joined, m.out.Conflicts = m.out.Joined[:joined], m.out.Conflicts[:conflicts]
	if left {
		m.conflict(Conflict{Path: path, Kind: FileDirectory, Subject: &Clash{Base: b, Yours: y, Theirs: t}})
		return nil
	}
	o := FromYours
	if file == t {
		o = FromTheirs
	}
	m.joined(path, o, b, y, t, file)
	return nil
}
