package proposal

import (
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Row is a number of proposals that are joined into one branch, one after the other.
type Row struct {
	Branch     string     `json:"branch"` // the branch here
	Into       vcs.Line   `json:"into"`   // the branch that it follows
	Before     object.ID  `json:"before"` // its tip before the first of them
	Why        string     `json:"why,omitempty"`
	Items      []Item     `json:"items"`
	Precedents Precedents `json:"precedents,omitempty"`
}

// Item is a proposal in a row.
type Item struct {
	Name    string    `json:"name"`
	Title   string    `json:"title"`
	Line    vcs.Line  `json:"line"`
	Tip     object.ID `json:"tip"` // its commit when the row began
	By      []string  `json:"by"`  // authors, "you" among them
	Commits int       `json:"commits"`

	State    State     `json:"state"`
	Why      string    `json:"why,omitempty"`      // why it was left out, as a clause
	At       object.ID `json:"at,omitzero"`        // the branch's tip that has it
	Waypoint string    `json:"waypoint,omitempty"` // the waypoint of the join
	Checked  string    `json:"checked,omitempty"`  // what the check said of the result, as a sentence
	Decided  int       `json:"decided,omitempty"`  // decisions that a person made for it
	Again    []string  `json:"again,omitempty"`    // decisions that were made for an earlier one, as clauses
}

// State tells what became of a proposal in a row.
type State string

// The states.
const (
	Waiting State = ""
	Joined  State = "joined"
	LeftOut State = "left-out"
)

// NewRow returns a row of proposals in order.
func NewRow(branch string, before object.ID, s *Sequence, of func(i int) Forecast) *Row {
	r := &Row{Branch: branch, Into: s.List[0].Into, Before: before, Why: s.Why}
	for i, p := range s.List {
		f := of(i)
		r.Items = append(r.Items, Item{Name: p.Name, Title: p.Title(), Line: p.Line, Tip: p.Last.ID, By: f.By,
			Commits: f.Commits})
	}
	return r
}

// Clone returns a copy that shares no items with the row. The clone of nil is nil.
func (r *Row) Clone() *Row {
	if r == nil {
		return nil
	}
	out := *r
	out.Items, out.Precedents = slices.Clone(r.Items), slices.Clone(r.Precedents)
	return &out
}

// Current returns the item whose turn it is, or nil if the row is finished.
func (r *Row) Current() *Item {
	for i := range r.Items {
		if r.Items[i].State == Waiting {
			return &r.Items[i]
		}
	}
	return nil
}

// Count returns the number of items in a state.
func (r *Row) Count(s State) (n int) {
	for i := range r.Items {
		if r.Items[i].State == s {
			n++
		}
	}
	return n
}

// Sentence says how far the row is.
func (r *Row) Sentence() string {
	text := fmt.Sprintf("%s into %s: %d joined, %d left out", words.Count(len(r.Items), "proposal", "proposals"),
		r.Branch,
		r.Count(Joined), r.Count(LeftOut))
	if n := r.Count(Waiting); n > 0 {
		return text + fmt.Sprintf(", %d to go.", n)
	}
	return text + "."
}
