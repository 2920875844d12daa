package proposal

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// Precedent is a decision about a place that other proposals may also change, such as a list that everybody appends to.
// Only ways that keep what both sides wrote are precedents: a choice between two texts says nothing about a third.
type Precedent struct {
	Path  string     `json:"path"`
	Base  string     `json:"base"`  // the text of the place before either side changed it
	Above string     `json:"above"` // the line above the place
	Way   settle.Way `json:"way"`
	Of    string     `json:"of"` // name of the proposal for which it was made
}

// Precedents are the decisions of a row of proposals, oldest first.
type Precedents []Precedent

// keepsBoth lists the ways that can be precedents.
var keepsBoth = []settle.Way{settle.YoursTheirs, settle.TheirsYours, settle.Sorted, settle.Weave, settle.Both}

// placeOf describes the place of a question without its present texts.
func placeOf(f *settle.File, q *settle.Question) Precedent {
	at := Precedent{Path: q.Path, Base: q.Base}
	if _, lines := q.Subject.(*merge.Lines); lines && f.Text != nil && q.Place.Base.Lo > 0 {
		at.Above = strings.TrimRight(f.Text.Base[q.Place.Base.Lo-1], "\r\n")
	}
	return at
}

// Find returns the latest precedent for the place of a question.
func (ps Precedents) Find(f *settle.File, q *settle.Question) (Precedent, bool) {
	at := placeOf(f, q)
	for _, p := range slices.Backward(ps) {
		if p.Path == at.Path && p.Base == at.Base && p.Above == at.Above {
			return p, true
		}
	}
	return at, false
}

// settles reports whether a precedent may settle a question. Beyond the order of two additions, which was decided
// then, nothing may speak against it: the way is offered, it is suggested where both changed a text, its result can be
// read, and nothing is there twice.
func (p Precedent) settles(f *settle.File, q *settle.Question) bool {
	o, offered := q.Option(p.Way)
	if !offered || q.Base != "" && q.Suggested != p.Way || q.Suggested == "" && !q.OrderAlone() {
		return false
	}
	v := f.JudgeSuggested(q, o)
	return v.Problem == "" && v.Twice == ""
}

// Apply returns decisions for the open questions of a join that have a precedent.
func (ps Precedents) Apply(j *plan.Join, decided *settle.Decisions) (out []settle.Decision) {
	for f, q := range j.Questions() {
		if _, _, done := decided.For(q); done {
			continue
		}
		if p, ok := ps.Find(f, q); ok && p.settles(f, q) {
			out = append(out, settle.Decision{Key: q.Key, Way: p.Way})
		}
	}
	return out
}

// Add adds the decisions of a join that was made for a proposal.
func (ps *Precedents) Add(j *plan.Join, decided *settle.Decisions, of string) {
	ps.addThose(j, decided, of, func(*settle.Question) bool { return true })
}

// addThose is Add for the questions that may return true for.
func (ps *Precedents) addThose(j *plan.Join, decided *settle.Decisions, of string, may func(*settle.Question) bool) {
	for f, q := range j.Questions() {
		if !may(q) {
			continue
		}
		d, _, ok := decided.For(q)
		before, again := ps.Find(f, q)
		if !ok || again && before.Way == d.Way || !slices.Contains(keepsBoth, d.Way) {
			continue
		}
		p := placeOf(f, q)
		p.Way, p.Of = d.Way, of
		*ps = append(*ps, p)
	}
}
