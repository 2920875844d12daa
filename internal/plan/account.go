package plan

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/account"
	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/words"
)

// LeftOut is a change of one side that the result does not contain.
type LeftOut struct {
	Side   merge.Side   `json:"side"`
	Author string       `json:"author"`
	Path   string       `json:"path"`
	Line   int          `json:"line"` // line in that side's file, from 1; 0 if the side has no such line
	Text   string       `json:"text"` // the lost text; "deleted" for a deletion that was not kept
	What   account.Kind `json:"what"`
	Kept   string       `json:"kept,omitempty"` // the deleted line that is back
	Mend   bool         `json:"mend,omitempty"` // a mend removed it
}

// Where returns the file and, if there is one, the line.
func (l LeftOut) Where() string {
	if l.Line > 0 {
		return fmt.Sprintf("%s:%d", l.Path, l.Line)
	}
	return l.Path
}

// Says tells what is left out, among all that is: a name is given up for another unless its file is left out, too.
func (l LeftOut) Says(all []LeftOut) string {
	if l.What != account.Name {
		return words.LeftOut(l.Text, l.Kept, l.Mend)
	}
	if slices.ContainsFunc(all, func(o LeftOut) bool {
		return o.What == account.File && o.Path == l.Path && o.Side == l.Side
	}) {
		return "this name"
	}
	return "this name; kept under another"
}

// compared is one comparison of a side's changes with the result.
type compared struct {
	side                     merge.Side
	base, tip, other, result object.ID // trees
	commits                  []history.Node
}

