package recovery

import (
	"sort"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// Meeting is how near both sides came to each other in a file.
type Meeting string

const (
	SameLines  Meeting = "same lines"
	SamePlace  Meeting = "same place"
	SameFile   Meeting = "same file"
	SameChange Meeting = "same change"
	OnlyYours  Meeting = "only yours"
	OnlyTheirs Meeting = "only theirs"
)

// Ground is one file that a side or both changed.
type Ground struct {
	Path          string
	Meeting       Meeting
	Yours, Theirs int // changed lines: the larger of those added and removed; 0 for content that is not text
	YoursWhole    bool
	TheirsWhole   bool // the side changed it, but not line by line
	Author        string
	Decide        bool // it will need a decision
}

// Overlap compares what each side changed since the common ancestor, file by
// file, the closest meetings first.
func (w *Workspace) Overlap(p *Position, j *Join) ([]Ground, error) {
	var out []Ground
	switch {
	case j.Merge != nil:
		list, err := w.groundOf(p, j, j.Merge)
		if err != nil {
			return nil, err
		}
		out = list
	case p.Picking:
		// What a picked commit does not touch has nothing to do with it.
		at := map[string]int{}
		for i := range j.Steps {
			if j.Steps[i].Merge == nil {
				continue
			}
			list, err := w.groundOf(p, j, j.Steps[i].Merge)
			if err != nil {
				return nil, err
			}
			for _, g := range list {
				if g.Meeting == OnlyYours {
					continue
				}
				n, known := at[g.Path]
				if !known {
					at[g.Path] = len(out)
					out = append(out, g)
					continue
				}
				out[n].Theirs += g.Theirs
				out[n].Decide = out[n].Decide || g.Decide
				if nearness[g.Meeting] < nearness[out[n].Meeting] {
					out[n].Meeting = g.Meeting
				}
			}
		}
	}
	sort.SliceStable(out, func(a, b int) bool {
		if out[a].Decide != out[b].Decide {
			return out[a].Decide
		}
		return nearness[out[a].Meeting] < nearness[out[b].Meeting]
	})
	return out, nil
}

var nearness = map[Meeting]int{SameLines: 0, SamePlace: 1, SameFile: 2, SameChange: 3, OnlyYours: 4, OnlyTheirs: 5}

// groundOf lists the files of one join of trees.
func (w *Workspace) groundOf(p *Position, j *Join, r *merge.Result) ([]Ground, error) {
	var out []Ground
	for i := range r.Conflicts {
		c := &r.Conflicts[i]
		g := Ground{Path: c.Path, Meeting: SameLines, Decide: true}
		switch s := c.Subject.(type) {
		case *merge.Lines:
			g.Meeting = SamePlace
			for _, r := range s.Text.Regions {
				if r.Origin == merge.Contested && !r.Base.Empty() {
					g.Meeting = SameLines
				}
			}
		case *merge.Versions:
			if c.Kind == merge.Binary || c.Kind == merge.ModifyDelete || c.Kind == merge.AddAdd {
				g.Meeting = SameFile
			}
		}
		base, yours, theirs := c.Subject.Sides()
		if err := w.measure(&g, base, yours, theirs); err != nil {
			return nil, err
		}
		out = append(out, g)
	}
	// What a conflict also decides is not among what joined by itself.
	placed := map[string]bool{}
	for _, s := range j.Stops {
		for _, c := range s.Result.Conflicts {
			if n, is := c.Subject.(*merge.Naming); is {
				placed[n.At] = true
			}
		}
	}
	files, err := r.Files()
	if err != nil {
		return nil, err
	}
	who := w.Touched(p.Parted.Theirs)
	for _, f := range files {
		if placed[f.Path] {
			continue
		}
		g := Ground{Path: f.Path}
		switch {
		case f.Origin == merge.FromYours:
			g.Meeting = OnlyYours
		case f.Origin == merge.FromTheirs:
			g.Meeting = OnlyTheirs
		case f.Yours.Same(f.Theirs):
			g.Meeting = SameChange
		default:
			g.Meeting = SameFile
		}
		if err := w.measure(&g, f.Base, f.Yours, f.Theirs); err != nil {
			return nil, err
		}
		if g.Meeting == OnlyTheirs && len(files) <= 200 { // names matter where people read them
			n, ok, err := who.Who(f.Path, nil)
			if err != nil {
				return nil, err
			}
			if ok {
				g.Author = n.Author().Name
			}
		}
		out = append(out, g)
	}
	return out, nil
}

func (w *Workspace) measure(g *Ground, base, yours, theirs object.Entry) (err error) {
	if g.Yours, g.YoursWhole, err = w.ChangedLines(base, yours); err != nil {
		return err
	}
	g.Theirs, g.TheirsWhole, err = w.ChangedLines(base, theirs)
	return err
}

// ChangedLines counts the lines that differ between two entries: the larger of
// those added and removed. whole is true where they differ and are not text.
func (w *Workspace) ChangedLines(old, new object.Entry) (n int, whole bool, err error) {
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
		data, err := w.Store.Blob(e.ID)
		if err != nil {
			return 0, false, err
		}
		if !merge.IsText(data) {
			return 0, true, nil
		}
		lines[i] = diff.Lines(string(data))
	}
	added, removed := 0, 0
	for _, e := range diff.Histogram(lines[0], lines[1]) {
		added += e.B1 - e.B0
		removed += e.A1 - e.A0
	}
	return max(added, removed), false, nil
}
