package settle

import "slices"

// Decision is how a conflict was settled.
type Decision struct {
	Key   Key    `json:"key"`
	Way   Way    `json:"way"`
	Text  string `json:"text,omitempty"`  // for Written
	Moved bool   `json:"moved,omitempty"` // Text is for the place the lines were moved to
}

// Decisions is the decisions made, in order. Later ones on the same conflict stand.
// The zero Decisions is empty.
type Decisions struct {
	List []Decision `json:"Decisions"`
}

// Decide adds a decision.
func (b *Decisions) Decide(d Decision) { b.List = append(slices.Clip(b.List), d) }

// Undo takes the last decision back and gives it; ok is false if there is none.
func (b *Decisions) Undo() (d Decision, ok bool) {
	if len(b.List) == 0 {
		return d, false
	}
	last := len(b.List) - 1
	d = b.List[last]
	b.List = b.List[:last]
	return d, true
}

// For gives the decision on a conflict, and what it chooses.
func (b *Decisions) For(c *Question) (d Decision, o Option, ok bool) {
	for i := len(b.List) - 1; i >= 0; i-- {
		if d = b.List[i]; d.Key == c.Key {
			if d.Way == Written && !c.Whole() {
				o, ok = c.written(d)
			} else {
				o, ok = c.Option(d.Way)
			}
			return d, o, ok
		}
	}
	return Decision{}, Option{}, false
}

// written is the option of a text by hand.
func (c *Question) written(d Decision) (Option, bool) {
	if !d.Moved {
		return Option{Way: Written, Text: d.Text}, true
	}
	for _, o := range c.Ways {
		if o.Moved != nil {
			m := *o.Moved
			m.Text = d.Text
			return Option{Way: Written, Text: o.Text, Moved: &m}, true
		}
	}
	return Option{}, false
}

// Prefer gives the first of the preferred ways that a conflict offers.
func Prefer(c *Question, ways []Way) (Way, bool) {
	for _, w := range ways {
		if w == Suggested {
			w = c.Suggested
		}
		if _, ok := c.Option(w); ok {
			return w, true
		}
	}
	return "", false
}
