package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// proposalsScreen lists the branches put forward at a remote, as they would join their branch. One can be joined, or
// several in a row; and one's own can be made to join.
type proposalsScreen struct {
	job   *job
	reads besides
	rows  list

	listed  *proposal.Listed // nil until the remote has answered
	pattern proposal.Pattern
	marked  []int // rows to join in a row, in order

	mu    sync.Mutex
	known map[int]proposal.Forecast
	fresh news
	ended chan struct{} // closed when all forecasts are made
}

// forecasted is the message that more is known of some proposals.
type forecasted struct{ of *proposalsScreen }

// proposalsAction returns the key that lists proposals, or continues with a row of them.
func proposalsAction(j *job) []action {
	if j.pos.IsPick() || j.pos.Stuck != nil || j.pos.Reworks() {
		return nil
	}
	if row := j.st.Row; row != nil && row.Branch == j.pos.Branch.Name {
		return []action{acts(keys.Proposals, "the row of proposals", func() tea.Cmd { return openRow(j) })}
	}
	if !j.s.Repo.Dialect().FreeRefs {
		return nil
	}
	return []action{acts(keys.Proposals, "proposals", func() tea.Cmd { return openProposals(j) })}
}

// openProposals asks the remote for proposals and shows them.
func openProposals(j *job) tea.Cmd {
	return j.start("asking for proposals", func(ctx context.Context, _ func(int, int)) (then, error) {
		b := j.s.Workspace.Proposals
		remote, err := b.Remote(ctx)
		var blocked *plan.Blocked
		if errors.As(err, &blocked) {
			return func() tea.Cmd { j.flash = term.Warning(blocked.Error()); return nil }, nil
		}
		if err != nil {
			return nil, err
		}
		l, err := b.List(ctx, remote)
		var refused *vcs.Refusal
		if errors.As(err, &refused) {
			return func() tea.Cmd { j.flash = term.Warning(words.Sentence(err.Error())); return nil }, nil
		}
		if err != nil {
			return nil, err
		}
		pattern, err := b.Pattern(ctx)
		return func() tea.Cmd { return showProposals(j, l, pattern) }, err
	})
}

// showProposals shows a list and works the forecasts out beside it.
func showProposals(j *job, l *proposal.Listed, pattern proposal.Pattern) tea.Cmd {
	s := &proposalsScreen{job: j, reads: j.newBeside(), listed: l, pattern: pattern, known: map[int]proposal.Forecast{},
		fresh: newNews(), ended: make(chan struct{})}
	s.rows.rows = func() int { return len(l.Proposals) }
	j.open(s)
	return tea.Batch(s.reads.start(func(ctx context.Context) (then, error) {
		defer close(s.ended)
		err := j.s.Workspace.Proposals.Forecast(ctx, l.Proposals, func(i int, f proposal.Forecast) {
			s.mu.Lock()
			s.known[i] = f
			s.mu.Unlock()
			s.fresh.tell()
		})
		return nil, err
	}), s.next())
}

// next waits until more is known.
func (s *proposalsScreen) next() tea.Cmd { return s.fresh.wait(forecasted{s}, s.ended) }

// forecast returns what is known of a proposal.
func (s *proposalsScreen) forecast(i int) (f proposal.Forecast, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, ok = s.known[i]
	return f, ok
}

// current returns the marked proposal, or nil if there is none.
func (s *proposalsScreen) current() *proposal.Proposal {
	if s.rows.row >= len(s.listed.Proposals) {
		return nil
	}
	return &s.listed.Proposals[s.rows.row]
}

