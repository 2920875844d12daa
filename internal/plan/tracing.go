package plan

import (
	"context"
	"path"
	"slices"

	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
)

// Cause is a decision that caused an error.
type Cause struct {
	Stop   int // index among the join's stops
	Key    settle.Key
	Path   string
	Way    settle.Way
	Commit history.Node // the replayed commit; zero for a merge

	Missing string // a name that the decision left out; empty if the decision made the line itself
}

// CausesOf returns, for each reported place, the decision that caused the error, or nil. That is the decision that put
// the line there or, if a name is missing, the one that left out its definition.
func (rd *Reader) CausesOf(ctx context.Context, j *Join, decisions *settle.Decisions,
	places []diagnose.Place) ([]*Cause, error) {
	out := make([]*Cause, len(places))
	decisions = decisions.Indexed()
	for s := len(j.Stops) - 1; s >= 0; s-- { // the last decision counts
		stop := &j.Stops[s]
		if stop.Uncommitted {
			continue
		}
		for _, f := range stop.Files {
			of, err := rd.tracedIn(ctx, j, f, decisions)
			if err != nil {
				return nil, err
			}
			for i, at := range places {
				if out[i] != nil {
					continue
				}
				q, missing := of.line(at), ""
				if q == nil {
					q, missing = of.lacking(at)
				}
				if q == nil {
					continue
				}
				d, _, _ := decisions.For(q)
				out[i] = &Cause{Stop: s, Key: q.Key, Path: q.Path, Way: d.Way, Commit: stop.Commit, Missing: missing}
			}
		}
	}
	return out, nil
}

// traced is the effect of the decisions on one file at a stop.
type traced struct {
	path  string
	lines map[int]*settle.Question    // by line of the joined text, from 1: the question that decided it
	names map[string]*settle.Question // by name: the question whose decision left its definition out
}

func (rd *Reader) tracedIn(ctx context.Context, j *Join, f *settle.File, decisions *settle.Decisions) (*traced, error) {
	t := &traced{path: f.Path, lines: map[int]*settle.Question{}, names: map[string]*settle.Question{}}
	whole := false
	for _, q := range f.Questions {
		_, o, ok := decisions.For(q)
		if !ok {
			continue
		}
		var lost, kept []string
		if !q.Whole() {
			yours, theirs, result := f.Sides(q, o)
			lost, kept = append(diff.Lines(yours), diff.Lines(theirs)...), diff.Lines(result)
		} else if v, ok := q.Subject.(*merge.Versions); ok && (o.Way == settle.Yours || o.Way == settle.Theirs) {
			whole = true
			taken, left := v.Yours, v.Theirs
			if o.Way == settle.Theirs {
				taken, left = left, taken
			}
			var err error
			if lost, err = rd.linesOf(ctx, left); err != nil {
				return nil, err
			}
			if kept, err = rd.linesOf(ctx, taken); err != nil {
				return nil, err
			}
		}
		has := misfit.Defines(f.Path, kept)
		for _, name := range misfit.Defines(f.Path, lost) {
			if !slices.Contains(has, name) {
				t.names[name] = q
			}
		}
	}
	if whole || f.Text == nil {
		return t, nil
	}
	return t, rd.traceLines(ctx, t, j, f, decisions)
}

// traceLines finds which decision put each line of the joined text there.
func (rd *Reader) traceLines(ctx context.Context, t *traced, j *Join, f *settle.File,
	decisions *settle.Decisions) error {
	joined, ok, err := rd.TextAt(ctx, j.Tree, f.Path)
	if err != nil || !ok {
		return err
	}
	var there []string
	var by []*settle.Question
	for _, p := range f.Parts(func(q *settle.Question) settle.Option {
		_, o, _ := decisions.For(q)
		return o
	}) {
		for _, l := range p.Lines {
			there, by = append(there, l), append(by, p.Of)
		}
	}
	from, to := 0, 0
	lines := diff.Lines(joined)
	for _, e := range append(diff.Histogram(there, lines), diff.Edit{A0: len(there), A1: len(there), B0: len(lines)}) {
		for ; from < e.A0; from, to = from+1, to+1 {
			if by[from] != nil {
				t.lines[to+1] = by[from]
			}
		}
		from, to = e.A1, e.B1
	}
	return nil
}

// linesOf returns the lines of a file, or nil.
func (rd *Reader) linesOf(ctx context.Context, e object.Entry) ([]string, error) {
	if !e.Mode.IsRegular() {
		return nil, nil
	}
	text, err := rd.Store.Blob(ctx, e.ID)
	return diff.Lines(string(text)), err
}

// line returns the question whose decision put a line there.
func (t *traced) line(at diagnose.Place) *settle.Question {
	if at.Path != t.path {
		return nil
	}
	return t.lines[at.Line]
}

// lacking returns the question whose decision left out the definition of a name in an error. File and place must be of
// one language.
func (t *traced) lacking(at diagnose.Place) (*settle.Question, string) {
	if path.Ext(at.Path) != path.Ext(t.path) {
		return nil, ""
	}
	best := ""
	for name := range t.names {
		if misfit.HasName(at.Text, name) && (len(name) > len(best) || len(name) == len(best) && name < best) {
			best = name
		}
	}
	return t.names[best], best
}

// Sentence describes how an error follows from a decision.
func (c *Cause) Sentence() string {
	if c.Missing != "" {
		return "You settled " + c.Path + " by “" + c.Way.Label() + "”, which leaves " + c.Missing + " out."
	}
	return "You settled this line, by “" + c.Way.Label() + "”."
}

// Diagnose finds the places of the joined tree that a check's output mentions. The check ran in the given directory.
func (rd *Reader) Diagnose(ctx context.Context, tree object.ID, output []string, dir string) ([]diagnose.Place, error) {
	files, err := rd.Store.Changes(ctx, object.ID{}, tree)
	if err != nil {
		return nil, err
	}
	byName := map[string][]string{}
	for _, f := range files {
		base := path.Base(f.Path)
		byName[base] = append(byName[base], f.Path)
	}
	return diagnose.Places(output, dir, func(base string) []string { return byName[base] }), nil
}
