package tui

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/words"
)

// changeScreen is the change of one file, to be read.
type changeScreen struct {
	f        *frame
	file     lookback.ChangedFile
	what     string // whose change it is
	lines    []lookback.ChangeLine
	old, new [][]tinted
	text     bool
	scroll   scroll
	authors  func() tea.Cmd // of its lines, as they are after it
}

// openChange reads a file's change. authors opens those of its lines.
func (j *job) openChange(f lookback.ChangedFile, what string, authors func() tea.Cmd) tea.Cmd {
	b := j.newBeside()
	return b.start(func(context.Context) (then, error) {
		lines, ok, err := j.s.History.Change(f)
		if err != nil {
			return nil, err
		}
		s := &changeScreen{f: j.frame, file: f, what: what, lines: lines, text: ok, authors: authors}
		if ok {
			old, new, err := j.s.History.Texts(f)
			if err != nil {
				return nil, err
			}
			s.old, s.new = j.coder.lines(f.Path, old), j.coder.lines(f.Path, new)
		}
		return func() tea.Cmd {
			s.scroll.size(len(lines), j.h-9)
			j.open(s)
			return nil
		}, nil
	})
}

func (s *changeScreen) actions() []action {
	out := []action{act(keys.back, "", quietly(s.f.close))}
	if s.scroll.moves() {
		out = append(out, act(keys.following, "next change", quietly(func() { s.seek(1) })),
			act(keys.previous, "the one before", quietly(func() { s.seek(-1) })))
	}
	if s.text && !s.file.New.Absent() {
		out = append(out, act(keys.annotate, "who wrote its lines", s.authors))
	}
	return append(out, s.scroll.actions()...)
}

// seek goes to the next run of changed lines, or the one before.
func (s *changeScreen) seek(step int) {
	changed := func(i int) bool {
		k := s.lines[i].Kind
		return k == lookback.LineGone || k == lookback.LineNew
	}
	at := s.scroll.at()
	if at > 0 {
		at += lead
	}
	for i := at + step; i >= 0 && i < len(s.lines); i += step {
		if changed(i) && (i == 0 || !changed(i-1)) {
			s.scroll.to(i - lead)
			return
		}
	}
}

func (s *changeScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.update(msg)
	return nil
}

func (s *changeScreen) view(w, h int) page {
	p := page{txt(plain, " ").bold(bright, s.file.Path).add(dim, "   "+s.what).cut(w), nil}
	if !s.text {
		p.say(w, txt(plain, "This is no text: "+words.If(s.file.New.Absent(), "it was deleted.",
			words.If(s.file.Old.Absent(), "it is new.", "it was replaced by another version."))))
		return p
	}
	if len(s.lines) == 0 {
		p.say(w, txt(plain, "Its lines are the same; its name or its mode changed."))
		return p
	}
	room := h - len(p)
	s.scroll.size(len(s.lines), room)
	from := s.scroll.at()
	digits := len(strconv.Itoa(max(s.last())))
	var seen page
	for _, l := range s.lines[from:min(len(s.lines), from+room)] {
		seen.row(s.changeLine(l, digits).cut(w))
	}
	return append(p, s.scroll.edges(seen, len(s.lines))...)
}

// last is the largest line number there is.
func (s *changeScreen) last() int {
	n := 0
	for _, l := range s.lines {
		n = max(n, l.Old, l.New)
	}
	return n
}

// changeLine draws a line with its numbers before and after.
func (s *changeScreen) changeLine(l lookback.ChangeLine, digits int) line {
	number := func(n int) string {
		if n == 0 {
			return strings.Repeat(" ", digits)
		}
		return fmt.Sprintf("%*d", digits, n)
	}
	tint := func(of [][]tinted, n int) []tinted {
		if n > 0 && n <= len(of) {
			return of[n-1]
		}
		return nil
	}
	switch l.Kind {
	case lookback.LinesFolded:
		return txt(faint, " "+strings.Repeat(" ", 2*digits+1)+"  ┊ "+words.Count(l.Count, "line as it was",
			"lines as they were"))
	case lookback.LineGone:
		out := txt(faint, " "+number(l.Old)+" "+number(0)).bold(trouble, " − ")
		return code(out, l.Text, tint(s.old, l.Old), l.Marks, ink{ground: onTrouble})
	case lookback.LineNew:
		out := txt(faint, " "+number(0)+" "+number(l.New)).bold(joined, " + ")
		return code(out, l.Text, tint(s.new, l.New), l.Marks, ink{ground: onJoined})
	}
	return code(txt(faint, " "+number(l.Old)+" "+number(l.New)+"   "), l.Text, tint(s.new, l.New), nil, ink{})
}

func (s *changeScreen) status() line {
	if s.text {
		return txt(joined, fmt.Sprintf("+%d", s.file.Added)).add(trouble, fmt.Sprintf(" −%d", s.file.Removed))
	}
	return nil
}

func (s *changeScreen) remark() line {
	return txt(dim, "− before, + after; words that changed are underlined. You are only reading.")
}

// splitLines is a text's lines without their ends.
func splitLines(s string) []string {
	out := strings.Split(s, "\n")
	for i := range out {
		out[i] = strings.TrimSuffix(out[i], "\r")
	}
	return out
}

func itoa(n int) string { return strconv.Itoa(n) }
