package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// rowScreen shows proposals that are joined one after the other: what became of each, and what the present one needs.
type rowScreen struct {
	job     *job
	rows    list
	halt    *recovery.Halt // nil if nothing waits
	steps   *steps         // of the last time that the row went on
	joining *task          // the task by which it did

	mu  sync.Mutex
	now *proposal.Row // the row while it goes on; nil until one more had its turn
}

// openRow shows the row of the branch.
func openRow(j *job) tea.Cmd { return openRowAnd(j, false) }

// openRowAnd shows the row and, if goOn is set, goes on with it.
func openRowAnd(j *job, goOn bool) tea.Cmd {
	s := &rowScreen{job: j}
	s.rows.rows = func() int { return len(s.row().Items) }
	j.open(s)
	if goOn {
		return s.goOn()
	}
	return nil
}

// row returns the row as it was stored last.
func (s *rowScreen) row() *proposal.Row {
	s.mu.Lock()
	defer s.mu.Unlock()
	return cmp.Or(s.now, s.job.st.Row)
}

// changed takes a newer state of the row.
func (s *rowScreen) changed(now *proposal.Row) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.now = now
}

// running reports whether the row goes on just now.
func (s *rowScreen) running() bool { return s.joining != nil && s.joining == s.job.task }

// inRow reports whether what is joined now is the present proposal of a row.
func inRow(j *job) bool {
	row := j.st.Row
	if row == nil || row.Branch != j.pos.Branch.Name || j.pos.FromLine() == nil {
		return false
	}
	item := row.Current()
	return item != nil && item.Line == j.pos.Line()
}

// goOn joins one after the other until one needs a person.
func (s *rowScreen) goOn() tea.Cmd {
	s.steps, s.halt = newSteps(), nil
	cmd := s.job.start("joining one after the other", func(ctx context.Context, _ func(int, int)) (then, error) {
		rows := recovery.RowsOf(s.job.s)
		rows.Changed = s.changed
		halt, err := rows.Next(ctx, s.steps.add)
		pos, perr := s.job.s.Locate(ctx, false)
		st, notice := s.job.s.Ledger.State(), s.job.s.TakeNotice()
		return func() tea.Cmd {
			if perr == nil { // else the next look tells
				s.job.pos = pos
			}
			s.changed(nil)
			s.job.st, s.halt, s.job.changed = st, halt, true
			for i := range st.Row.Items {
				if st.Row.Items[i].State == proposal.Waiting {
					s.rows.row = i
					break
				}
			}
			if notice != "" {
				s.job.flash = term.Warning(notice)
			}
			return nil
		}, err
	})
	s.joining = s.job.task
	return tea.Batch(cmd, s.steps.next(s.joining.over))
}

func (s *rowScreen) actions() []action {
	row := s.row()
	var out []action
	switch item := row.Current(); {
	case s.halt != nil && s.halt.Terms != nil:
		out = append(out, acts(keys.Next, s.halt.Does(), s.agree))
	case s.halt != nil:
		out = append(out, acts(keys.Next, s.halt.Does(), s.toStage))
	case item != nil:
		out = append(out, acts(keys.Next, "go on with "+item.Name, s.goOn))
	case row.Count(proposal.Joined) > 0 && s.job.pos.Pushes():
		out = append(out, acts(keys.Next, "go on to Push", s.toStage))
	default:
		out = append(out, acts(keys.Next, "end the row", s.end))
	}
	if item := row.Current(); item != nil {
		out = append(out, acts(keys.Drop, "leave "+item.Name+" out", s.leaveOut))
	}
	if row.Current() != nil || s.job.pos.Pushes() {
		out = append(out, acts(keys.Undo, words.If(row.Count(proposal.Joined) > 0, "undo the row", "end the row"),
			s.takeBack))
	}
	out = append(out, s.rows.keys("proposal")...)
	return append(out, acts(keys.Back, "", func() tea.Cmd {
		s.job.close()
		return s.job.nav.lookAgain(true)
	}))
}

// agree asks for the agreement to the check, and goes on with it.
func (s *rowScreen) agree() tea.Cmd {
	t := s.halt.Terms
	if len(t.Asks) > 0 {
		return openConsent(s.job, []*prove.Terms{t}, s.goOn)
	}
	s.job.ask(term.Text(term.Plain, fmt.Sprintf(
		"Run “%s” on each joined result? It runs with your rights, in a checkout "+
			"of its own. You are asked again when somebody changes what it runs.", t.Command.Line())), "run it",
		func() tea.Cmd {
			if err := s.job.s.Prover.Asker.AgreeTo(t); err != nil {
				return s.job.failed(err)
			}
			return s.goOn()
		}, nil)
	return nil
}

// toStage goes to the stage at which the row waits.
func (s *rowScreen) toStage() tea.Cmd {
	s.job.close()
	s.job.resumed = false
	return s.job.nav.startOver(false)
}

// change does something with the row, and shows it again.
func (s *rowScreen) change(doing string, do func(ctx context.Context, rows *recovery.Rows) error,
	after func() tea.Cmd) tea.Cmd {
	return s.job.startVital(doing, func(ctx context.Context, _ func(int, int)) (then, error) {
		err := do(ctx, recovery.RowsOf(s.job.s))
		st := s.job.s.Ledger.State()
		why := prevented(err)
		if err != nil && why == "" {
			return nil, err
		}
		return func() tea.Cmd {
			s.job.changed = true
			if st.Row != nil {
				s.changed(nil)
				s.job.st = st
			}
			if why != "" {
				s.job.flash = term.Warning(why)
				return nil
			}
			return after()
		}, nil
	})
}

