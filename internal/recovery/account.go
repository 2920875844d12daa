package recovery

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// Given is what kind of thing was given up: made by a side, and not held by the result.
type Given string

// What can be given up.
const (
	GivenLine     Given = "line"
	GivenFile     Given = "file" // a version of a whole file, or what a link or a submodule points at
	GivenDeletion Given = "deletion"
	GivenName     Given = "name"
	GivenMode     Given = "mode"
)

// LeftOut is something a side made that the joined result does not hold.
type LeftOut struct {
	Side   merge.Side `json:"side"`
	Author string     `json:"author"`
	Path   string     `json:"path"`
	Line   int        `json:"line"` // in that side's file, from 1; 0 where it is not about a line that side has
	Text   string     `json:"text"` // "deleted" for a deletion that was overruled
	What   Given      `json:"what"`
	Kept   string     `json:"kept,omitempty"` // the line that stands though it was deleted
	Mend   bool       `json:"mend,omitempty"` // a mend took it away

	whole []string // the lines by which its author is found
}

// editedIn are the edits that were made to single commits, as far as they fit.
func editedIn(p *Position, j *Join) (out []Mend) {
	for i := range j.Steps {
		st := &j.Steps[i]
		wish := p.Wishes[st.Commit.ID]
		if wish.Edits == nil {
			continue
		}
		for _, one := range wish.Edits.List {
			if slices.Contains(st.Edited, one.Path) {
				out = append(out, Mend(one))
			}
		}
	}
	return out
}

// LeftOut lists what the decisions leave out, in the order of the conflicts, and then
// what mends took away. Open conflicts are not in it.
func (w *Workspace) LeftOut(p *Position, j *Join, decisions *settle.Decisions) ([]LeftOut, error) {
	decisions = decisions.Indexed()
	yours, theirs := w.Annotator(p.Divergence.Yours), w.Annotator(p.Divergence.Theirs)
	a := &account{authors: map[merge.Side][]string{
		merge.Yours: Authors(p.Divergence.Yours), merge.Theirs: Authors(p.Divergence.Theirs)}}
	for _, stop := range j.Stops {
		a.yours, a.theirs = yours, theirs
		switch one := []history.Node{stop.Commit}; {
		case stop.Commit.Commit == nil:
		case p.Picking && !stop.Uncommitted:
			a.theirs = w.Annotator(one)
		default:
			a.yours = w.Annotator(one)
		}
		for _, f := range stop.Files {
			for _, c := range f.Questions {
				d, o, ok := decisions.For(c)
				if !ok || d.Way == settle.Anew && j.made(f.Path) || d.Way == settle.Both && !c.Whole() {
					continue
				}
				list, err := w.givenUpAt(p, stop, f, c, o)
				if err != nil {
					return nil, err
				}
				if err := a.add(list, f.From, f.Also); err != nil {
					return nil, err
				}
			}
		}
	}
	for i := range j.Steps {
		if st := &j.Steps[i]; st.Outcome == replay.Dropped {
			side := merge.Yours
			if a.yours = w.Annotator([]history.Node{st.Commit}); p.Picking {
				side, a.yours, a.theirs = merge.Theirs, yours, a.yours
			}
			list, err := w.dropped(st.Commit, side, j.Tree)
			if err != nil {
				return nil, err
			}
			if err := a.add(list); err != nil {
				return nil, err
			}
		}
	}
	a.yours, a.theirs = yours, theirs
	for _, m := range append(editedIn(p, j), j.mended...) {
		list, err := w.mendedAway(p, m)
		if err != nil {
			return nil, err
		}
		if err := a.add(list); err != nil {
			return nil, err
		}
	}
	return a.list, nil
}

// givenUpAt lists what a decision at a stop gives up, under the names that it has there.
func (w *Workspace) givenUpAt(p *Position, stop Stop, f *settle.File, c *settle.Question,
	o settle.Option) ([]LeftOut, error) {
	list, err := w.givenUp(f, c, o, stop.replays(p))
	if err != nil {
		return nil, err
	}
	if err := w.underItsName(stop.Result, c, list); err != nil {
		return nil, err
	}
	if stop.Uncommitted {
		// The commits hold what is theirs there, whatever the files do.
		return slices.DeleteFunc(list, func(l LeftOut) bool { return l.Side == merge.Theirs }), nil
	}
	if stop.Commit.Commit == nil {
		return list, nil
	}
	return w.alsoOf(p, stop.Result, list)
}

