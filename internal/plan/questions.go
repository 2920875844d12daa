package plan

import (
	"context"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/settle"
)

// Attributed is a conflict with the commits that made its two edits.
type Attributed struct {
	Stop     int // index among the join's stops
	File     *settle.File
	Question *settle.Question
	Yours    history.Node // zero if no commit is known
	Theirs   history.Node
	Wrote    [2]history.Writers // the commits behind yours' and theirs' lines; empty where a single one is known
	Decision *settle.Decision   // nil while it is open
	First    string             // why it is asked before others; empty if there is no reason
}

// Attribute returns the conflicts of a join in the order in which they are asked.
func (pn *Planner) Attribute(ctx context.Context, p *Position, j *Join, decisions *settle.Decisions) ([]Attributed,
	error) {
	var out []Attributed
	decisions = decisions.Indexed()
	for i, stop := range j.Stops {
		files, why := inOrder(stop.Files)
		for _, f := range files {
			for _, c := range f.Questions {
				q := Attributed{Stop: i, File: f, Question: c, First: why[f]}
				if p.IsPick() && !stop.Uncommitted {
					q.Theirs = stop.Commit
				} else {
					q.Yours = stop.Commit
				}
				if d, _, ok := decisions.For(c); ok {
					q.Decision = &d
				}
				if err := pn.attributeOne(ctx, p, &q); err != nil {
					return nil, err
				}
				out = append(out, q)
			}
		}
	}
	return out, nil
}

// attributeOne finds the commits of the two edits.
func (pn *Planner) attributeOne(ctx context.Context, p *Position, q *Attributed) (err error) {
	var yours, theirs []string // the lines of each edit
	if c := q.Question; !c.Whole() {
		yours = q.File.Text.Yours[c.Place.Yours.Lo:c.Place.Yours.Hi]
		theirs = q.File.Text.Theirs[c.Place.Theirs.Lo:c.Place.Theirs.Hi]
	}
	if q.Yours.Commit == nil {
		if q.Yours, q.Wrote[0], err = editor(ctx, pn.Annotator(p.Divergence.Yours), q.File, yours); err != nil {
			return err
		}
	}
	if q.Theirs.Commit == nil {
		q.Theirs, q.Wrote[1], err = editor(ctx, pn.Annotator(p.Divergence.Theirs), q.File, theirs)
	}
	return err
}

// editor returns the last commit that made an edit, and all commits that made parts of it. It follows renames.
func editor(ctx context.Context, t *history.Annotator, f *settle.File, lines []string) (n history.Node,
	all history.Writers, err error) {
	for _, path := range f.Names() {
		if path == "" {
			continue
		}
		if all, err = t.Writers(ctx, path, lines); err != nil || len(all.Commits) > 0 {
			if err == nil {
				n = all.Commits[0]
			}
			return n, all, err
		}
	}
	return n, all, nil
}

// Preferred returns decisions for the first stop with open conflicts that the preferred ways settle.
func (j *Join) Preferred(decisions *settle.Decisions, prefer []settle.Way) (out []settle.Decision) {
	decisions = decisions.Indexed()
	seen := map[settle.Key]bool{}
	for _, stop := range j.Stops {
		for _, f := range stop.Files {
			for _, c := range f.Questions {
				if _, _, settled := decisions.For(c); settled || seen[c.Key] {
					continue
				}
				w, ok := settle.Prefer(c, prefer)
				if ok && !(w == settle.Anew && stop.Uncommitted) { // uncommitted files are not regenerated
					seen[c.Key] = true
					out = append(out, settle.Decision{Key: c.Key, Way: w})
				}
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return nil
}
