package svn

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/mergeinfo"
	"dorvik.dev/dorvik/internal/core/object"
)

// Revisions have no parents on other lines. What was brought from one line into another is in the property
// svn:mergeinfo, and where a line was made as a copy of another one is in the history. From these two this file makes
// commits with the parents that they would have in a system with such; where two lines part is read from those.

// mergeinfoName is the name of the property.
const mergeinfoName = "svn:mergeinfo"

// Ruled returns how a property is joined that has rules of its own: svn:mergeinfo, whose revisions are sets.
func Ruled(path string) func(base, yours, theirs []byte) ([]byte, bool) {
	if _, name, ok := PropertyOf(path); !ok || name != mergeinfoName {
		return nil
	}
	return func(base, yours, theirs []byte) ([]byte, bool) {
		var in [3]mergeinfo.Info
		for i, text := range [][]byte{base, yours, theirs} {
			var err error
			if in[i], err = mergeinfo.Parse(string(text)); err != nil {
				return nil, false
			}
		}
		return []byte(mergeinfo.Join(in[0], in[1], in[2]).String()), true
	}
}

// station is a commit of a line.
type station struct {
	line   string
	rev    int64 // math.MaxInt64 for one that is not checked in
	id     object.ID
	commit *object.Commit
	info   mergeinfo.Info
	shadow object.ID // the commit with all its parents
	bare   bool      // it made the line as a copy, and changed nothing
}

// railway is the lines that are known, and how they are related.
type railway struct {
	store *object.Overlay
	kin   map[string]*kin
	of    map[string][]*station // stations of lines, oldest first
	real  map[object.ID]*station
	at    map[object.ID]*station // by their own ids
}

// railway reads what is known of the lines, up to two commits.
func (r *lines) railway(ctx context.Context, b *base, yours, theirs object.ID, line string) (*railway, error) {
	w := &railway{store: r.store(), kin: map[string]*kin{}, of: map[string][]*station{},
		real: map[object.ID]*station{}, at: map[object.ID]*station{}}
	for _, k := range r.mirror.allKin() {
		w.kin[k.Line] = k
		ids, revs := k.commits(b.uuid)
		if k.Line == b.line {
			continue
		}
		for i, id := range ids {
			if err := w.add(ctx, k.Line, revs[i], id); err != nil {
				return nil, err
			}
			if id == theirs {
				break
			}
		}
	}
	if w.kin[b.line] == nil {
		w.kin[b.line] = r.mirror.kin(b.line)
	}
	var own []object.ID
	for id := yours; ; {
		own = append(own, id)
		c, err := w.store.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		if len(c.Parents) == 0 {
			break
		}
		id = c.Parents[0]
	}
	slices.Reverse(own)
	if k := w.kin[b.line]; k != nil { // what others were made of, before what is known
		ids, _ := k.commits(b.uuid)
		own = append(ids, own...)
	}
	for _, id := range own {
		c, err := w.store.Commit(ctx, id)
		if err != nil {
			return nil, err
		}
		rev := cmp.Or(NumberOf(c), math.MaxInt64)
		if err := w.add(ctx, b.line, rev, id); err != nil {
			return nil, err
		}
	}
	return w, w.connect(ctx)
}

// add adds a commit of a line, the oldest first.
func (w *railway) add(ctx context.Context, line string, rev int64, id object.ID) error {
	c, err := w.store.Commit(ctx, id)
	if err != nil || w.at[id] != nil {
		return err
	}
	s := &station{line: line, rev: rev, id: id, commit: c}
	if s.info, err = infoOf(ctx, w.store, c.Tree, ""); err != nil {
		return err
	}
	w.at[id], w.of[line] = s, append(w.of[line], s)
	return nil
}

