package tui

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// stuckScreen shows what git left half done, and the ways on.
type stuckScreen struct {
	job    *job
	stuck  *plan.Stuck
	comes  *plan.Prospect
	row    int // marked way
	scroll term.Scroll
}

// stuckWays lists the ways in their order on the screen.
var stuckWays = []ledger.TakeOver{ledger.Finish, ledger.Anew, ledger.Back}

// isStuck shows what git left half done, with the outcome of each way.
func (j *job) isStuck(ctx context.Context, st *plan.Stuck) (then, error) {
	comes, err := j.s.Prospect(ctx, st)
	return func() tea.Cmd {
		s := &stuckScreen{job: j, stuck: st, comes: comes}
		if !s.can(ledger.Finish) {
			s.row = 1
		}
		j.pos, j.join, j.questions = nil, nil, nil
		j.goTo(s)
		return nil
	}, err
}

// can reports whether a way is possible.
func (s *stuckScreen) can(how ledger.TakeOver) bool {
	return s.cannot(how) == ""
}

func (s *stuckScreen) actions() []action {
	out := []action{acts(keys.Next, "take the marked way", s.take)}
	mark := func(by int) func() tea.Cmd { return quietly(func() { s.mark(s.row + by) }) }
	out = append(out, action{keys.Written(keys.Up, fmt.Sprintf("1–%d", len(stuckWays)), "mark a way"), mark(-1), false},
		also(keys.Down, mark(1)))
	for i := range stuckWays {
		out = append(out, also(keys.Digits[i+1], quietly(func() { s.mark(i) })))
	}
	out = append(out, acts(keys.Fetch, "look again", func() tea.Cmd { return s.job.nav.load(false) }))
	return append(out, scrollKeys(&s.scroll)[2:]...)
}

func (s *stuckScreen) mark(row int) {
	s.row = max(0, min(row, len(stuckWays)-1))
}

// take takes the marked way, or shows why it cannot.
func (s *stuckScreen) take() tea.Cmd {
	how := stuckWays[s.row]
	if !s.can(how) {
		s.job.flash = term.Warning(words.Sentence(s.cannot(how)))
		return nil
	}
	if how != ledger.Back {
		return s.job.start("reading what is settled", func(ctx context.Context, _ func(int, int)) (then, error) {
			err := s.job.s.TakeOver(ctx, how)
			return func() tea.Cmd { return s.job.nav.load(false) }, err
		})
	}
	s.job.ask(term.Warning(fmt.Sprintf("%s goes back to %s, with its files, as before it began. What was "+
		"edited since "+
		"is kept, and undo brings all of it back. Go back?", s.onBranch(), s.job.s.Planner.Short(s.stuck.Left.Before))),
		"go back", s.back, quietly(func() {
			s.job.flash = term.Text(term.Plain, "Nothing was changed.")
		}))
	return nil
}

func (s *stuckScreen) back() tea.Cmd {
	return s.job.startVital("going back", func(ctx context.Context, _ func(int, int)) (then, error) {
		wp, err := s.job.s.GiveBack(ctx)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			s.job.notice, s.job.changed, s.job.st = s.job.s.TakeNotice(), true, s.job.s.Ledger.State()
			cmd := s.job.nav.startOver(true)
			s.job.flash = term.Done(fmt.Sprintf("%s is at %s as before it began. l, then u brings back what was "+
				"half done.",
				cmp.Or(wp.Branch, "HEAD"), s.job.s.Planner.Short(wp.After)))
			return cmd
		}, nil
	})
}

// onBranch names what goes back: the branch or HEAD.
func (s *stuckScreen) onBranch() string {
	return cmp.Or(s.stuck.Left.Branch, "HEAD")
}

// cannot returns why a way is not possible, or "".
func (s *stuckScreen) cannot(how ledger.TakeOver) string {
	switch how {
	case ledger.Anew:
		return s.stuck.NotAnew()
	case ledger.Back:
		return s.stuck.NotBack()
	}
	return s.stuck.Why
}

func (s *stuckScreen) update(msg tea.Msg) tea.Cmd {
	if click, ok := msg.(clickedWay); ok {
		s.mark(int(click))
		return nil
	}
	s.scroll.Update(msg)
	return nil
}

