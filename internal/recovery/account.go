package recovery

import (
	"sort"
	"strings"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/history"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
	"dorvik/internal/core/settle"
)

// LeftOut is something a side wrote that the joined result does not hold.
type LeftOut struct {
	Side   settle.Side `json:"side"`
	Author string      `json:"author"`
	Path   string      `json:"path"`
	Line   int         `json:"line"` // in that side's file, from 1; 0 for a whole file
	Text   string      `json:"text"`
}

// LeftOut lists what the decisions leave out, in the order of the conflicts.
// Open conflicts are not in it.
func (w *Workspace) LeftOut(p *Position, j *Join, book *settle.Book) ([]LeftOut, error) {
	var out []LeftOut
	theirs := w.Touched(p.Parted.Theirs)
	all := w.Touched(p.Parted.Yours)
	for _, stop := range j.Stops {
		yours, theirs := all, theirs
		switch one := []history.Node{stop.Commit}; {
		case stop.Commit.Commit == nil:
		case p.Picking:
			theirs = w.Touched(one)
		default:
			yours = w.Touched(one)
		}
		for _, f := range stop.Files {
			for _, c := range f.Conflicts {
				for _, l := range leftOutOf(f, c, book) {
					who := theirs
					if l.Side == settle.SideYours {
						who = yours
					}
					n, ok, err := who.Who(l.Path, []string{l.line})
					if err != nil {
						return nil, err
					}
					if ok {
						l.Author = n.Author().Name
					}
					out = append(out, l.LeftOut)
				}
			}
		}
	}
	return out, nil
}

type lostLine struct {
	LeftOut
	line string // the whole line the words stand in
}

func leftOutOf(f *settle.File, c *settle.Conflict, book *settle.Book) []lostLine {
	d, o, ok := book.For(c)
	if !ok {
		return nil
	}
	if (c.Kind == merge.RenameRename || c.Kind == merge.DirectoryRename) && c.Yours != "nothing" && c.Theirs != "nothing" {
		return nil // only a name is given up
	}
	if c.Whole {
		lost := lostLine{LeftOut: LeftOut{Side: settle.SideYours, Path: c.Path, Text: c.Yours}}
		if d.Way == settle.Yours {
			lost.Side, lost.Text = settle.SideTheirs, c.Theirs
		}
		if lost.Text == "nothing" {
			return nil // a deletion is no text
		}
		lost.Text = "their version of the file"
		if lost.Side == settle.SideYours {
			lost.Text = "your version of the file"
		}
		return []lostLine{lost}
	}
	pieces, _ := f.LeftOut(c, o)
	var out []lostLine
	for _, piece := range pieces {
		line, text := f.Where(c, o, piece)
		out = append(out, lostLine{LeftOut{Side: piece.Side, Path: c.Path, Line: line, Text: piece.Text}, text})
	}
	return out
}

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
		if c.Text != nil {
			g.Meeting = SamePlace
			for _, r := range c.Text.Regions {
				if r.Origin == merge.Contested && !r.Base.Empty() {
					g.Meeting = SameLines
				}
			}
		} else if c.Kind == merge.Binary || c.Kind == merge.ModifyDelete || c.Kind == merge.AddAdd {
			g.Meeting = SameFile
		}
		if err := w.measure(&g, c.Base, c.Yours, c.Theirs); err != nil {
			return nil, err
		}
		out = append(out, g)
	}
	// What a conflict also decides is not among what joined by itself.
	placed := map[string]bool{}
	for _, s := range j.Stops {
		for _, c := range s.Result.Conflicts {
			placed[c.Also] = c.Also != ""
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

// Marks lists the files among those a join changed in which conflict markers
// stand: lines of seven or more <, = or > in the usual order. read is the number of
// files read.
func (w *Workspace) Marks(from, to object.ID) (found []string, read int, err error) {
	changes, err := w.Store.Changes(from, to)
	if err != nil {
		return nil, 0, err
	}
	for _, c := range changes {
		if !c.New.Mode.IsRegular() {
			continue
		}
		data, err := w.Store.Blob(c.New.ID)
		if err != nil {
			return nil, read, err
		}
		if !merge.IsText(data) {
			continue
		}
		read++
		if hasMarks(string(data)) {
			found = append(found, c.Path)
		}
	}
	return found, read, nil
}

func hasMarks(text string) bool {
	next := 0
	signs := []string{"<<<<<<< ", "=======", ">>>>>>> "}
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimSuffix(line, "\r")
		if strings.HasPrefix(line, signs[next]) && (next != 1 || line == signs[1]) {
			if next++; next == len(signs) {
				return true
			}
		}
	}
	return false
}
