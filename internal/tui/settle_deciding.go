package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// deciding settles conflicts: by a way, edit by edit, or by a written text.
type deciding struct{ *settleScreen }

// deciding returns the deciding of the screen.
func (s *settleScreen) deciding() deciding { return deciding{s} }

// decide settles the conflict by the marked way and goes to the next one. A conflict that is settled so already is
// passed.
func (s deciding) decide() tea.Cmd {
	c := s.question().Question
	switch {
	case s.marksDecision() && s.job.join.Open == 0:
		return s.job.nav.joined()
	case s.marksDecision():
		return s.turnTo(s.nextOpen(s.at))
	case s.way == unmarked:
		how := fmt.Sprintf("Nothing is marked, so nothing was taken: 1–%d or ↑↓ marks a way", len(c.Ways))
		if !c.Whole() {
			how += ", w writes"
		}
		s.job.flash = term.Warning(how + ".")
		return nil
	}
	if w := c.Ways[s.way].Way; w == settle.Anew || w == settle.Both && !c.Whole() {
		return s.decideFile(w)
	}
	return s.recordAlso(settle.Decision{Key: c.Key, Way: c.Ways[s.way].Way})
}

// recordAlso records a decision, and the same one where later commits ask the same.
func (s deciding) recordAlso(d settle.Decision) tea.Cmd {
	at, q, pos, also := s.at, *s.question(), s.job.pos, 0
	return s.job.rejoin(func(to *recovery.Session) (err error) {
		also, err = recovery.DecideAlso(context.Background(), to, pos, q, d)
		return err
	}, func() tea.Cmd {
		cmd := s.recorded(at)
		if also > 0 {
			s.job.flash = term.Done(fmt.Sprintf("%s of later commits asked the same, and %s settled so, too: %s. "+
				"u undoes them one by one.", words.Upper(words.Count(also, "conflict", "conflicts")),
				words.Is(also, "is", "are"), d.Way.Label()))
		}
		return cmd
	})
}

// decideFile settles everything open in the file by a way for the whole file: making it again, or keeping both.
func (s deciding) decideFile(way settle.Way) tea.Cmd {
	q := s.question()
	if way == settle.Anew && s.job.join.Stops[q.Stop].Uncommitted {
		s.job.flash = term.Warning("That is not committed, so it is not regenerated here: take a side, and " +
			"regenerate it yourself.")
		return nil
	}
	var all []settle.Decision
	for i := range s.job.questions {
		if o := &s.job.questions[i]; o.File == q.File && (o.Decision == nil || o == q) {
			all = append(all, settle.Decision{Key: o.Question.Key, Way: way})
		}
	}
	at := s.at
	return s.job.rejoin(func(to *recovery.Session) error { return to.Decide(all...) }, func() tea.Cmd {
		if at = min(at, len(s.job.questions)-1); s.job.join.Open > 0 {
			at = s.nextOpen(at)
		}
		return s.turnTo(at)
	})
}

func (s deciding) record(d settle.Decision) tea.Cmd {
	at := s.at
	return s.job.rejoin(func(to *recovery.Session) error { return to.Decide(d) }, func() tea.Cmd {
		return s.recorded(at)
	})
}

// recorded goes on after the decision of a conflict.
func (s deciding) recorded(at int) tea.Cmd {
	at = min(at, len(s.job.questions)-1)
	if s.job.join.Open > 0 {
		at = s.nextOpen(at)
	}
	return s.turnTo(at)
}

func (s deciding) undoDecision() tea.Cmd {
	return s.stepDecision((*ledger.Ledger).UndoDecision, "is undone")
}

func (s deciding) redoDecision() tea.Cmd {
	return s.stepDecision((*ledger.Ledger).RedoDecision, "is redone")
}

// stepDecision undoes or redoes a decision and goes to its conflict.
func (s deciding) stepDecision(step func(to *ledger.Ledger) (settle.Decision, bool, error), what string) tea.Cmd {
	var undone settle.Decision
	var any bool
	return s.job.rejoin(func(to *recovery.Session) (err error) {
		undone, any, err = step(to.Ledger)
		return err
	}, func() tea.Cmd {
		if !any {
			s.job.flash = term.Text(term.Plain, "There is no decision to undo or to redo.")
			return nil
		}
		at := max(0, min(s.at, len(s.job.questions)-1))
		for i := range s.job.questions {
			if s.job.questions[i].Question.Key == undone.Key {
				at = i
			}
		}
		s.job.flash = term.Text(term.Plain, "The last decision ("+undone.Way.Label()+") "+what+".")
		return s.turnTo(at)
	})
}

// forget removes the remembered decision of the conflict.
func (s deciding) forget() tea.Cmd {
	key, at, n := s.question().Question.Key, s.at, 0
	return s.job.rejoin(func(to *recovery.Session) (err error) {
		n, err = to.ForgetDecisions(key)
		return err
	}, func() tea.Cmd {
		cmd := s.turnTo(min(at, len(s.job.questions)-1))
		s.job.flash = term.Text(term.Plain, words.If(n > 0, "The earlier decision is forgotten.",
			"A colleague decided this; only their repository can forget it."))
		return cmd
	})
}