func (s *proposalsScreen) actions() []action {
	p := s.current()
	var out []action
	switch {
	case p == nil:
	case len(s.marked) > 0:
		out = append(out, acts(keys.Next, "join the "+words.If(len(s.marked) == 1, "one taken",
			fmt.Sprintf("%d taken, one by one", len(s.marked))),
			s.order))
	case p.Own != "":
		out = append(out, acts(keys.Next, "bring "+p.Into.Branch()+" into your branch", s.catchUp))
	default:
		out = append(out, acts(keys.Next, "join it into "+p.Into.Branch(), s.joinOne))
	}
	if p != nil {
		out = append(out, act(keys.Take, words.If(slices.Contains(s.marked, s.rows.row), "leave it", "take it"),
			quietly(s.mark)),
			act(keys.History, "its commits", func() tea.Cmd { return openHistory(s.job, p.Line.Tracking) }))
		if p.Own == "" {
			out = append(out, acts(keys.Colleague, "send it back with a note", s.sendBack))
		}
	}
	out = append(out, acts(keys.Fetch, "ask again", func() tea.Cmd {
		s.leave()
		return openProposals(s.job)
	}))
	out = append(out, s.rows.keys("proposal")...)
	return append(out, act(keys.Back, "", quietly(s.leave)))
}

// leave closes the screen, which ends the forecasts.
func (s *proposalsScreen) leave() {
	s.reads.stop()
	s.job.close()
}

// mark takes the marked proposal into the row, or leaves it. A row has one branch.
func (s *proposalsScreen) mark() {
	at := s.rows.row
	if i := slices.Index(s.marked, at); i >= 0 {
		s.marked = slices.Delete(s.marked, i, i+1)
		return
	}
	if len(s.marked) > 0 && s.listed.Proposals[s.marked[0]].Into != s.listed.Proposals[at].Into {
		s.job.flash = term.Warning("A row has one branch, and this proposal is meant for another one.")
		return
	}
	s.marked = append(s.marked, at)
	s.rows.row = min(at+1, len(s.listed.Proposals)-1)
}

// joinOne makes the marked proposal the other side of a join with its branch, on which the person then is. Where
// nothing is joined because the branch only moves forward, it is a row of one, which runs the check.
func (s *proposalsScreen) joinOne() tea.Cmd {
	p := s.current()
	if f, known := s.forecast(s.rows.row); known && f.Forward {
		s.marked = []int{s.rows.row}
		return s.order()
	}
	return s.there(p, func(ctx context.Context) (string, error) {
		rows := recovery.RowsOf(s.job.s)
		if _, err := rows.Ready(ctx, p); err != nil {
			return "", err
		}
		return fmt.Sprintf("Proposal %s is the other side now. When it is joined and pushed, it is accepted.", p.Name),
			s.job.s.Lines.Take(ctx, &p.Line)
	})
}

// catchUp brings the branch that a proposal of one's own is meant for into the proposal's.
func (s *proposalsScreen) catchUp() tea.Cmd {
	p := s.current()
	return s.moving("bringing "+p.Into.Branch()+" into "+p.Own, func(ctx context.Context) (string, error) {
		b, err := s.job.s.Repo.Current(ctx)
		if err == nil && b.Name != p.Own {
			err = s.job.s.Applier.Switch(ctx, p.Own)
		}
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("This brings %s into your branch, so that it can be joined. %[1]s does not change.",
			p.Into.Branch()), s.job.s.Lines.Take(ctx, &p.Into)
	})
}

// there does something on the branch that a proposal is meant for, after switching to it if necessary.
func (s *proposalsScreen) there(p *proposal.Proposal, do func(ctx context.Context) (string, error)) tea.Cmd {
	return s.moving("going to "+p.Into.Branch(), func(ctx context.Context) (string, error) {
		b, err := s.job.s.Repo.Current(ctx)
		if err == nil && b.Tracking != p.Into.Tracking {
			err = recovery.RowsOf(s.job.s).GoTo(ctx, p.Into)
		}
		if err != nil {
			return "", err
		}
		return do(ctx)
	})
}

// moving does something and looks at the branch that the person is on then. What prevents it is shown here.
func (s *proposalsScreen) moving(doing string, do func(ctx context.Context) (string, error)) tea.Cmd {
	return s.job.startVital(doing, func(ctx context.Context, _ func(int, int)) (then, error) {
		said, err := do(ctx)
		if why := prevented(err); why != "" {
			return func() tea.Cmd { s.job.flash = term.Warning(why); return nil }, nil
		}
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			s.leave()
			cmd := s.job.nav.lookAgain(true)
			s.job.flash = term.Text(term.Plain, said)
			return cmd
		}, nil
	})
}