// account is the list as it grows, with whom its entries can be by.
type account struct {
	list          []LeftOut
	authors       map[merge.Side][]string
	yours, theirs *history.Annotator
}

// add adds entries with their authors. paths are other names of their files.
func (a *account) add(list []LeftOut, paths ...string) error {
	for _, l := range list {
		who := a.theirs
		if l.Side == merge.Yours {
			who = a.yours
		}
		if of := a.authors[l.Side]; len(of) == 1 {
			l.Author = of[0]
		}
		for _, path := range append([]string{l.Path}, paths...) {
			if path == "" || l.Author != "" {
				continue
			}
			n, ok, err := who.Editor(path, l.whole)
			if err != nil {
				return err
			}
			if ok {
				l.Author = n.Author().Name
			}
		}
		a.list = append(a.list, l)
	}
	return nil
}

// alsoOf adds to what is given up at a stop of a replay: a file of the line that is
// replayed onto can hold what commits replayed before brought into it, and then
// is a version of both sides.
func (w *Workspace) alsoOf(p *Position, r *merge.Result, list []LeftOut) ([]LeftOut, error) {
	onto, tip, at := merge.Theirs, p.Theirs, r.Given.Theirs
	if p.Picking {
		onto, tip, at = merge.Yours, p.Yours, r.Given.Yours
	}
	tree, err := w.Tree(tip)
	if err != nil {
		return nil, err
	}
	for _, l := range slices.Clone(list) {
		if l.Side != onto || l.What != GivenFile {
			continue
		}
		was, err := w.Store.Find(tree, l.Path)
		if err != nil {
			return nil, err
		}
		is, err := w.Store.Find(at, l.Path)
		if err != nil {
			return nil, err
		}
		if !was.Same(is) {
			list = append(list, wholeFile(onto.Other(), l.Path))
		}
	}
	return list, nil
}

// underItsName has a version of a renamed file that is given up be named as the side that
// has it names it.
func (w *Workspace) underItsName(r *merge.Result, c *settle.Question, list []LeftOut) error {
	v, ok := c.Subject.(*merge.Versions)
	if !ok || v.From == "" {
		return nil
	}
	for i, l := range list {
		version, tree := v.Yours, r.Given.Yours
		if l.Side == merge.Theirs {
			version, tree = v.Theirs, r.Given.Theirs
		}
		if l.What != GivenFile {
			continue
		}
		if at, err := w.Store.Find(tree, v.From); err != nil {
			return err
		} else if at.Same(version) {
			list[i].Path = v.From
		}
	}
	return nil
}

// replays is the side whose commit is replayed at a stop; empty for a merge.
func (s *Stop) replays(p *Position) merge.Side {
	switch {
	case s.Commit.Commit == nil:
		return ""
	case p.Picking && !s.Uncommitted:
		return merge.Theirs
	}
	return merge.Yours
}

// givenUp lists what an option of a conflict does without. At a stop of a replay, replayed
// is the side whose earlier commits the base comes from.
func (w *Workspace) givenUp(f *settle.File, c *settle.Question, o settle.Option, replayed merge.Side) ([]LeftOut,
	error) {
	switch s := c.Subject.(type) {
	case *merge.Lines:
		return append(lostLines(f, c, o), takenOutByHand(c, o, replayed)...), nil
	case *merge.Versions:
		return lostVersions(c, s, o), nil
	case *merge.Clash:
		return w.lostInClash(c, s, o)
	case *merge.Naming:
		return lostNames(s, merge.Side(o.Way)), nil
	}
	return nil, nil
}