func (s *rowScreen) leaveOut() tea.Cmd {
	return s.change("leaving it out", func(ctx context.Context, rows *recovery.Rows) error {
		return rows.LeaveOut(ctx, "you decided so")
	}, s.goOn)
}

func (s *rowScreen) takeBack() tea.Cmd {
	return s.change("going back", func(ctx context.Context, rows *recovery.Rows) error { return rows.TakeBack(ctx) },
		s.over("The row is undone: branch and files are as they were before it."))
}

func (s *rowScreen) end() tea.Cmd {
	return s.change("ending the row", func(ctx context.Context, rows *recovery.Rows) error { return rows.End(ctx) },
		s.over("The row is ended."))
}

// over closes the screen, because the row is gone, and says something.
func (s *rowScreen) over(said string) func() tea.Cmd {
	return func() tea.Cmd {
		s.job.close()
		cmd := s.job.nav.lookAgain(true)
		s.job.flash = term.Done(said)
		return cmd
	}
}

func (s *rowScreen) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(stepped); ok {
		if msg.of == s.steps && s.job.task != nil {
			return s.steps.next(s.job.task.over)
		}
		return nil
	}
	return s.rows.update(msg)
}

func (s *rowScreen) view(w, h int) term.Page {
	row := s.row()
	p := term.Page{nil}
	p.Head("A ROW OF PROPOSALS", "   into "+row.Branch+", one after the other")
	p.Blank()
	p.Say(w, s.headline())
	if row.Why != "" {
		p.Say(w, term.Text(term.Dim, "They go in this order because "+row.Why+"."))
	}
	p.Blank()
	rows := s.rows.on(nil, w)
	for i := range row.Items {
		rows.item(s.line(row, i, w))
	}
	below := beneath(s.details(w), h-len(p))
	return append(append(p, rows.window(h-len(p)-len(below))...), below...)
}

// headline says in one sentence how far the row is.
func (s *rowScreen) headline() term.Line {
	row := s.row()
	switch item := row.Current(); {
	case s.running():
		said := append([]string{"Joining…"}, s.steps.all()...)
		return term.Text(term.Plain, said[len(said)-1])
	case s.halt != nil && item != nil:
		return term.Line{}.Bold(term.Trouble, "Proposal "+item.Name+" needs you. ").Add(term.Plain,
			words.Sentence(s.halt.Why))
	case item == nil && row.Count(proposal.Joined) > 0:
		return term.Line{}.Bold(term.Joined, "All had their turn. ").Add(term.Plain, row.Sentence()+
			words.If(s.job.pos.Pushes(), " Nothing is pushed yet.", " "+s.job.pos.To().Name+" has what was joined."))
	}
	return term.Text(term.Plain, row.Sentence())
}

// line draws a proposal of the row.
func (s *rowScreen) line(row *proposal.Row, i, w int) term.Line {
	item := &row.Items[i]
	mark, hue := term.Mark{Sign: "·", Hue: term.Dim}, term.Dim
	switch {
	case item.State == proposal.Joined:
		mark, hue = term.MarkSettled, term.Joined
	case item.State == proposal.LeftOut:
		mark, hue = term.MarkBehind, term.Trouble
	case item == row.Current() && s.halt != nil:
		mark, hue = term.MarkOpen, term.Trouble
	}
	account := item.Account()
	if mark == term.MarkOpen {
		account = s.halt.Why
	}
	return term.Line{}.Mark(mark).Add(term.Plain, fmt.Sprintf("%-4s%s", item.Name, item.Title)).Fit(max(30, w*40/100)).
		Add(term.Dim, "  "+words.List(words.Some(item.By, 2))).Fit(max(46, w*58/100)).Add(hue, "  "+account)
}

// details describes the marked proposal: what became of it, and whose work it is.
func (s *rowScreen) details(w int) term.Page {
	item := &s.row().Items[s.rows.row]
	p := term.Page{term.Rule(w)}
	p.Say(w, term.Text(term.Plain, fmt.Sprintf("%s by %s.", words.Count(item.Commits, "commit", "commits"),
		words.List(words.Some(item.By, 4)))).Add(term.Dim, " "+item.Checked))
	if item.Why != "" {
		p.Warn(w, "Left out: "+item.Why+".")
	}
	for _, again := range item.Again {
		p.Say(w, term.Text(term.Dim, "decided as before: "+again))
	}
	return p
}

func (s *rowScreen) status() term.Line {
	row := s.row()
	return term.Text(term.Dim, fmt.Sprintf("%d of %s had their turn", len(row.Items)-row.Count(proposal.Waiting),
		words.Count(len(row.Items), "proposal", "proposals")))
}

func (s *rowScreen) remark() term.Line {
	return term.Text(term.Dim, "The row is kept: you can leave it, and go on at any time.")
}

// inTheWay returns what keeps a change from being made, or an empty string.
func inTheWay(err error) string {
	var over *change.OverwriteError
	var moved *change.MovedError
	var asks *change.AsksError
	if errors.As(err, &over) || errors.As(err, &moved) || errors.As(err, &asks) {
		return err.Error()
	}
	return ""
}