// order asks in which order the taken ones are joined, if one asks less than the order in which they were taken.
func (s *proposalsScreen) order() tea.Cmd {
	var list []proposal.Proposal
	of := map[string]proposal.Forecast{}
	for _, i := range s.marked {
		list = append(list, s.listed.Proposals[i])
		f, _ := s.forecast(i)
		of[s.listed.Proposals[i].Name] = f
	}
	b := s.job.s.Workspace.Proposals
	return s.job.start("working out the order", func(ctx context.Context, _ func(int, int)) (then, error) {
		came, err := b.InTurn(ctx, list)
		if err != nil {
			return nil, err
		}
		least, err := b.LeastAsking(ctx, came)
		return func() tea.Cmd {
			if least == nil {
				return s.begin(came, of)
			}
			var names []string
			for _, p := range least.List {
				names = append(names, p.Name)
			}
			s.job.ask(term.Text(term.Plain, fmt.Sprintf("Take the order %s? %s. Esc keeps yours.",
				strings.Join(names, ", "), words.Upper(least.Why))), "take that order",
				func() tea.Cmd { return s.begin(least, of) }, func() tea.Cmd { return s.begin(came, of) })
			return nil
		}, err
	})
}

// begin begins a row and shows it.
func (s *proposalsScreen) begin(seq *proposal.Sequence, of map[string]proposal.Forecast) tea.Cmd {
	return s.job.startVital("going to "+seq.List[0].Into.Branch(),
		func(ctx context.Context, _ func(int, int)) (then, error) {
			rows := recovery.RowsOf(s.job.s)
			b, err := s.job.s.Repo.Current(ctx)
			if err == nil && b.Tracking != seq.List[0].Into.Tracking {
				err = rows.GoTo(ctx, seq.List[0].Into)
			}
			if err == nil {
				err = rows.Begin(ctx, seq, func(i int) proposal.Forecast { return of[seq.List[i].Name] })
			}
			if why := prevented(err); why != "" {
				return func() tea.Cmd { s.job.flash = term.Warning(why); return nil }, nil
			}
			if err != nil {
				return nil, err
			}
			pos, err := s.job.s.Locate(ctx, false)
			st := s.job.s.Ledger.State()
			return func() tea.Cmd {
				s.leave()
				s.job.pos, s.job.st, s.job.changed = pos, st, true
				return openRowAnd(s.job, true)
			}, err
		})
}

// sendBack writes a note to the author of the marked proposal.
func (s *proposalsScreen) sendBack() tea.Cmd {
	p := *s.current()
	f, ok := s.forecast(s.rows.row)
	if !ok {
		s.job.flash = term.Text(term.Plain, "What it collides with is still being worked out.")
		return nil
	}
	if f.Joins() && len(f.Misfits) == 0 {
		s.job.flash = term.Text(term.Plain, "It joins, and nothing that is known speaks against it.")
		return nil
	}
	return s.job.start("finding whose work it collides with",
		func(ctx context.Context, _ func(int, int)) (then, error) {
			questions, err := s.job.s.Workspace.Proposals.Questions(ctx, &p)
			return func() tea.Cmd {
				return s.job.noteTo(p.Last.Author().Name, proposal.SendBack(&p, &f, questions), term.Line{}, nil)
			}, err
		})
}

func (s *proposalsScreen) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(forecasted); ok {
		if msg.of == s {
			return s.next()
		}
		return nil
	}
	return s.rows.update(msg)
}

func (s *proposalsScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("PROPOSALS", "   branches put forward at "+s.listed.Remote.String()+", in the order they came")
	p.Blank()
	if len(s.listed.Proposals) == 0 {
		p.Say(w, term.Text(term.Plain, s.listed.None(s.pattern)))
		if beside := s.listed.Beside(); beside != "" {
			p.Say(w, term.Text(term.Dim, beside))
		}
		return p
	}
	below := beneath(s.details(w), h-len(p))
	rows := s.rows.on(nil, w)
	into := ""
	for i := range s.listed.Proposals {
		one := &s.listed.Proposals[i]
		if one.Into.Name != into {
			into = one.Into.Name
			rows.page.Row(term.Text(term.Plain, "       ").Mark(term.MarkTheirs).Bold(term.Bright, one.Into.Branch()).
				Add(term.Dim, "  "+into+" at "+s.job.s.Planner.Short(one.At)))
		}
		rows.item(s.line(i, w))
	}
	if beside := s.listed.Beside(); beside != "" {
		rows.page.Row(nil)
		rows.page.Row(term.Text(term.Dim, "    "+beside).Cut(w))
	}
	return append(append(p, rows.window(h-len(p)-len(below))...), below...)
}