// takeEdits shows the single edits of the place, starting with those of the marked way.
func (s deciding) takeEdits() tea.Cmd {
	q := s.question()
	o := s.chosen(q)
	mine, other, result := q.File.Sides(q.Question, o)
	moved := o.Moved != nil
	if moved {
		result = o.Moved.Text
	}
	board := settle.NewBoard(q.Question.Base, mine, other)
	board.Start(result)
	parts, at := s.parts(q)
	before, after := linesAround(parts, at, s.job.h)
	t := &taking{above: before, below: after, from: q.Question.Place.Base.Lo + 1,
		frame: s.job.frame, board: board, right: s.status(), start: board.Text(), keeps: "settle it this way",
		title: term.Text(term.Plain, " ").Bold(term.Bright, q.Question.Path).Add(term.Dim,
			place(q)), first: 1 + linesBefore(parts, at)}
	t.keep = func(text string) tea.Cmd {
		return s.record(settle.Decision{Key: q.Question.Key, Way: settle.Written, Text: text, Moved: moved})
	}
	t.write = func(text string) tea.Cmd { return s.writeFrom(text, moved) }
	t.show()
	return nil
}

// write opens the editor on the place, or on the new place of its lines.
func (s deciding) write() tea.Cmd {
	q := s.question()
	o := s.chosen(q)
	if both, ok := q.Question.Option(settle.YoursTheirs); ok && s.way == unmarked {
		o = both // the person deletes what is not wanted
	}
	if o.Moved != nil {
		return s.writeFrom(o.Moved.Text, true)
	}
	return s.writeFrom(o.Text, false)
}

// writeFrom opens the editor with a text for the place, or for the new place of its lines.
func (s deciding) writeFrom(text string, moved bool) tea.Cmd {
	q := s.question()
	d := settle.Decision{Key: q.Question.Key, Way: settle.Written, Moved: moved}
	closed := text == "" || strings.HasSuffix(text, "\n")
	parts, at := s.parts(q)
	ed := term.NewEditor(strings.TrimSuffix(text, "\n"), 1+linesBefore(parts, at))
	var board *settle.Board
	if !moved { // otherwise it is another conflict
		board = settle.NewBoard(q.Question.Base, q.Question.Yours, q.Question.Theirs)
	}
	e := &writing{frame: s.job.frame, ed: ed, right: s.status(), name: q.Question.Path, own: s.job.s.Repo.Editor,
		board: board, from: q.Question.Place.Base.Lo + 1, closed: closed,
		around: func(w, h int) term.Page { return s.page().writingPage(q, ed, w, h) },
		save: func(text string) tea.Cmd {
			if closed && text != "" {
				text += "\n"
			}
			d.Text = text
			return s.record(d)
		}}
	if holder, ok := s.job.writable(); ok && !moved && !s.job.join.Stops[q.Stop].Uncommitted {
		e.grown = func() *writing { return s.grown(e, q, holder, linesBefore(parts, at)) }
	}
	s.job.open(e)
	return nil
}

// grown returns an editor of the whole file with what is written in the place, which begins after some lines.
func (s deciding) grown(e *writing, q *plan.Attributed, holder string, above int) *writing {
	others, text := q.File.ChosenBy(&s.job.st.Decisions), e.written()
	w := wholeFile{job: s.job, path: q.Question.Path, file: q.File, holder: holder,
		choose: func(c *settle.Question) settle.Option {
			if c == q.Question {
				return settle.Option{Way: settle.Written, Text: text}
			}
			return others(c)
		}}
	was, at := q.File.Join(w.choose), s.at
	ed := term.NewEditor(was, 1)
	ed.GoTo(above+e.ed.Row+1, e.ed.Col+1)
	lines := func(l []string) string { return strings.Join(l, "") }
	where := "after line " + fmt.Sprint(above)
	if n := len(diff.Lines(text)); n > 0 {
		where = "in " + lineWords(merge.Span{Lo: above, Hi: above + n})
	}
	title := term.Text(term.Plain, " ").Bold(term.Bright, w.path).Add(term.Dim,
		"  the conflict is "+where+"; what you write elsewhere becomes part of "+holder)
	return &writing{frame: s.job.frame, ed: ed, right: s.status(), name: w.path, own: e.own, from: 1,
		board: settle.NewBoard(lines(q.File.Text.Base), lines(q.File.Text.Yours), lines(q.File.Text.Theirs)),
		around: func(width, h int) term.Page {
			return append(term.Page{title.Cut(width), nil}, ed.View(width,
				h-2)...)
		},
		save: func(text string) tea.Cmd {
			return w.keep(was, text, q.Question, func() tea.Cmd { return s.recorded(at) })
		}}
}
