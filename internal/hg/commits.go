package hg

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/odb"
)

// Making is a bundle of new changesets, made from commits in memory.
type Making struct {
	Of map[object.ID]object.ID // the changeset of each commit
	// Nodes are the changesets, oldest first.
	Nodes []object.ID
}

// Make writes the commits below some tips that hg does not have as changesets into a bundle. origin tells of which
// changeset a commit is made again; it keeps the branch, the other fields, and what is known about copies. Others get
// the branch of the working folder, and copies, as Marks has them. Without new commits no file is written.
func (r *changes) Make(ctx context.Context, store *object.Overlay, tips []object.ID,
	origin map[object.ID]object.ID, copies map[string]string, file string) (*Making, error) {
	h, err := r.here(ctx)
	if err != nil {
		return nil, err
	}
	known, err := r.mirror.manifestsOf(r.mirror.state())
	if err != nil {
		return nil, fmt.Errorf("making the new changesets: %w", err)
	}
	m := &maker{repo: r, copies: copies, store: store, branch: h.branch, origin: origin, out: map[object.ID]object.ID{},
		manifests: known, lists: map[node]*list{}, logs: map[string]*filelog{}}
	made, err := m.missing(ctx, tips)
	if err != nil || len(made) == 0 {
		return &Making{Of: m.out}, err
	}
	for _, id := range made {
		if err := m.commit(ctx, id); err != nil {
			return nil, fmt.Errorf("making the new changesets: %w", err)
		}
	}
	for _, path := range slices.Sorted(maps.Keys(m.logs)) {
		m.group.files = append(m.group.files, *m.logs[path])
	}
	if err := m.group.write(file); err != nil {
		return nil, err
	}
	out := &Making{Of: m.out}
	for _, id := range made {
		out.Nodes = append(out.Nodes, m.out[id])
	}
	return out, m.mirrorMade(ctx, made)
}

// maker makes changesets.
type maker struct {
	repo      *changes
	copies    map[string]string // uncommitted ones
	store     *object.Overlay
	branch    string
	origin    map[object.ID]object.ID
	out       map[object.ID]object.ID
	manifests map[node]node // of changesets
	lists     map[node]*list
	logs      map[string]*filelog
	group     group
	texts     []*changeset // of the group's changelog
}

// list is a manifest.
type list struct {
	node  node
	files []file
}

func (l *list) find(path string) (file, bool) {
	i, ok := slices.BinarySearchFunc(l.files, path, func(f file, p string) int { return strings.Compare(f.path, p) })
	if !ok {
		return file{}, false
	}
	return l.files[i], true
}

