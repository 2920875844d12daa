package decided

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/settle"
)

// Answer is what stands in one place of a Text. Its question is nil if nothing was asked there.
type Answer struct {
	Of   *settle.Question
	Way  settle.Way
	Line int // from 0, in the text
	Text string
	Was  string // set where nothing was asked: the text joined by itself
}

// Answers finds the contents of the contested places of a text. If everything else is as it joins by itself, that is
// exact: the text is read part by part, and each place is matched against the offered ways before it counts as
// written. Otherwise the places are found by comparing the text with both sides' lines in them, and other differences
// are reported too.
func Answers(f *settle.File, text []string) []Answer {
	parts := f.Parts(func(q *settle.Question) settle.Option {
		o, _ := q.Option(settle.Yours)
		return settle.Option{Way: o.Way, Text: o.Text} // without the lines that it would move
	})
	m := &matcher{parts: parts, text: text, failed: map[[2]int]bool{}}
	if m.match(0, 0) {
		slices.Reverse(m.found)
		return m.found
	}
	return compared(parts, text)
}

// matcher reads a text part by part and backtracks if a part does not match.
type matcher struct {
	parts  []settle.Part
	text   []string
	failed map[[2]int]bool
	found  []Answer // newest first
}

const maxSplits = 2000 // most splits of a hand-written text that are compared

func (m *matcher) match(part, at int) bool {
	if part == len(m.parts) {
		return at == len(m.text)
	}
	if m.failed[[2]int{part, at}] || len(m.failed) > maxSplits {
		return false
	}
	p := m.parts[part]
	if p.Of == nil {
		if m.stands(p.Lines, at) && m.match(part+1, at+len(p.Lines)) {
			return true
		}
		m.failed[[2]int{part, at}] = true
		return false
	}
	for _, o := range p.Of.Ways {
		if o.Moved != nil || o.Way == settle.AsBefore {
			continue // Moved changes another place, which is compared itself. Remembered is not a way of its own.
		}
		if lines := diff.Lines(o.Text); m.stands(lines, at) && m.match(part+1, at+len(lines)) {
			m.found = append(m.found, Answer{Of: p.Of, Way: o.Way, Line: at, Text: o.Text})
			return true
		}
	}
	for _, way := range []settle.Way{settle.Base} { // a person may take the base even where it is not offered
		if lines := diff.Lines(p.Of.Base); m.stands(lines, at) && m.match(part+1, at+len(lines)) {
			m.found = append(m.found, Answer{Of: p.Of, Way: way, Line: at, Text: p.Of.Base})
			return true
		}
	}
	for end := at; end <= len(m.text); end++ {
		if part+1 < len(m.parts) && m.parts[part+1].Of == nil && !m.stands(m.parts[part+1].Lines, end) {
			continue
		}
		if m.match(part+1, end) {
			m.found = append(m.found, Answer{Of: p.Of, Way: settle.Written, Line: at,
				Text: strings.Join(m.text[at:end], "")})
			return true
		}
	}
	m.failed[[2]int{part, at}] = true
	return false
}

func (m *matcher) stands(lines []string, at int) bool {
	return at+len(lines) <= len(m.text) && slices.Equal(m.text[at:at+len(lines)], lines)
}

// compared finds the places of a text with more changes than the questions asked for.
func compared(parts []settle.Part, text []string) (out []Answer) {
	var joined []string
	var places []place
	for _, p := range parts {
		if p.Of == nil {
			joined = append(joined, p.Lines...)
			continue
		}
		lo := len(joined)
		joined = append(joined, diff.Lines(p.Of.Yours)...)
		joined = append(joined, diff.Lines(p.Of.Theirs)...)
		places = append(places, place{p.Of, lo, len(joined)})
	}
	edits := diff.Histogram(joined, text)
	for _, p := range places {
		from, to := p.within(edits)
		has := strings.Join(text[from:to], "")
		out = append(out, Answer{Of: p.of, Way: WayOf(p.of, has), Line: from, Text: has})
	}
	for _, e := range edits {
		if !slices.ContainsFunc(places, func(p place) bool { return p.touches(e) }) {
			out = append(out, Answer{Way: settle.Written, Line: e.B0, Text: strings.Join(text[e.B0:e.B1], ""),
				Was: strings.Join(joined[e.A0:e.A1], "")})
		}
	}
	slices.SortStableFunc(out, func(a, b Answer) int { return a.Line - b.Line })
	return out
}

// place is the position of a question's texts in a text that contains all of them one after the other.
type place struct {
	of     *settle.Question
	lo, hi int
}

func (p place) touches(e diff.Edit) bool { return e.A0 <= p.hi && e.A1 >= p.lo }

// within returns the present content of the place and the edits that touch it.
func (p place) within(edits []diff.Edit) (from, to int) {
	from, to = p.lo, p.hi
	for _, e := range edits {
		add := (e.B1 - e.B0) - (e.A1 - e.A0)
		switch {
		case e.A1 < p.lo:
			from, to = from+add, to+add
		case p.touches(e):
			from = min(from, e.B0)
			to += add + max(0, e.A1-p.hi)
		}
	}
	return from, max(from, to)
}

// WayOf returns the way of a question that results in a text, or Written.
func WayOf(q *settle.Question, text string) settle.Way {
	for _, o := range q.Ways {
		if o.Text == text && o.Moved == nil && o.Way != settle.AsBefore {
			return o.Way
		}
	}
	if q.Base == text {
		return settle.Base
	}
	return settle.Written
}