func (s *stuckScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	head, rest, _ := strings.Cut(s.stuck.Sentence(), ". ")
	p.Say(w, term.Line{}.Bold(term.Trouble, words.Sentence(head)+" ").Add(term.Plain, rest))
	p.Say(w, term.Text(term.Dim, "Nothing of it is lost: "+words.If(s.comes.Dirty > 0,
		words.Count(s.comes.Dirty, "file", "files")+
			" with edits beside it "+words.Is(s.comes.Dirty, "stays as it is, and ", "stay as they are, and "), "")+
		"whatever you take can be undone."))
	if s.job.notice != "" {
		p.Blank()
		p.Warn(w, s.job.notice)
	}
	p.Blank()
	p.Head("WHAT CAN BECOME OF IT", "")
	p.Blank()
	for i, how := range stuckWays {
		s.way(&p, w, i, how)
	}
	if !s.stuck.Left.Stash.IsZero() {
		p.Blank()
		p.Say(w, term.Text(term.Dim,
			"git put your uncommitted work aside before it began. Each of the three brings it back, "+
				"joined where it must be."))
	}
	for _, n := range s.stuck.Notes {
		p.Blank()
		p.Warn(w, n)
	}
	p.Blank()
	switch s.stuck.Left.Operation {
	case vcs.Merging:
		s.lines(&p)
	case vcs.Unmerged:
	default:
		s.commits(&p, w)
	}
	s.files(&p, w)
	return s.scroll.Window(p, h)
}

// lines draws the two commits that a merge joins.
func (s *stuckScreen) lines(p *term.Page) {
	p.Head("WHAT IT JOINS", "")
	p.Blank()
	p.Row(term.Text(term.Plain, "    ").Mark(term.MarkYours).Add(term.Yours,
		s.job.s.Planner.Short(s.stuck.Left.Head)+"  ").Add(term.Plain,
		s.stuck.Left.Branch+
			", as it is"))
	for _, id := range s.stuck.Left.Merged {
		subject := ""
		if c, err := s.job.s.Planner.Store.Commit(context.Background(), id); err == nil {
			subject = c.Subject()
		}
		p.Row(term.Text(term.Plain, "    ").Mark(term.MarkTheirs).Add(term.Theirs,
			s.job.s.Planner.Short(id)+"  ").Add(term.Plain, subject))
	}
}

// commits draws the commits that git replays, and its progress.
func (s *stuckScreen) commits(p *term.Page, w int) {
	const most = 9
	p.Head("ITS COMMITS", "")
	p.Blank()
	all := s.comes.Commits
	from := 0
	for i, c := range all {
		if c.State == "stopped" {
			from = max(0, min(i-most/2, len(all)-most))
		}
	}
	if from > 0 {
		p.Row(term.Text(term.Dim, fmt.Sprintf("    %s before, done", words.Count(from, "commit", "commits"))))
	}
	for i, c := range all[from:] {
		if i == most {
			p.Row(term.Text(term.Dim, fmt.Sprintf("    and %s more to come",
				words.Count(len(all)-from-i, "commit", "commits"))))
			break
		}
		m, label, note := term.MarkYours, c.State, ""
		if s.stuck.Left.Operation != vcs.Rebasing {
			m = term.MarkTheirs
		}
		l := term.Text(term.Plain, "    ")
		switch c.State {
		case "stopped":
			l, label = term.Text(term.Trouble, "  ▶ "), "stopped at"
		case "done":
			if !c.Now.IsZero() && c.Now != c.ID {
				note = "replayed as " + s.job.s.Planner.Short(c.Now)
			}
		}
		l = l.Add(term.Dim, label).Fit(18).Mark(m).Add(m.Hue, s.job.s.Planner.Short(c.ID)+"  ").Add(term.Plain,
			c.Subject())
		if note != "" {
			l = l.Fit(min(74, w-24)).Add(term.Dim, "  "+note)
		}
		p.Row(l.Cut(w))
	}
}

