package tui

import (
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// parts returns the joined text with the marked way, and the index of the part that the way is about: the place, or
// the new place of its lines.
func (s *settleScreen) parts(q *plan.Attributed) (parts []settle.Part, at int) {
	o := s.chosen(q)
	others := q.File.ChosenBy(&s.job.st.Decisions)
	parts = q.File.Parts(func(c *settle.Question) settle.Option {
		if c == q.Question {
			return o
		}
		return others(c)
	})
	if o.Moved != nil {
		return parts, o.Moved.Hunk
	}
	return parts, slices.IndexFunc(parts, func(p settle.Part) bool {
		return p.Of == q.Question &&
			p.Origin == merge.Contested
	})
}

// linesBefore counts the lines of the result before a part.
func linesBefore(parts []settle.Part, at int) (n int) {
	for _, p := range parts[:at] {
		n += len(p.Lines)
	}
	return n
}

// resultPage shows the file's future text around the place, with the origin of each line.
func (s settlePage) resultPage(q *plan.Attributed, w, h int, whole bool) term.Page {
	parts, at := s.parts(q)
	yours, theirs, _ := q.File.Sides(q.Question, s.chosen(q))
	if s.way == unmarked { // it is as before both edits: nothing in it is of a side
		yours = strings.Join(parts[at].Lines, "")
		theirs = yours
	}
	before := linesBefore(parts, at)
	own := len(parts[at].Lines)
	rows := linesBefore(parts, len(parts))
	s.result.Size(rows, h-1)
	if !s.placed {
		lead := max(0, (h-1-own)/2)
		if whole {
			lead = max(1, (h-1)/3)
		}
		s.result.To(before - lead)
		s.placed = true
	}
	start, end := s.result.At(), s.result.At()+h-1
	var mine []term.Line
	tints := s.tinted(q, parts, start, end)
	if before < end && start < before+own {
		var kinds [][]term.Tinted
		if before >= start && before-start < len(tints) {
			kinds = tints[before-start:]
		}
		mine = paint(yours, theirs, strings.Join(parts[at].Lines, ""), kinds)
	}
	seen := s.resultRows(q, parts, at, mine, tints, start, end)
	for i := range seen {
		seen[i] = seen[i].Cut(w)
		if len(seen[i]) > 0 && seen[i][0].Ink.Ground == term.OnJoined {
			seen[i] = seen[i].Fit(w).On(term.OnJoined)
		}
	}
	path := q.Question.Path
	head := term.Text(term.Plain, " ").Bold(term.Joined, "RESULT")
	if s.way == unmarked {
		head = head.Add(term.Dim,
			fmt.Sprintf("  not decided yet; %s around the place, which is as before both edits",
				path))
	} else {
		head = head.Add(term.Dim, fmt.Sprintf("  lines %d–%d of the %d that %s will hold%s", s.result.At()+1,
			s.result.At()+len(seen), rows, path, s.until(q)))
	}
	return append(term.Page{head.Cut(w)}, seen...)
}

// until describes until when the shown result holds, if not to the end.
func (s settlePage) until(q *plan.Attributed) string {
	if s.chosen(q).Way == settle.Anew {
		return ", until it is regenerated"
	}
	mended := slices.ContainsFunc(s.job.join.Mended, func(m plan.Mend) bool { return m.Path == q.Question.Path })
	return words.If(mended, ", before your edit of the rest", "")
}

// resultRows draws lines [start, end) of the result; the part at is marked.
func (s settlePage) resultRows(q *plan.Attributed, parts []settle.Part, at int, mine []term.Line, tints [][]term.Tinted,
	start,
	end int) term.Page {
	var p term.Page
	n := 0
	for i, part := range parts {
		if n >= end {
			break
		}
		if n+len(part.Lines) <= start {
			n += len(part.Lines)
			continue
		}
		m := s.origin(q, part, i == at)
		for k, l := range part.Lines {
			if n >= start && n < end {
				row := term.Text(term.Faint, fmt.Sprintf("%5d ", n+1)).Mark(m)
				switch {
				case i == at:
					row = row.Then(mine[k])
				case n-start < len(tints):
					row = term.Code(row, l, tints[n-start], nil, term.Ink{})
				default:
					row = row.Add(term.Plain, l)
				}
				if i == at {
					row = row.On(term.OnJoined)
				}
				p.Row(row)
			}
			n++
		}
	}
	return p
}

// origin returns the sign of a part's origin.
func (s settlePage) origin(q *plan.Attributed, part settle.Part, here bool) term.Mark {
	if part.Of != nil {
		if _, settled := q.File.Chosen(part.Of, &s.job.st.Decisions); settled || here && s.way != unmarked {
			return term.MarkJoined
		}
		return term.MarkOpen
	}
	return markOf(part.Origin)
}

// markOf returns the mark of a text of an origin.
func markOf(o merge.Origin) term.Mark {
	switch o {
	case merge.FromYours:
		return term.MarkYours
	case merge.FromTheirs:
		return term.MarkTheirs
	case merge.FromBoth:
		return term.MarkJoined
	}
	return term.MarkNone
}

// tinted returns lines [start, end) of the result, coloured as code, or nil for an unknown language.
func (s settlePage) tinted(q *plan.Attributed, parts []settle.Part, start, end int) [][]term.Tinted {
	if !s.job.theme.Colour {
		return nil
	}
	const above = 60
	from := max(0, start-above)
	var lines []string
	n := 0
	for _, part := range parts {
		if n >= end {
			break
		}
		if n+len(part.Lines) > from {
			lines = append(lines, part.Lines[max(0, from-n):min(len(part.Lines), end-n)]...)
		}
		n += len(part.Lines)
	}
	return s.job.coder.Window(q.Question.Path, lines, start-from)
}

// paint colours words by the side that added them, and the others as code.
func paint(yourText, theirText, text string, tints [][]term.Tinted) []term.Line {
	words := diff.Words(text)
	notIn := func(side string) []bool {
		set := make([]bool, len(words))
		for _, e := range diff.WordEdits(diff.Words(side), words) {
			for i := e.B0; i < e.B1; i++ {
				set[i] = true
			}
		}
		return set
	}
	fromYours, fromTheirs := notIn(theirText), notIn(yourText)
	var out []term.Line
	row, col := term.Line{}, 0
	for i, t := range words {
		k := term.Ink{Hue: term.Plain}
		switch {
		case fromYours[i] && fromTheirs[i]:
			k = term.Ink{Hue: term.Joined, Bold: true}
		case fromYours[i]:
			k = term.Ink{Hue: term.Yours, Bold: true}
		case fromTheirs[i]:
			k = term.Ink{Hue: term.Theirs, Bold: true}
		}
		var kinds []term.Tinted
		if len(out) < len(tints) {
			kinds = tints[len(out)]
		}
		row = term.Tint(row, strings.TrimSuffix(t, "\n"), col, kinds, k)
		if col += len(t); strings.HasSuffix(t, "\n") {
			out = append(out, row)
			row, col = term.Line{}, 0
		}
	}
	if len(row) > 0 {
		out = append(out, row)
	}
	return out
}