// infoOf reads the property of a path of a tree. One that cannot be read counts as none.
func infoOf(ctx context.Context, store *object.Overlay, tree object.ID, path string) (mergeinfo.Info, error) {
	e, err := store.Find(ctx, tree, propPath(path, mergeinfoName))
	if err != nil || e.Absent() {
		return mergeinfo.Info{}, err
	}
	data, err := store.Blob(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	in, err := mergeinfo.Parse(string(data))
	if err != nil {
		return mergeinfo.Info{}, nil
	}
	return in, nil
}

// connect makes the commits with all their parents, the oldest first.
func (w *railway) connect(ctx context.Context) error {
	var all []*station
	for _, line := range sortedKeys(w.of) {
		all = append(all, w.of[line]...)
	}
	slices.SortStableFunc(all, func(a, b *station) int { return cmp.Compare(a.rev, b.rev) })
	last := map[string]*station{}
	merged := map[[2]string]int64{} // the last revision of one line that another one has
	for _, s := range all {
		var parents []object.ID
		if before := last[s.line]; before != nil {
			parents = append(parents, before.shadow)
		} else if k := w.kin[s.line]; k != nil && k.From != "" {
			if from := w.upTo(k.From, k.FromRev); from != nil && from.shadow != (object.ID{}) {
				parents = append(parents, from.shadow)
				s.bare = s.commit.Tree == from.commit.Tree
				merged[[2]string{s.line, k.From}] = from.rev
			}
		}
		for _, other := range sortedKeys(w.of) {
			key := [2]string{s.line, other}
			if other == s.line {
				continue
			}
			if top := w.brought(s, other, merged[key]); top != nil && top.rev > merged[key] {
				merged[key] = top.rev
				parents = append(parents, top.shadow)
			}
		}
		c := *s.commit
		c.Parents = parents
		c.Extra = append(slices.Clone(c.Extra), object.Header{Key: "svn-line", Value: "/" + s.line})
		s.shadow = w.store.PutCommit(&c)
		w.real[s.shadow], last[s.line] = s, s
	}
	return ctx.Err()
}

// upTo returns the last station of a line up to a revision.
func (w *railway) upTo(line string, rev int64) (out *station) {
	for _, s := range w.of[line] {
		if s.rev <= rev {
			out = s
		}
	}
	return out
}

// begins returns the revision of a line after which it has something that another one was not made with.
func (w *railway) begins(other, into string) int64 {
	if k := w.kin[into]; k != nil && k.From == other {
		return k.FromRev
	}
	if k := w.kin[other]; k != nil && k.From != "" {
		return k.Born // it made a copy, and nothing else
	}
	return 0
}

// brought returns the last station of another line up to which a station has everything, or nil.
func (w *railway) brought(s *station, other string, known int64) (top *station) {
	begin := max(w.begins(other, s.line), known)
	for _, o := range w.of[other] {
		switch {
		case o.rev <= begin:
		case o.rev > s.rev || !s.info.Has("/"+other, o.rev):
			return top
		default:
			top = o
		}
	}
	return top
}

// lineOfTip returns the line besides the one that is checked out that has a commit, or an empty text.
func (r *lines) lineOfTip(ctx context.Context, b *base, id object.ID) (string, error) {
	c, err := r.store().Commit(ctx, id)
	if err != nil {
		return "", err
	}
	rev := NumberOf(c)
	for _, k := range r.mirror.allKin() {
		if rev > 0 && k.Line != b.line && revisionID(b.uuid, k.Line, object.ID{}, rev) == id {
			return k.Line, nil
		}
	}
	return "", nil
}

// At returns the address of a file at a commit of another line, with its revision. It is empty for another commit.
func (r *lines) At(ctx context.Context, theirs object.ID, path string) (string, error) {
	s, err := r.look(ctx)
	if err != nil {
		return "", err
	}
	b := s.course.base
	line, err := r.lineOfTip(ctx, b, theirs)
	if err != nil || line == "" {
		return "", err
	}
	n, err := r.Number(ctx, theirs)
	return fmt.Sprintf("%s/%s@%d", strings.TrimSuffix(b.on(line, 0).url, "/"), escaped(path), n), err
}

// Part returns where a commit of the line that is checked out, and one of another line, part: by copies and by
// svn:mergeinfo. It returns nil if theirs is of no other line.
func (r *lines) Part(ctx context.Context, yours, theirs object.ID) (*history.Divergence, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	b := s.course.base
	line, err := r.lineOfTip(ctx, b, theirs)
	if err != nil || line == "" {
		return nil, err
	}
	w, err := r.railway(ctx, b, yours, theirs, line)
	if err != nil {
		return nil, err
	}
	from, to := w.at[yours], w.at[theirs]
	d, err := history.Diverge(ctx, w.store, from.shadow, to.shadow)
	if err != nil {
		return nil, err
	}
	for i, id := range d.Bases {
		d.Bases[i] = w.real[id].id
	}
	d.Yours, d.Theirs = w.nodes(d.Yours, to), w.nodes(d.Theirs, from)
	return d, nil
}

// nodes returns commits as they are, without those that were brought one by one to where another station is, and those
// that only made a line.
func (w *railway) nodes(list []history.Node, other *station) (out []history.Node) {
	for _, n := range list {
		s := w.real[n.ID]
		if !other.info.Has("/"+s.line, s.rev) && !s.bare {
			out = append(out, history.Node{ID: s.id, Commit: s.commit})
		}
	}
	return out
}

// Recorded returns a joined tree with svn:mergeinfo that says what was brought in: all of another line up to theirs,
// or single commits of it. Folders and files with a list of their own get it, too, as theirs counts for them alone.
func (r *lines) Recorded(ctx context.Context, store *object.Overlay, tree, theirs object.ID, picks []object.ID) (
	object.ID, error) {
	s, err := r.look(ctx)
	if err != nil {
		return tree, err
	}
	b := s.course.base
	line, err := r.lineOfTip(ctx, b, theirs)
	if err != nil || line == "" {
		return tree, err
	}
	var ranges []mergeinfo.Range
	for _, id := range picks {
		n, err := r.Number(ctx, id)
		if err != nil {
			return tree, err
		}
		ranges = append(ranges, mergeinfo.Range{After: n - 1, Upto: n})
	}
	if len(picks) == 0 {
		n, err := r.Number(ctx, theirs)
		if err != nil {
			return tree, err
		}
		after := int64(0)
		if own, other := r.mirror.kin(b.line), r.mirror.kin(line); own != nil && own.From == line {
			after = own.FromRev
		} else if other != nil {
			after = other.Born - 1 // svn wants the revision, too, that made the copy
		}
		ranges = append(ranges, mergeinfo.Range{After: after, Upto: n})
	}
	set, err := r.recordedAt(ctx, store, tree, line, ranges)
	if err != nil {
		return tree, err
	}
	return edited(ctx, store, tree, set)
}

// recordedAt returns the properties of a tree with more of another line.
func (r *lines) recordedAt(ctx context.Context, store *object.Overlay, tree object.ID, line string,
	ranges []mergeinfo.Range) (map[string]object.Entry, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	paths := []string{""}
	top, err := store.Find(ctx, tree, strings.TrimSuffix(propsAt, "/"))
	if err == nil && top.IsTree() {
		err = store.EachChange(ctx, object.ID{}, top.ID, func(c object.Change) {
			if path, name, _ := PropertyOf(propsAt + c.Path); name == mergeinfoName && path != "" {
				paths = append(paths, path)
			}
		})
	}
	if err != nil {
		return nil, err
	}
	set := map[string]object.Entry{}
	for _, path := range paths {
		in, err := infoOf(ctx, store, tree, path)
		if err != nil {
			return nil, err
		}
		in.Add(strings.TrimSuffix("/"+line+"/"+path, "/"), ranges...)
		delete(in, strings.TrimSuffix("/"+s.course.base.line+"/"+path, "/")) // it has all of itself
		e := object.Entry{Mode: object.ModeFile, ID: store.Put(object.KindBlob, []byte(in.String()))}
		set[propPath(path, mergeinfoName)] = e
	}
	return set, nil
}
