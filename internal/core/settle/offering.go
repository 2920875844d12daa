package settle

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// offer lists the ways of a region and marks the one to suggest.
func (c *Question) offer(at place, moves *mover) {
	offer := func(o Option) {
		_, ok := c.Option(o.Way)
		if !ok && (o.Text != c.Yours && o.Text != c.Theirs || o.Moved != nil) {
			c.Ways = append(c.Ways, o)
		}
	}
	add := func(w Way, text, reason string) { c.Ways = append(c.Ways, Option{Way: w, Text: text, Reason: reason}) }
	// Where the common ancestors disagree themselves, there is no one base to weave
	// into or to go back to.
	oneBase := !strings.Contains(c.Base, merge.OneAncestor)
	if oneBase {
		if o, ok := moves.follow(c); ok {
			offer(o)
		}
		for _, o := range c.better(at) {
			offer(o)
		}
	}
	better := len(c.Ways) > 0
	if woven, ok := WeaveText(c.Base, c.Yours, c.Theirs); ok && oneBase && woven != c.Base {
		offer(Option{Way: Weave, Text: woven, Reason: "the edits touch other words"})
	}
	var twice [2]string
	if better && c.Ways[0].Moved != nil {
		if c.Ways[0].Moved.Side == merge.Yours {
			twice[1] = "the lines you moved are there twice"
		} else {
			twice[0] = "the lines they moved are there twice"
		}
	}
	add(Yours, c.Yours, twice[0])
	add(Theirs, c.Theirs, twice[1])
	if c.Yours != "" && c.Theirs != "" {
		add(YoursTheirs, concat(c.Yours, c.Theirs), "")
		add(TheirsYours, concat(c.Theirs, c.Yours), "")
	}
	if oneBase {
		add(Base, c.Base, "")
	}

	holds := func(result string, other merge.Side) bool {
		out, kept := LeftOut(c.Base, c.Yours, c.Theirs, result)
		return CountWords(out, other) == 0 && CountWords(kept, other) == 0
	}
	switch _, weave := c.Option(Weave); {
	case better:
		c.Suggested, c.Why = c.Ways[0].Way, c.Ways[0].Reason
	case weave && keepsHalf(c.Base, c.Yours) && keepsHalf(c.Base, c.Theirs):
		c.Suggested, c.Why = Weave, "the edits touch other words"
	case holds(c.Yours, merge.Theirs):
		c.Suggested, c.Why = Yours, "yours already holds all that they changed here"
	case holds(c.Theirs, merge.Yours):
		c.Suggested, c.Why = Theirs, "theirs already holds all that you changed here"
	case c.Base == "" && c.Yours != "" && c.Theirs != "" && !at.cut:
		c.Suggested, c.Why = TheirsYours, "both added lines here; theirs came first"
	}
}

// keepsHalf reports whether a side left at least half of the base's words
// standing. Where it did not, weaving joins words that no longer belong
// together.
func keepsHalf(base, side string) bool {
	words := diff.Words(base)
	gone := removed(words, diff.Words(side))
	kept, all := 0, 0
	for i, w := range words {
		if diff.IsWord(w) {
			all++
			if !gone[i] {
				kept++
			}
		}
	}
	return 2*kept >= all
}

// veto takes suggestions back where the file would not parse with them.
func (f *File) veto() {
	if f.problem(f.standIn) == "" {
		return
	}
	for _, c := range f.Questions {
		if !c.Whole() && c.Suggested != Yours && c.Suggested != Theirs {
			c.Suggested, c.Why = "", ""
		}
	}
}

// standIn is what a place holds as long as it is not settled.
func (f *File) standIn(c *Question) Option {
	if o, ok := c.Option(c.Suggested); ok {
		return o
	}
	return Option{Way: Yours, Text: c.Yours}
}