// LeftOut lists what of either side the result of a join does not hold. It is computed from trees: the sides, what they
// started from, and the result, whoever decided what, and how. Paths with an open conflict are left out, and so are
// files that a command makes again. Cost follows what both sides changed.
func (a *Accounts) LeftOut(ctx context.Context, p *Position, j *Join, decisions *settle.Decisions) ([]LeftOut, error) {
	list, err := a.comparisons(ctx, p, j)
	if err != nil {
		return nil, err
	}
	passed := a.undecided(j, decisions.Indexed())
	var out []LeftOut
	for _, c := range list {
		entries, err := account.Of(ctx, a.p.Engine, c.base, c.tip, c.other, c.result)
		if err != nil {
			return nil, err
		}
		who := a.p.Annotator(c.commits)
		for _, e := range entries {
			if passed[e.Path] {
				continue
			}
			l := c.leftOut(e)
			if l.Author, err = authorOf(ctx, who, c.commits, e); err != nil {
				return nil, err
			}
			l.Mend = e.Kind == account.Line && mended(p, j, e.Text)
			if !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	}
	return out, nil
}

// leftOut converts an entry of the comparison.
func (c *compared) leftOut(e account.Entry) LeftOut {
	l := LeftOut{Side: c.side, Path: e.Path, Line: e.Line, Text: e.Text, What: e.Kind, Kept: e.Kept}
	switch e.Kind {
	case account.Deletion:
		l.Text = "deleted"
	case account.File:
		l.Text = words.Given(c.side, "version of the file")
	case account.Name:
		l.Text = "the name " + e.Path
	case account.Mode:
		l.Text = e.Mode.Describe()
	}
	return l
}

// authorOf returns the author of the left-out change, or an empty string.
func authorOf(ctx context.Context, who *history.Annotator, commits []history.Node, e account.Entry) (string, error) {
	if of := Authors(commits); len(of) < 2 {
		return strings.Join(of, ""), nil
	}
	var lines []string
	if e.Full != "" {
		lines = []string{e.Full}
	}
	n, ok, err := who.Editor(ctx, e.Path, lines)
	if err != nil || !ok {
		return "", err
	}
	return n.Author().Name, nil
}

// comparisons returns the comparisons for a join.
func (a *Accounts) comparisons(ctx context.Context, p *Position, j *Join) (out []compared, err error) {
	carried, err := a.carriedComparisons(ctx, p, j)
	if err != nil {
		return nil, err
	}
	switch {
	case p.SettlesOnly():
		t := p.Stuck.trees
		out = []compared{{side: merge.Yours, base: t.Base, tip: t.Yours, other: t.Theirs, result: j.Carried.Staged},
			{side: merge.Theirs, base: t.Base, tip: t.Theirs, other: t.Yours, result: j.Carried.Staged}}
	case p.Trivial() != NotTrivial:
	case p.IsPick():
		out, err = a.pickComparisons(ctx, j)
	default:
		out, err = a.lineComparisons(ctx, p, j)
	}
	return append(out, carried...), err
}

// lineComparisons compares both lines with the result.
func (a *Accounts) lineComparisons(ctx context.Context, p *Position, j *Join) ([]compared, error) {
	base, err := a.p.Engine.BaseTree(ctx, p.Divergence.Bases)
	if err != nil {
		return nil, err
	}
	yours := compared{side: merge.Yours, base: base, result: j.Tree, commits: p.Divergence.Yours}
	if n := len(p.TakenOut); n > 0 && len(p.Divergence.Theirs) > 0 { // somebody removed them from theirs
		yours.base = p.TakenOut[0].Tree
	}
	if yours.tip, err = a.p.Tree(ctx, p.Yours); err != nil {
		return nil, err
	}
	out := []compared{yours}
	others := []object.ID{p.Theirs}
	if p.Resumes() != nil && len(p.Resumes().Merged) > 1 {
		others = p.Resumes().Merged
	}
	for _, id := range others {
		theirs := compared{side: merge.Theirs, base: base, result: j.Tree, commits: p.Divergence.Theirs}
		if len(others) > 1 {
			parted, err := history.Diverge(ctx, a.p.Store, p.Yours, id)
			if err != nil {
				return nil, err
			}
			if theirs.base, err = a.p.Engine.BaseTree(ctx, parted.Bases); err != nil {
				return nil, err
			}
		}
		if theirs.tip, err = a.p.Tree(ctx, id); err != nil {
			return nil, err
		}
		theirs.other, out[0].other = yours.tip, theirs.tip
		out = append(out, theirs)
	}
	return out, nil
}

// renamedSince maps renamed files of a tree to their earlier content.
func (a *Accounts) renamedSince(ctx context.Context, before, onto object.ID, files map[string]object.Entry) error {
	for path, e := range maps.Clone(files) {
		if !e.Absent() {
			continue
		}
		from, err := a.p.Engine.CameFrom(ctx, before, onto, path)
		if err != nil {
			return err
		}
		if from == "" {
			continue
		}
		if files[from], err = a.p.Store.Find(ctx, before, from); err != nil {
			return err
		}
	}
	return nil
}

// pickComparisons compares picked commits with the result. A run of commits is compared as one change, because a later
// one can remove what an earlier one added.
func (a *Accounts) pickComparisons(ctx context.Context, j *Join) (out []compared, err error) {
	for first := 0; first < len(j.Steps); {
		end := first + 1
		for end < len(j.Steps) && follows(&j.Steps[end], &j.Steps[end-1]) {
			end++
		}
		if passedOver(&j.Steps[first]) {
			first = end
			continue
		}
		both, err := a.pickComparison(ctx, j, first, end)
		if err != nil {
			return nil, err
		}
		out = append(out, both...)
		first = end
	}
	return out, nil
}

// passedOver reports whether a step adds nothing.
func passedOver(st *replay.Step) bool { return st.Outcome == replay.AlreadyThere || st.Stands() }

// follows reports whether a step continues the run of another.
func follows(st, before *replay.Step) bool {
	parents := st.Commit.Parents
	return !passedOver(st) && !passedOver(before) && len(parents) == 1 && parents[0] == before.Commit.ID
}

// pickComparison compares a run of steps with the result.
func (a *Accounts) pickComparison(ctx context.Context, j *Join, first, end int) ([]compared, error) {
	before, err := history.FirstParentTree(ctx, a.p.Store, j.Steps[first].Commit.Commit)
	if err != nil {
		return nil, err
	}
	onto, err := a.p.Tree(ctx, j.onto)
	if first > 0 && err == nil {
		onto, err = j.Steps[first-1].Tree(ctx)
	}
	if err != nil {
		return nil, err
	}
	after := j.Tree
	if end < len(j.Steps) {
		if after, err = j.Steps[end-1].Tree(ctx); err != nil {
			return nil, err
		}
	}
	var commits []history.Node // newest first
	for i := end - 1; i >= first; i-- {
		commits = append(commits, j.Steps[i].Commit)
	}
	tip := commits[0].Tree
	// The steps can lose only what they changed.
	changed := map[string]object.Entry{}
	err = a.p.Store.EachChange(ctx, onto, after, func(c object.Change) { changed[c.Path] = object.Entry{} })
	if err != nil {
		return nil, err
	}
	for path := range changed {
		e, err := a.p.Store.Find(ctx, before, path)
		if err != nil {
			return nil, err
		}
		if !e.IsTree() {
			changed[path] = e
		}
	}
	if err := a.renamedSince(ctx, before, onto, changed); err != nil {
		return nil, err
	}
	base, err := a.p.Store.Edit(ctx, onto, changed)
	if err != nil {
		return nil, err
	}
	return []compared{{side: merge.Theirs, base: before, tip: tip, other: onto, result: after, commits: commits},
		{side: merge.Yours, base: base, tip: onto, other: tip, result: after}}, nil
}

// carriedComparisons compares uncommitted work with its carried version.
func (a *Accounts) carriedComparisons(ctx context.Context, p *Position, j *Join) (out []compared, err error) {
	if j.Carried == nil || p.Carried == nil {
		return nil, nil
	}
	for _, part := range p.Carried.Parts {
		c := compared{side: merge.Yours, base: part.Base, tip: part.Tree, other: j.Tree, result: j.Carried.Files}
		if part.Tree != j.Carried.Files {
			c.commits = []history.Node{a.p.node(ctx, p.Carried, part)}
		}
		out = append(out, c)
	}
	return out, nil
}

// undecided returns the paths that the account skips: open conflicts and generated files.
func (a *Accounts) undecided(j *Join, decisions *settle.Decisions) map[string]bool {
	out := map[string]bool{}
	for f, q := range j.Questions() {
		if _, _, ok := decisions.For(q); ok {
			continue
		}
		for _, path := range []string{f.Path, f.From, f.Also, q.Path} {
			out[path] = path != ""
		}
	}
	for _, m := range j.Regenerations {
		if m.Made {
			out[m.Path] = true
		}
	}
	return out
}

// mended reports whether a mend or a commit edit removed the line.
func mended(p *Position, j *Join, line string) bool {
	count := func(text string) (n int) {
		for _, l := range diff.Lines(text) {
			if strings.TrimSpace(l) == line {
				n++
			}
		}
		return n
	}
	return slices.ContainsFunc(append(editedIn(p, j), j.mended...), func(m Mend) bool {
		return count(m.Before) > count(m.After)
	})
}

// editedIn returns the edits of single commits that applied.
func editedIn(p *Position, j *Join) (out []Mend) {
	for i := range j.Steps {
		st := &j.Steps[i]
		request := p.Requests[st.Commit.ID]
		if request.Edits == nil {
			continue
		}
		for _, one := range request.Edits.List {
			if slices.Contains(st.Edited, one.Path) {
				out = append(out, Mend(one))
			}
		}
	}
	return out
}

// FilesOf returns the text files that a replayed commit changes.
func (rd *Reader) FilesOf(ctx context.Context, st *replay.Step) (out []string, err error) {
	before, err := history.FirstParentTree(ctx, rd.Store, st.Commit.Commit)
	if err != nil {
		return nil, err
	}
	changes, err := rd.Store.Changes(ctx, before, st.Commit.Tree)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		if _, ok, err := rd.TextAfter(ctx, st, c.Path); err != nil {
			return nil, err
		} else if ok {
			out = append(out, c.Path)
		}
	}
	return out, nil
}

// Cost is the cost of a request.
type Cost struct {
	Left []LeftOut // edits that the result would lose in addition
	Asks int       // open decisions
	Lost error     // why the route would be impossible
}

// Same reports whether two entries describe the same change.
func (l LeftOut) Same(m LeftOut) bool {
	return l.Side == m.Side && l.Path == m.Path && l.Line == m.Line && l.Text == m.Text && l.What == m.What
}