// files lists the files in conflict, settled or not.
func (s *stuckScreen) files(p *term.Page, w int) {
	if len(s.stuck.Open)+len(s.stuck.Settled) == 0 {
		return
	}
	const most = 6
	p.Blank()
	p.Head("ITS FILES", "")
	p.Blank()
	for i, f := range s.stuck.Open {
		if i == most {
			p.Row(term.Text(term.Dim, fmt.Sprintf("    and %d more", len(s.stuck.Open)-i)))
			break
		}
		note := "open"
		for _, m := range s.stuck.Marked {
			if m == f {
				note = "settled in part by you, which is kept"
			}
		}
		p.Row(term.Text(term.Plain, "    ").Mark(term.MarkOpen).Add(term.Plain,
			term.CutPath(f, w/2)).Fit(40).Add(term.Dim, "  "+note))
	}
	for i, f := range s.stuck.Settled {
		if i == most {
			p.Row(term.Text(term.Dim, fmt.Sprintf("    and %d more", len(s.stuck.Settled)-i)))
			break
		}
		p.Row(term.Text(term.Plain, "    ").Mark(term.MarkSettled).Add(term.Plain,
			term.CutPath(f, w/2)).Fit(40).Add(term.Dim, "  settled by you, "+
			"kept"))
	}
}

// way draws one of the ways with its outcome.
func (s *stuckScreen) way(p *term.Page, w, i int, how ledger.TakeOver) {
	name := map[ledger.TakeOver]string{ledger.Finish: "go on from here", ledger.Anew: "join anew",
		ledger.Back: "go back"}[how]
	l := term.Text(term.Bright, words.If(i == s.row, "  ▶ ", "    ")).Add(term.Dim, fmt.Sprint(i+1)+"  ")
	text := term.Text(term.Dim, "not here: "+s.cannot(how))
	if s.can(how) {
		l, text = l.Bold(term.Plain, name), term.Text(term.Plain, s.outcome(how))
	} else {
		l = l.Add(term.Dim, name)
	}
	for _, row := range term.Wrap(text, w-wayNames-2) {
		row = l.Fit(wayNames).Then(row)
		if i == s.row {
			row = row.Fit(w).On(term.OnRow)
		}
		p.Row(row.Clicks(clickedWay(i)))
		l = nil
	}
}

// wayNames is the width of the column of ways.
const wayNames = 26

// outcome describes the outcome of a way.
func (s *stuckScreen) outcome(how ledger.TakeOver) string {
	c := s.comes
	kept := words.If(c.Kept > 0, words.Count(c.Kept, "decision", "decisions")+" of yours", "")
	switch how {
	case ledger.Finish:
		out := words.If(c.Asks > 0, "asks "+words.Count(c.Asks, "decision", "decisions"), "asks nothing more")
		if s.stuck.Left.Operation == vcs.Unmerged {
			return out + ", and puts the answers into your files" + words.If(s.job.s.Repo.Dialect().Index, ", staged",
				"") + ". " + words.If(len(s.stuck.Left.Spent) > 0, "What was shelved is off the shelf then. ", "") +
				"Nothing is committed, and undo brings the conflicts back."
		}
		if c.More > 0 {
			more := "replays " + words.Count(c.More, "commit", "commits")
			out += ", and " + more + " more"
		}
		if len(s.stuck.Settled)+len(s.stuck.Marked) > 0 {
			out += ". What you settled stays"
		}
		return out + ". Nothing changes until you accept the result."
	case ledger.Anew:
		out := "joined on the side with " + s.stuck.With.Name + ", by rebase or by merge"
		if kept != "" {
			out += ", with " + kept + " where " + words.Is(c.Kept, "it fits", "they fit")
		}
		if op := s.stuck.Left.Operation; op != vcs.Merging && op != vcs.Rebasing {
			out += "; what was being brought over is left out"
		}
		return out + ". Nothing changes until you accept the result."
	}
	if s.stuck.Left.Unshelving {
		return "your files as they were before, now; what was shelved stays on the shelf. What you edited since is " +
			"kept under a waypoint."
	}
	return fmt.Sprintf("%s at %s as before, now. What you edited since is kept under a waypoint.", s.onBranch(),
		s.job.s.Planner.Short(s.stuck.Left.Before))
}

func (s *stuckScreen) status() term.Line { return term.Text(term.Dim, "half done") }

func (s *stuckScreen) remark() term.Line {
	return term.Text(term.Dim, s.job.say("Nothing has been changed: branch and files are as they were left."))
}