// lostLines lists the lines that a side wrote and an option does not hold, and those a
// side took out and it holds all the same. Where a text was woven, a line is
// lost if a word of its edit is.
func lostLines(f *settle.File, c *settle.Question, o settle.Option) (out []LeftOut) {
	yours, theirs, text := f.Sides(c, o)
	base, result := diff.Lines(c.Base), diff.Lines(text)
	pieces, _ := f.LeftOut(c, o)
	byWords := o.Way == settle.Weave
	stands, changed := unchanged(base, result), make([]bool, len(base))
	for _, e := range diff.Histogram(base, result) {
		for i := e.A0; i < e.A1; i++ {
			changed[i] = e.B1 > e.B0
		}
	}
	for _, side := range []struct {
		of   merge.Side
		text string
	}{{merge.Yours, yours}, {merge.Theirs, theirs}} {
		lines := diff.Lines(side.text)
		held := unchanged(lines, result)
		for _, e := range diff.Histogram(base, lines) {
			lost := 0
			for i := e.B0; i < e.B1; i++ {
				if held[i] || strings.TrimSpace(lines[i]) == "" ||
					byWords && !slices.ContainsFunc(pieces, func(p settle.Piece) bool {
						return p.Side == side.of &&
							p.Line == i
					}) {
					continue
				}
				lost++
				line, whole := f.Where(c, o, settle.Piece{Side: side.of, Line: i})
				out = append(out, LeftOut{Side: side.of, Path: c.Path, Line: line, What: GivenLine,
					Text: strings.TrimSpace(whole), whole: []string{whole}})
			}
			if lost > 0 {
				continue // what the side put in the place of lines says that it took them out
			}
			for i := e.A0; i < e.A1; i++ {
				// A line that was only taken out is there, too, if the result has it as the other changed it.
				if (stands[i] || changed[i] && e.B0 == e.B1) && strings.TrimSpace(base[i]) != "" {
					out = append(out, LeftOut{Side: side.of, Path: c.Path, What: GivenDeletion, Text: "deleted",
						Kept: strings.TrimSpace(base[i]), whole: base[i : i+1]})
				}
			}
		}
	}
	return out
}

// takenOutByHand lists lines of the base that at least one side left as they were, and that
// whoever wrote the place left out: at a stop of a replay, where the base is an earlier
// commit of the replayed side, they may be what that commit wrote.
func takenOutByHand(c *settle.Question, o settle.Option, replayed merge.Side) (out []LeftOut) {
	if o.Way != settle.Written || replayed == "" {
		return nil
	}
	base := diff.Lines(c.Base)
	yours, theirs, held := unchanged(base, diff.Lines(c.Yours)), unchanged(base, diff.Lines(c.Theirs)),
		unchanged(base, diff.Lines(o.Text))
	for i, line := range base {
		if (yours[i] || theirs[i]) && !held[i] && strings.TrimSpace(line) != "" {
			out = append(out, LeftOut{Side: replayed, Path: c.Path, What: GivenLine, Text: strings.TrimSpace(line),
				whole: base[i : i+1]})
		}
	}
	return out
}

// unchanged marks the lines of a that b has in their place.
func unchanged(a, b []string) []bool {
	out := make([]bool, len(a))
	at := 0
	for _, e := range diff.Histogram(a, b) {
		for ; at < e.A0; at++ {
			out[at] = true
		}
		at = e.A1
	}
	for ; at < len(a); at++ {
		out[at] = true
	}
	return out
}

func wholeFile(side merge.Side, path string) LeftOut {
	return LeftOut{Side: side, Path: path, What: GivenFile, Text: words.Given(side, "version of the file")}
}

func deleted(side merge.Side, path string) LeftOut {
	return LeftOut{Side: side, Path: path, What: GivenDeletion, Text: "deleted"}
}

func lostName(side merge.Side, path string) LeftOut {
	return LeftOut{Side: side, Path: path, What: GivenName, Text: "the name " + path}
}

func lostVersions(c *settle.Question, v *merge.Versions, o settle.Option) (out []LeftOut) {
	if o.Way == settle.Both {
		return []LeftOut{lostName(merge.Yours, c.Path)}
	}
	side, lost, taken := merge.Theirs, v.Theirs, v.Yours
	if o.Way == settle.Theirs {
		side, lost, taken = merge.Yours, v.Yours, v.Theirs
	}
	switch {
	case c.Kind == merge.ModeBits:
		return []LeftOut{{Side: side, Path: c.Path, What: GivenMode, Text: lost.Mode.Describe()}}
	case lost.Same(taken):
		return nil
	case lost.Absent():
		return []LeftOut{deleted(side, c.Path)}
	}
	out = append(out, wholeFile(side, c.Path))
	if c.Kind == merge.RenameDelete {
		out = append(out, lostName(side, c.Path))
	}
	return out
}

