package settle

import "slices"

// Decision is how a conflict was settled.
type Decision struct {
	Key   Key    `json:"key"`
	Way   Way    `json:"way"`
	Text  string `json:"text,omitempty"`  // the text, for Written
	Moved bool   `json:"moved,omitempty"` // Text belongs at the place the lines were moved to
}

// Decisions holds decisions in order. For one conflict the last one counts. The zero Decisions is empty.
type Decisions struct {
	List   []Decision `json:"Decisions"`
	Undone []Decision `json:"undone,omitempty"` // decisions that were undone, oldest first

	last map[Key]int // set by Indexed: position of the latest decision for each key
}

// fewDecisions is the number of decisions up to which a scan is used.
const fewDecisions = 32

// Indexed returns a read-only copy in which For takes constant time.
func (b *Decisions) Indexed() *Decisions {
	if b.last != nil || len(b.List) <= fewDecisions {
		return b
	}
	out := &Decisions{List: b.List, Undone: b.Undone, last: make(map[Key]int, len(b.List))}
	for i := range b.List {
		out.last[b.List[i].Key] = i
	}
	return out
}

// Decide adds decisions. It forgets the undone ones.
func (b *Decisions) Decide(d ...Decision) {
	b.List, b.Undone, b.last = append(slices.Clip(b.List), d...), nil, nil
}

// Undo removes the last decision and returns it. ok is false if there is none.
func (b *Decisions) Undo() (d Decision, ok bool) {
	if len(b.List) == 0 {
		return d, false
	}
	last := len(b.List) - 1
	d = b.List[last]
	b.List, b.Undone, b.last = b.List[:last], append(slices.Clip(b.Undone), d), nil
	return d, true
}

// Redo restores the decision that was undone last and returns it. ok is false if there is none.
func (b *Decisions) Redo() (d Decision, ok bool) {
	if len(b.Undone) == 0 {
		return d, false
	}
	last := len(b.Undone) - 1
	d = b.Undone[last]
	b.List, b.Undone, b.last = append(slices.Clip(b.List), d), b.Undone[:last], nil
	return d, true
}

// For returns the decision about a question and the option that it chooses.
func (b *Decisions) For(c *Question) (d Decision, o Option, ok bool) {
	if b.last != nil {
		i, known := b.last[c.Key]
		if !known {
			return Decision{}, Option{}, false
		}
		o, ok = c.of(b.List[i])
		return b.List[i], o, ok
	}
	for i := len(b.List) - 1; i >= 0; i-- {
		if d = b.List[i]; d.Key == c.Key {
			o, ok = c.of(d)
			return d, o, ok
		}
	}
	return Decision{}, Option{}, false
}

// of returns the option that a decision chooses.
func (q *Question) of(d Decision) (Option, bool) {
	if d.Way == Written && !q.Whole() {
		return q.written(d)
	}
	return q.Option(d.Way)
}

// written returns the option of a text written by hand.
func (q *Question) written(d Decision) (Option, bool) {
	if !d.Moved {
		return Option{Way: Written, Text: d.Text}, true
	}
	for _, o := range q.Ways {
		if o.Moved != nil {
			m := *o.Moved
			m.Text = d.Text
			return Option{Way: Written, Text: o.Text, Moved: &m}, true
		}
	}
	return Option{}, false
}

// Prefer returns the first of the preferred ways that a question offers.
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
