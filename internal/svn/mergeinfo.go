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

// lineCommit is a commit of a line.
type lineCommit struct {
	line   string
	rev    int64 // math.MaxInt64 for one that is not checked in
	id     object.ID
	commit *object.Commit
	info   mergeinfo.Info
	shadow object.ID // the commit with all its parents
	bare   bool      // it made the line as a copy, and changed nothing
}

// lineGraph is the commits of all lines that are known, and what was brought from one into another.
type lineGraph struct {
	store *object.Overlay
	known map[string]*otherLine
	of    map[string][]*lineCommit  // by line, oldest first
	real  map[object.ID]*lineCommit // by the ids of the commits with all their parents
	at    map[object.ID]*lineCommit // by the ids that the rest of Dorvik knows

}

// lineGraph reads what is known of the lines, up to two commits.
func (r *lines) lineGraph(ctx context.Context, b *base, yours, theirs object.ID) (*lineGraph, error) {
	w := &lineGraph{store: r.store(), known: map[string]*otherLine{}, of: map[string][]*lineCommit{},
		real: map[object.ID]*lineCommit{}, at: map[object.ID]*lineCommit{}}
	for _, k := range r.mirror.otherLines() {
		w.known[k.Line] = k
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
	if w.known[b.line] == nil {
		w.known[b.line] = r.mirror.otherLine(b.line)
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
	if k := w.known[b.line]; k != nil { // what others were made of, before what is known
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
func (w *lineGraph) add(ctx context.Context, line string, rev int64, id object.ID) error {
	c, err := w.store.Commit(ctx, id)
	if err != nil || w.at[id] != nil {
		return err
	}
	s := &lineCommit{line: line, rev: rev, id: id, commit: c}
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
func (w *lineGraph) connect(ctx context.Context) error {
	var all []*lineCommit
	for _, line := range sortedKeys(w.of) {
		all = append(all, w.of[line]...)
	}
	slices.SortStableFunc(all, func(a, b *lineCommit) int { return cmp.Compare(a.rev, b.rev) })
	last := map[string]*lineCommit{}
	merged := map[[2]string]int64{} // the last revision of one line that another one has
	for _, s := range all {
		var parents []object.ID
		if before := last[s.line]; before != nil {
			parents = append(parents, before.shadow)
		} else if k := w.known[s.line]; k != nil && k.From != "" {
			if from := w.upTo(k.From, k.FromRev); from != nil && !from.shadow.IsZero() {
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
			if top := w.mergedUpTo(s, other, merged[key]); top != nil && top.rev > merged[key] {
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

// upTo returns the last lineCommit of a line up to a revision.
func (w *lineGraph) upTo(line string, rev int64) (out *lineCommit) {
	for _, s := range w.of[line] {
		if s.rev <= rev {
			out = s
		}
	}
	return out
}

// startsAfter returns the revision of a line after which it has something that another one was not made with.
func (w *lineGraph) startsAfter(other, into string) int64 {
	if k := w.known[into]; k != nil && k.From == other {
		return k.FromRev
	}
	if k := w.known[other]; k != nil && k.From != "" {
		return k.Born // it made a copy, and nothing else
	}
	return 0
}

// mergedUpTo returns the last commit of another line up to which a commit has everything, by its svn:mergeinfo, or nil.
// known is the revision up to which that is known already.
func (w *lineGraph) mergedUpTo(s *lineCommit, other string, known int64) (top *lineCommit) {
	begin := max(w.startsAfter(other, s.line), known)
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
	for _, k := range r.mirror.otherLines() {
		if rev > 0 && k.Line != b.line && revisionID(b.uuid, k.Line, object.ID{}, rev) == id {
			return k.Line, nil
		}
	}
	return "", nil
}

// At returns the address of a line at a commit of it, and the revision. The address is empty for a commit of no other
// line.
func (r *lines) At(ctx context.Context, theirs object.ID) (url string, rev int64, err error) {
	s, err := r.recent(ctx)
	if err != nil {
		return "", 0, err
	}
	line, err := r.lineOfTip(ctx, s.course.base, theirs)
	if err != nil || line == "" {
		return "", 0, err
	}
	rev, err = r.Number(ctx, theirs)
	return s.course.base.on(line, 0).url, rev, err
}

// Copied returns the argument of svn for a file of a line at an address, in a revision.
func Copied(url, path string, rev int64) string {
	return fmt.Sprintf("%s/%s@%d", url, escaped(path), rev)
}

// Part returns where a commit of the line that is checked out, and one of another line, part: by copies and by
// svn:mergeinfo. It returns nil if theirs is of no other line.
func (r *lines) Part(ctx context.Context, yours, theirs object.ID) (*history.Divergence, error) {
	s, err := r.recent(ctx)
	if err != nil {
		return nil, err
	}
	b := s.course.base
	line, err := r.lineOfTip(ctx, b, theirs)
	if err != nil || line == "" {
		return nil, err
	}
	w, err := r.lineGraph(ctx, b, yours, theirs)
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

// nodes returns commits as they are, without those that were brought one by one to where another commit is, and
// those that only made a line.
func (w *lineGraph) nodes(list []history.Node, other *lineCommit) (out []history.Node) {
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
	s, err := r.recent(ctx)
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
		if own, other := r.mirror.otherLine(b.line), r.mirror.otherLine(line); own != nil && own.From == line {
			after = own.FromRev
		} else if other != nil {
			after = other.Born - 1 // svn wants the revision, too, that made the copy
		}
		ranges = append(ranges, mergeinfo.Range{After: after, Upto: n})
	}
	set, err := recorded(ctx, store, tree, b.line, line, ranges)
	if err != nil {
		return tree, err
	}
	return edited(ctx, store, tree, set)
}

// recorded returns the properties of a tree of a line with more of another one.
func recorded(ctx context.Context, store *object.Overlay, tree object.ID, own, line string,
	ranges []mergeinfo.Range) (map[string]object.Entry, error) {
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
		delete(in, strings.TrimSuffix("/"+own+"/"+path, "/")) // it has all of itself
		e := object.Entry{Mode: object.ModeFile, ID: store.Put(object.KindBlob, []byte(in.String()))}
		set[propPath(path, mergeinfoName)] = e
	}
	return set, nil
}
