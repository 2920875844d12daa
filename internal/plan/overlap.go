package plan

import (
	"context"
	"runtime"
	"slices"
	"sort"

	"golang.org/x/sync/errgroup"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// OverlapKind tells how close the edits of both sides are in a file.
type OverlapKind string

// The kinds, the nearest first.
const (
	SameLines  OverlapKind = "same lines"
	samePlace  OverlapKind = "same place"
	SameFile   OverlapKind = "same file"
	SameChange OverlapKind = "same change"
	OnlyYours  OverlapKind = "only yours"
	OnlyTheirs OverlapKind = "only theirs"
)

// Overlap is a file that one side or both changed.
type Overlap struct {
	Path     string
	Kind     OverlapKind
	Conflict merge.ConflictKind // kind of the conflict; empty if there is none
	From     string             // old path, if one side renamed the file and the other changed it
	Author   string
	Decide   bool // a decision is needed

	Counted bool // CountLines has counted the lines
	// Yours and Theirs count changed lines: the larger of added and removed; 0 for content that is not text.
	Yours, Theirs int
	YoursWhole    bool
	TheirsWhole   bool                        // the side changed the file, but not line by line
	changes       []merge.Three[object.Entry] // versions whose lines are counted
}

// Overlaps compares the changed files of both sides, closest edits first. Line counts are missing; see CountLines.
func (pn *Planner) Overlaps(ctx context.Context, p *Position, j *Join) ([]Overlap, error) {
	var out []Overlap
	merged := j.Merge
	if p.Resumes() != nil && p.Stuck.Left.Operation == vcs.Rebasing { // some steps of the rebase are done
		var err error
		if merged, err = pn.over(ctx, p.Divergence.Bases, p.Yours, p.Theirs); err != nil {
			return nil, err
		}
	}
	switch {
	case merged != nil:
		list, err := pn.overlapsOf(ctx, p, j, merged)
		if err != nil {
			return nil, err
		}
		out = list
	case j.Route == Pick:
		// Files that a picked commit does not touch do not matter.
		at := map[string]int{}
		for i := range j.Steps {
			if j.Steps[i].Merge == nil {
				continue
			}
			list, err := pn.overlapsOf(ctx, p, j, j.Steps[i].Merge)
			if err != nil {
				return nil, err
			}
			for _, g := range list {
				if g.Kind == OnlyYours {
					continue
				}
				n, ok := at[g.Path]
				if !ok {
					at[g.Path] = len(out)
					out = append(out, g)
					continue
				}
				out[n].changes = append(out[n].changes, merge.Three[object.Entry]{Theirs: g.changes[0].Theirs,
					Base: g.changes[0].Base, Yours: g.changes[0].Base})
				out[n].Decide = out[n].Decide || g.Decide
				if nearness[g.Kind] < nearness[out[n].Kind] {
					out[n].Kind = g.Kind
				}
			}
		}
	}
	sort.SliceStable(out, func(a, b int) bool {
		if out[a].Decide != out[b].Decide {
			return out[a].Decide
		}
		return nearness[out[a].Kind] < nearness[out[b].Kind]
	})
	return out, nil
}

var nearness = map[OverlapKind]int{SameLines: 0, samePlace: 1, SameFile: 2, SameChange: 3, OnlyYours: 4, OnlyTheirs: 5}

// readAhead is the number of files whose versions are read at once.
const readAhead = 64

// CountLines fills in the missing line counts, on all processors.
func (rd *Reader) CountLines(ctx context.Context, list []Overlap) error {
	var all errgroup.Group
	all.SetLimit(runtime.GOMAXPROCS(0))
	for part := range slices.Chunk(list, readAhead) {
		all.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			var ids []object.ID
			for i := range part {
				for _, c := range part[i].changes {
					for _, e := range []object.Entry{c.Base, c.Yours, c.Theirs} {
						if e.Mode.IsRegular() && !part[i].Counted {
							ids = append(ids, e.ID)
						}
					}
				}
			}
			rd.Store.Prefetch(ctx, ids...)
			for i := range part {
				if err := rd.countIn(ctx, &part[i]); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return all.Wait()
}

// countIn counts the lines of one file.
func (rd *Reader) countIn(ctx context.Context, o *Overlap) error {
	if o.Counted {
		return nil
	}
	for _, c := range o.changes {
		yours, whole, err := rd.changedLines(ctx, c.Base, c.Yours)
		if err != nil {
			return err
		}
		o.Yours, o.YoursWhole = o.Yours+yours, o.YoursWhole || whole
		theirs, whole, err := rd.changedLines(ctx, c.Base, c.Theirs)
		if err != nil {
			return err
		}
		o.Theirs, o.TheirsWhole = o.Theirs+theirs, o.TheirsWhole || whole
	}
	o.Counted = true
	return nil
}

// overlapsOf returns the overlaps of one merge.
func (rd *Reader) overlapsOf(ctx context.Context, p *Position, j *Join, r *merge.Result) ([]Overlap, error) {
	var out []Overlap
	for i := range r.Conflicts {
		c := &r.Conflicts[i]
		o := Overlap{Path: c.Path, Kind: kindOf(c), Conflict: c.Kind, Decide: true}
		base, yours, theirs := c.Subject.Sides()
		o.changes = []merge.Three[object.Entry]{{Base: base, Yours: yours, Theirs: theirs}}
		out = append(out, o)
	}
	// Paths in conflicts did not join by themselves.
	placed := map[string]bool{}
	for _, s := range j.Stops {
		for _, c := range s.Result.Conflicts {
			if n, ok := c.Subject.(*merge.Naming); ok {
				placed[n.At] = true
			}
		}
	}
	files, err := r.Files(ctx)
	if err != nil {
		return nil, err
	}
	named := len(files) <= 200 // renames are only found for lists that people read
	for _, f := range files {
		if placed[f.Path] {
			continue
		}
		o, err := rd.overlapOf(ctx, p, f, named)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// kindOf returns how close the edits of a conflict are.
func kindOf(c *merge.Conflict) OverlapKind {
	switch s := c.Subject.(type) {
	case *merge.Lines:
		for _, r := range s.Text.Hunks {
			if r.Origin == merge.Contested && !r.Base.Empty() {
				return SameLines
			}
		}
		return samePlace
	case *merge.Versions:
		if c.Kind == merge.Binary || c.Kind == merge.ModifyDelete || c.Kind == merge.AddAdd {
			return SameFile
		}
	}
	return SameLines
}

// overlapOf returns the overlap of a file without conflict.
func (rd *Reader) overlapOf(ctx context.Context, p *Position, f merge.Joined, named bool) (Overlap, error) {
	o := Overlap{Path: f.Path, changes: []merge.Three[object.Entry]{{Base: f.Base, Yours: f.Yours, Theirs: f.Theirs}}}
	var err error
	switch {
	case f.Yours.Same(f.Theirs):
		o.Kind = SameChange
	case f.Origin == merge.FromYours:
		o.Kind = OnlyYours
		if o.From, err = rd.renamed(ctx, p.Theirs, f); err != nil {
			return o, err
		}
	case f.Origin == merge.FromTheirs:
		o.Kind = OnlyTheirs
		if o.From, err = rd.renamed(ctx, p.Yours, f); err != nil {
			return o, err
		}
	default:
		o.Kind, o.From = SameFile, f.From
	}
	if o.From != "" {
		o.Kind = SameFile // one side changed the content, the other the name
	}
	if o.Kind != OnlyTheirs || !named {
		return o, nil
	}
	n, ok, err := rd.Annotator(p.Divergence.Theirs).Editor(ctx, f.Path, nil)
	if ok {
		o.Author = n.Author().Name
	}
	return o, err
}

// renamed returns the old name of a file that a side renamed, or an empty string.
func (rd *Reader) renamed(ctx context.Context, tip object.ID, f merge.Joined) (string, error) {
	if f.From == "" {
		return "", nil
	}
	tree, err := rd.Tree(ctx, tip)
	if err != nil {
		return "", err
	}
	if e, err := rd.Store.Find(ctx, tree, f.From); err != nil || !e.Absent() {
		return "", err
	}
	return f.From, nil
}

// changedLines returns the number of added or removed lines, whichever is larger. whole is true for files that are no
// text.
func (rd *Reader) changedLines(ctx context.Context, old, new object.Entry) (n int, whole bool, err error) {
	if old.Same(new) {
		return 0, false, nil
	}
	var lines [2][]string
	for i, e := range []object.Entry{old, new} {
		if e.Absent() {
			continue
		}
		if !e.Mode.IsRegular() {
			return 0, true, nil
		}
		data, err := rd.Store.Blob(ctx, e.ID)
		if err != nil {
			return 0, false, err
		}
		if !merge.IsText(data) {
			return 0, true, nil
		}
		lines[i] = diff.Lines(object.Shared(data))
	}
	added, removed := 0, 0
	for _, e := range diff.Histogram(lines[0], lines[1]) {
		added += e.B1 - e.B0
		removed += e.A1 - e.A0
	}
	return max(added, removed), false, nil
}