// missing returns the commits below some tips that are no changesets, oldest first.
func (m *maker) missing(ctx context.Context, tips []object.ID) (out []object.ID, err error) {
	seen := map[object.ID]bool{}
	var visit func(id object.ID) error
	visit = func(id object.ID) error {
		if _, known := m.manifests[nodeOf(id)]; known || seen[id] {
			return nil
		}
		seen[id] = true
		c, err := m.store.Commit(ctx, id)
		if err != nil {
			return err
		}
		for _, p := range c.Parents {
			if err := visit(p); err != nil {
				return err
			}
		}
		out = append(out, id)
		return nil
	}
	for _, tip := range tips {
		if err := visit(tip); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// changesetOf returns the changeset of a commit: the one that was made of it, or itself.
func (m *maker) changesetOf(id object.ID) object.ID {
	if of, ok := m.out[id]; ok {
		return of
	}
	return id
}

// manifestOf returns the manifest of a changeset.
func (m *maker) manifestOf(ctx context.Context, of object.ID) (*list, error) {
	n, ok := m.manifests[nodeOf(of)]
	if !ok {
		return nil, fmt.Errorf("there is no changeset %s", of)
	}
	if l := m.lists[n]; l != nil {
		return l, nil
	}
	l := &list{node: n}
	if !n.null() {
		text, err := m.repo.mirror.data(ctx, "-m", n)
		if err != nil {
			return nil, err
		}
		if l.files, err = parseManifest(text); err != nil {
			return nil, err
		}
	}
	m.lists[n] = l
	return l, nil
}

// side is a parent of a commit that is made.
type side struct {
	node node // the changeset; null for none
	list *list
	tree object.ID
}

func (m *maker) side(ctx context.Context, c *object.Commit, i int) (s side, err error) {
	s.list = &list{}
	if i >= len(c.Parents) {
		return s, nil
	}
	of := m.changesetOf(c.Parents[i])
	s.node = nodeOf(of)
	if s.list, err = m.manifestOf(ctx, of); err != nil {
		return s, err
	}
	p, err := m.store.Commit(ctx, c.Parents[i])
	if err == nil {
		s.tree = p.Tree
	}
	return s, err
}

// commit makes a changeset of a commit.
func (m *maker) commit(ctx context.Context, id object.ID) error {
	c, err := m.store.Commit(ctx, id)
	if err != nil {
		return err
	}
	if len(c.Parents) > 2 {
		return errors.New("a changeset has two parents at most")
	}
	one, err := m.side(ctx, c, 0)
	if err != nil {
		return err
	}
	two, err := m.side(ctx, c, 1)
	if err != nil {
		return err
	}
	was, copies, err := m.replaced(ctx, id)
	if err != nil {
		return err
	}
	set, err := m.fields(c, was)
	if err != nil {
		return err
	}
	r := &revising{maker: m, one: one, two: two, copies: copies, is: map[string]file{}, gone: map[string]bool{}}
	if err := r.files(ctx, c.Tree, set); err != nil {
		return err
	}
	l, manifest := r.manifest()
	set.manifest = l.node
	text := set.encode()
	n := hashOf(one.node, two.node, text)
	m.group.changelog = append(m.group.changelog, revision{node: n, p1: one.node, p2: two.node, link: n,
		delta: whole(text)})
	m.texts = append(m.texts, set)
	if manifest != nil {
		manifest.link = n
		m.group.manifests = append(m.group.manifests, *manifest)
	}
	for _, f := range r.made {
		f.rev.link = n
		m.add(f.path, f.rev)
	}
	m.lists[l.node] = l
	m.manifests[n] = l.node
	m.out[id] = n.id()
	return nil
}

// add adds a revision of a file, once.
func (m *maker) add(path string, rev revision) {
	l := m.logs[path]
	if l == nil {
		l = &filelog{path: path}
		m.logs[path] = l
	}
	if !slices.ContainsFunc(l.revs, func(r revision) bool { return r.node == rev.node }) {
		l.revs = append(l.revs, rev)
	}
}

// replaced reads the changeset that a commit is made of again: its commit, and which of its files are copies.
func (m *maker) replaced(ctx context.Context, id object.ID) (*object.Commit, map[string]string, error) {
	of := m.origin[id]
	if of.IsZero() { // of uncommitted work it may be known that files were moved
		return nil, m.copies, nil
	}
	c, err := m.store.Commit(ctx, of)
	if err != nil {
		return nil, nil, err
	}
	out, err := m.repo.run(ctx, "reading what was copied", "log", "-r", of.String(), "-T",
		"{file_copies % '{source}\\0{name}\\0'}")
	if err != nil {
		return nil, nil, err
	}
	copies := map[string]string{}
	for pair := range slices.Chunk(strings.Split(out, "\x00"), 2) {
		if len(pair) == 2 {
			copies[pair[1]] = pair[0]
		}
	}
	return c, copies, nil
}

// fields returns the fields of a changeset for a commit.
func (m *maker) fields(c, was *object.Commit) (*changeset, error) {
	who := c.Author()
	set := &changeset{user: userOf(who), when: who.When, west: west(who.Zone), extra: map[string]string{}}
	if set.user == "" || strings.ContainsAny(set.user, "\n\r") {
		return nil, fmt.Errorf("an author is called %q", set.user)
	}
	var lines []string
	for line := range strings.SplitSeq(c.Text(), "\n") { // as hg strips them
		lines = append(lines, strings.TrimRight(line, " \t\r\v\f"))
	}
	set.message = strings.Trim(strings.Join(lines, "\n"), "\n")
	if was == nil {
		if m.branch != usualBranch {
			set.extra["branch"] = m.branch
		}
		return set, nil
	}
	for _, h := range was.Extra {
		if key, ok := strings.CutPrefix(h.Key, extraHeader); ok {
			set.extra[key] = h.Value
		}
	}
	return set, nil
}

// revising makes the revisions of a changeset's files.
type revising struct {
	*maker
	one, two side
	copies   map[string]string // what a file is a copy of
	is       map[string]file   // files that are not as in the first parent
	gone     map[string]bool
	made     []pathRev
}

type pathRev struct {
	path string
	rev  revision
}

// files finds what a tree has that the first parent does not.
func (r *revising) files(ctx context.Context, tree object.ID, set *changeset) error {
	changes, err := r.store.Changes(ctx, r.one.tree, tree)
	if err != nil {
		return err
	}
	for _, c := range changes {
		if c.New.Absent() {
			r.gone[c.Path] = true
			if _, there := r.two.list.find(c.Path); r.two.node.null() || there {
				set.files = append(set.files, c.Path)
			}
			continue
		}
		if c.New.Mode == object.ModeSubmodule {
			return fmt.Errorf("%s is a submodule of git", c.Path)
		}
		counts, err := r.file(ctx, c)
		if err != nil {
			return err
		}
		if counts {
			set.files = append(set.files, c.Path)
		}
	}
	return nil
}

// file finds or makes the revision of a file. counts reports whether the changeset lists the file: not if it is as in
// the second parent.
func (r *revising) file(ctx context.Context, c object.Change) (counts bool, err error) {
	mine, isMine := r.one.list.find(c.Path)
	other, isOther := r.two.list.find(c.Path)
	flag := flagOf(c.New.Mode)
	if isMine && c.Old.ID == c.New.ID {
		r.is[c.Path] = file{c.Path, mine.node, flag}
		return !isOther || other.flag != flag, nil
	}
	if isOther {
		e, err := r.store.Find(ctx, r.two.tree, c.Path)
		if err != nil {
			return false, err
		}
		if e.ID == c.New.ID {
			r.is[c.Path] = file{c.Path, other.node, flag}
			return other.flag != flag, nil
		}
	}
	data, err := r.store.Blob(ctx, c.New.ID)
	if err != nil {
		return false, err
	}
	p1, p2, meta := mine.node, other.node, ""
	if source, ok := r.source(c.Path, isMine); ok {
		meta, p1 = copyMeta(source.path, source.node), node{}
	}
	switch {
	case p1 == p2:
		p2 = node{}
	case p1.null() && meta == "":
		p1, p2 = p2, node{}
	}
	text := joinMeta(meta, data)
	n := hashOf(p1, p2, text)
	r.is[c.Path] = file{c.Path, n, flag}
	r.made = append(r.made, pathRev{c.Path, revision{node: n, p1: p1, p2: p2, delta: whole(text)}})
	return true, nil
}

// source finds the file of the first parent that a file is a copy of: as it was recorded, or as the second parent has
// it.
func (r *revising) source(path string, isMine bool) (file, bool) {
	if isMine {
		return file{}, false
	}
	from := r.repo.mirror.recorded(path)
	if of, ok := r.copies[path]; ok {
		from = []string{of}
	} else if r.two.node.null() {
		from = nil
	}
	for _, of := range from {
		if f, there := r.one.list.find(of); there {
			return f, true
		}
	}
	return file{}, false
}

// manifest makes the manifest. A changeset that changes no file has that of its parent, and no revision is made.
func (r *revising) manifest() (*list, *revision) {
	if len(r.is) == 0 && len(r.gone) == 0 && r.two.node.null() {
		return r.one.list, nil
	}
	l := &list{}
	left := maps.Clone(r.is)
	for _, f := range r.one.list.files {
		if n, ok := left[f.path]; ok {
			l.files = append(l.files, n)
			delete(left, f.path)
		} else if !r.gone[f.path] {
			l.files = append(l.files, f)
		}
	}
	for _, f := range left {
		l.files = append(l.files, f)
	}
	slices.SortFunc(l.files, func(a, b file) int { return strings.Compare(a.path, b.path) })
	p1, p2 := r.one.list.node, r.two.list.node
	l.node = hashOf(p1, p2, encodeManifest(l.files))
	return l, &revision{node: l.node, p1: p1, p2: p2, base: p1, delta: manifestDelta(r.one.list.files, l.files)}
}

// mirrorMade adds the new changesets to the mirror, so that they can be read before hg has them.
func (m *maker) mirrorMade(ctx context.Context, made []object.ID) error {
	return m.repo.mirror.store.Add(func(w *odb.Writer) error {
		if err := w.PutAll(ctx, m.store, made...); err != nil {
			return err
		}
		for i, id := range made {
			c, err := m.store.Commit(ctx, id)
			if err != nil {
				return err
			}
			set := commitOf(&incoming{&m.group.changelog[i], m.texts[i]}, c.Tree)
			if err := w.Put(m.out[id], object.KindCommit, set.Encode()); err != nil {
				return err
			}
		}
		return nil
	})
}