// leastListed is the number of rows that a list keeps beside what is said about the marked one.
const leastListed = 4

// beneath cuts what stands below a list, so that the list keeps some rows.
func beneath(p term.Page, room int) term.Page { return p[:max(0, min(len(p), room-leastListed))] }

// line draws a proposal as a spur of the line that it is meant for: the sign where they meet tells whether it joins.
func (s *proposalsScreen) line(i, w int) term.Line {
	p := &s.listed.Proposals[i]
	f, known := s.forecast(i)
	sign := term.Mark{Sign: "·", Hue: term.Faint}
	switch {
	case !known:
	case f.Err != "", f.Asks > 0:
		sign = term.MarkOpen
	case len(f.Misfits) > 0:
		sign = term.MarkWarning
	default:
		sign = term.MarkJoined
	}
	turn := "   "
	if at := slices.Index(s.marked, i); at >= 0 {
		turn = fmt.Sprintf("%2d ", at+1)
	}
	author, title, end := words.If(p.Own != "", "you", p.Last.Author().Name), w*46/100, w*70/100
	if w >= wide {
		author += ", " + words.Ago(s.job.now(), p.Last.Author().Time())
	} else {
		title, end = w*50/100, w*68/100
	}
	l := term.Line{}.Bold(term.Bright, turn).Add(term.Theirs, "├─").Mark(sign).
		Add(hueIf(p.Own != "", term.Yours, term.Plain), fmt.Sprintf("%-4s", p.Name)).Add(term.Plain, p.Title())
	l = l.Fit(title).Add(term.Dim, "  "+author).Fit(end).Add(term.Plain, "  ")
	if !known {
		return l.Add(term.Faint, "working it out…")
	}
	return l.Add(map[bool]term.Hue{true: term.Joined, false: term.Trouble}[f.Joins() && len(f.Misfits) == 0],
		f.Outcome())
}

// hueIf returns one of two hues.
func hueIf(is bool, yes, no term.Hue) term.Hue {
	if is {
		return yes
	}
	return no
}

// details describes the marked proposal: who wants what, what it asks, and what enter does.
func (s *proposalsScreen) details(w int) term.Page {
	p := s.current()
	out := term.Page{term.Rule(w)}
	f, known := s.forecast(s.rows.row)
	out.Say(w, term.Text(term.Plain, p.Sentence()).Add(term.Dim, "  newest commit: "+
		words.Ago(s.job.now(), p.Last.Author().Time())))
	if !known {
		out.Say(w, term.Text(term.Dim, "What that asks is being worked out."))
		return out
	}
	all := f.Sentences(p)
	out.Say(w, term.Text(term.Dim, strings.TrimSpace(all[0]+" "+p.Checked())))
	for _, m := range all[1:] {
		out.Warn(w, m)
	}
	if p.Own != "" && !f.Joins() {
		out.Say(w, term.Text(term.Plain, fmt.Sprintf("Enter brings %s into your branch %s, so that it can be joined; "+
			"%[1]s does not change.", p.Into.Branch(), p.Own)))
	}
	return out
}

func (s *proposalsScreen) status() term.Line {
	return term.Text(term.Dim, s.listed.Remote.String()+" was asked just now")
}

func (s *proposalsScreen) remark() term.Line {
	if len(s.marked) > 0 {
		return term.Text(term.Dim,
			"They are joined one after the other; each can be undone. Nothing is pushed before you say so.")
	}
	return term.Text(term.Dim, "Nothing has been changed: this was worked out beside your branch.")
}

// prevented returns why a change was not made, as a sentence, if a person can do something about it.
func prevented(err error) string {
	var blocked *plan.Blocked
	if errors.As(err, &blocked) {
		return blocked.Error()
	}
	if inWay := inTheWay(err); inWay != "" {
		return words.Sentence(inWay)
	}
	return ""
}