func (w *Workspace) lostInClash(c *settle.Question, s *merge.Clash, o settle.Option) (out []LeftOut, err error) {
	file := s.File()
	directory, is := s.Yours, file.Other()
	if is == merge.Theirs {
		directory = s.Theirs
	}
	changes, err := w.Store.Changes(s.Base.Subtree(), directory.Subtree())
	if err != nil {
		return nil, err
	}
	if o.Way == settle.Way(file) {
		if !s.Base.Absent() && !s.Base.IsTree() {
			out = append(out, deleted(is, c.Path))
		}
		for _, ch := range changes {
			if !ch.New.Absent() {
				out = append(out, wholeFile(is, c.Path+"/"+ch.Path))
			}
		}
		for _, m := range s.Within {
			out = append(out, lostName(is, m.To))
		}
		return out, nil
	}
	if o.Way == settle.Both {
		out = append(out, lostName(file, c.Path))
	} else {
		out = append(out, wholeFile(file, c.Path))
	}
	// Whoever put a file in a directory's place took away what was in it.
	if s.Base.IsTree() {
		was, err := w.Store.Changes(object.ID{}, s.Base.ID)
		if err != nil {
			return nil, err
		}
		for _, ch := range was {
			at, err := w.Store.Find(directory.ID, ch.Path)
			if err != nil {
				return nil, err
			}
			if !at.Absent() {
				out = append(out, deleted(file, c.Path+"/"+ch.Path))
			}
		}
	}
	return out, nil
}

func lostNames(n *merge.Naming, taken merge.Side) (out []LeftOut) {
	chosen, other := n.Of(taken), taken.Other()
	for _, m := range chosen.Moves {
		switch {
		case m.To == "":
			out = append(out, wholeFile(n.Placer, m.From))
		case m.From != n.At: // it made room
			out = append(out, lostName(other, m.From))
		}
	}
	lost := n.Of(other)
	if lost.Name != "" && lost.Name != chosen.Name && (n.Also != "" || n.Placer == other || len(lost.Moves) > 0) {
		out = append(out, lostName(other, lost.Name))
	}
	return out
}

// mendedAway lists the lines of either side that a mend took out of the joined text.
func (w *Workspace) mendedAway(p *Position, m Mend) (out []LeftOut, err error) {
	tips := merge.Three[object.ID]{Base: p.Base(), Yours: p.Yours, Theirs: p.Theirs}
	numbers, err := merge.MapThree(tips, func(commit object.ID) (map[string]int, error) { // of lines, by their texts
		numbers := map[string]int{}
		if commit.IsZero() {
			return numbers, nil
		}
		tree, err := w.Tree(commit)
		if err != nil {
			return nil, err
		}
		text, _, err := w.TextAt(tree, m.Path) // none where the file is new, or has another name
		for n, l := range diff.Lines(text) {
			numbers[strings.TrimSpace(l)] = n + 1
		}
		return numbers, err
	})
	if err != nil {
		return nil, err
	}
	before, after := diff.Lines(m.Before), diff.Lines(m.After)
	gone := map[string]int{} // how many times fewer a line is there; one that only moved is not gone
	for _, l := range before {
		gone[strings.TrimSpace(l)]++
	}
	for _, l := range after {
		gone[strings.TrimSpace(l)]--
	}
	for _, e := range diff.Histogram(before, after) {
		for _, line := range before[e.A0:e.A1] {
			l := strings.TrimSpace(line)
			if l == "" || numbers.Base[l] > 0 || gone[l] <= 0 {
				continue
			}
			gone[l]--
			woven := numbers.Yours[l]+numbers.Theirs[l] == 0 // of both sides' words
			for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
				if at := (*numbers.Of(side))[l]; woven || at > 0 {
					out = append(out, LeftOut{Side: side, Path: m.Path, Line: at, What: GivenLine,
						Text: l, Mend: true, whole: []string{line}})
				}
			}
		}
	}
	return out, nil
}
