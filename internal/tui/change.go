package tui

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// changeScreen shows the change of one file.
type changeScreen struct {
	f        *frame
	file     lookback.ChangedFile
	what     string // the commit or conflict that the change belongs to
	lines    []lookback.ChangeLine
	old, new [][]term.Tinted
	text     bool
	scroll   term.Scroll
	authors  func() tea.Cmd // shows the authors of the new lines
}

// openChange reads a file's change and shows it. authors annotates its lines.
func openChange(j *job, f lookback.ChangedFile, what string, authors func() tea.Cmd) tea.Cmd {
	b := j.newBeside()
	return b.start(func(context.Context) (then, error) {
		lines, ok, err := j.s.History.Change(context.Background(), f)
		if err != nil {
			return nil, err
		}
		s := &changeScreen{f: j.frame, file: f, what: what, lines: lines, text: ok, authors: authors}
		if ok {
			old, new, err := j.s.History.Texts(context.Background(), f)
			if err != nil {
				return nil, err
			}
			s.old, s.new = j.coder.Lines(f.Path, old), j.coder.Lines(f.Path, new)
		}
		return func() tea.Cmd {
			s.scroll.Size(len(lines), j.h-9)
			j.open(s)
			return nil
		}, nil
	})
}

func (s *changeScreen) actions() []action {
	out := []action{act(keys.Back, "", quietly(s.f.close))}
	if s.scroll.Moves() {
		out = append(out, act(keys.Following, "next change", quietly(func() { s.seek(1) })),
			act(keys.Previous, "the one before", quietly(func() { s.seek(-1) })))
	}
	if s.text && !s.file.New.Absent() {
		out = append(out, act(keys.Annotate, "who wrote its lines", s.authors))
	}
	return append(out, scrollKeys(&s.scroll)...)
}

// seek goes to the next or previous run of changed lines.
func (s *changeScreen) seek(step int) {
	changed := func(i int) bool {
		k := s.lines[i].Kind
		return k == lookback.LineGone || k == lookback.LineNew
	}
	at := s.scroll.At()
	if at > 0 {
		at += lead
	}
	for i := at + step; i >= 0 && i < len(s.lines); i += step {
		if changed(i) && (i == 0 || !changed(i-1)) {
			s.scroll.To(i - lead)
			return
		}
	}
}

func (s *changeScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.Update(msg)
	return nil
}

func (s *changeScreen) view(w, h int) term.Page {
	p := term.Page{term.Text(term.Plain, " ").Bold(term.Bright, s.file.Path).Add(term.Dim, "   "+s.what).Cut(w), nil}
	if !s.text {
		p.Say(w, term.Text(term.Plain, "This is not text: "+words.If(s.file.New.Absent(), "it was deleted.",
			words.If(s.file.Old.Absent(), "it is new.", "it was replaced by another version."))))
		return p
	}
	if len(s.lines) == 0 {
		p.Say(w, term.Text(term.Plain, "Its lines are the same; its name or its mode changed."))
		return p
	}
	room := h - len(p)
	s.scroll.Size(len(s.lines), room)
	from := s.scroll.At()
	digits := len(strconv.Itoa(max(s.last())))
	var seen term.Page
	for _, l := range s.lines[from:min(len(s.lines), from+room)] {
		seen.Row(s.changeLine(l, digits).Cut(w))
	}
	return append(p, s.scroll.Edges(seen, len(s.lines))...)
}

// last returns the largest line number.
func (s *changeScreen) last() int {
	n := 0
	for _, l := range s.lines {
		n = max(n, l.Old, l.New)
	}
	return n
}

// changeLine draws a line with its numbers before and after.
func (s *changeScreen) changeLine(l lookback.ChangeLine, digits int) term.Line {
	number := func(n int) string {
		if n == 0 {
			return strings.Repeat(" ", digits)
		}
		return fmt.Sprintf("%*d", digits, n)
	}
	tint := func(of [][]term.Tinted, n int) []term.Tinted {
		if n > 0 && n <= len(of) {
			return of[n-1]
		}
		return nil
	}
	switch l.Kind {
	case lookback.LinesFolded:
		return term.Text(term.Faint, " "+strings.Repeat(" ", 2*digits+1)+"  ┊ "+words.Count(l.Count, "line as it was",
			"lines as they were"))
	case lookback.LineGone:
		out := term.Text(term.Faint, " "+number(l.Old)+" "+number(0)).Bold(term.Trouble, " − ")
		return term.Code(out, l.Text, tint(s.old, l.Old), l.Marks, term.Ink{Ground: term.OnTrouble})
	case lookback.LineNew:
		out := term.Text(term.Faint, " "+number(0)+" "+number(l.New)).Bold(term.Joined, " + ")
		return term.Code(out, l.Text, tint(s.new, l.New), l.Marks, term.Ink{Ground: term.OnJoined})
	}
	return term.Code(term.Text(term.Faint, " "+number(l.Old)+" "+number(l.New)+"   "), l.Text, tint(s.new, l.New),
		nil, term.Ink{})
}

func (s *changeScreen) status() term.Line {
	if s.text {
		return term.Text(term.Joined, fmt.Sprintf("+%d", s.file.Added)).Add(term.Trouble,
			fmt.Sprintf(" −%d", s.file.Removed))
	}
	return nil
}

func (s *changeScreen) remark() term.Line {
	return term.Text(term.Dim, "− before, + after; words that changed are underlined. You are only reading.")
}

// splitLines returns the lines of a text without their ends.
func splitLines(s string) []string {
	out := strings.Split(s, "\n")
	for i := range out {
		out[i] = strings.TrimSuffix(out[i], "\r")
	}
	return out
}

func itoa(n int) string { return strconv.Itoa(n) }

// editRows draws an edit of a text: removed and added lines, edit by edit.
func editRows(before, after string) (p term.Page) {
	from, to := diff.Lines(before), diff.Lines(after)
	for i, e := range diff.Histogram(from, to) {
		if i > 0 {
			p.Row(term.Text(term.Faint, "       ┊"))
		}
		for k, l := range from[e.A0:e.A1] {
			p.Row(term.Text(term.Faint, fmt.Sprintf("%6d ", e.A0+k+1)).Bold(term.Trouble, "− ").Add(term.Plain,
				strings.TrimRight(l,
					"\r\n")))
		}
		for k, l := range to[e.B0:e.B1] {
			p.Row(term.Text(term.Faint, fmt.Sprintf("%6d ", e.B0+k+1)).Bold(term.Joined, "+ ").Add(term.Bright,
				strings.TrimRight(l,
					"\r\n")))
		}
	}
	return p
}
