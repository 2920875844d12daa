package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// logbookScreen lists what Dorvik did here, newest first.
type logbookScreen struct {
	job     *job
	entries []ledger.LogEntry
	points  map[string]*ledger.Waypoint
	adrift  *recovery.Adrift
	rows    list
}

// openLogbook shows the logbook.
func openLogbook(j *job) tea.Cmd {
	return j.newBeside().start(func(ctx context.Context) (then, error) {
		all, err := j.s.Ledger.Logbook()
		if err != nil {
			return nil, err
		}
		var ids []object.ID
		for _, e := range all {
			ids = append(ids, e.From, e.To)
		}
		if err := j.s.Planner.TellApart(ctx, slices.DeleteFunc(ids, object.ID.IsZero)); err != nil {
			return nil, err
		}
		points, err := j.s.Ledger.Waypoints()
		if err != nil {
			return nil, err
		}
		adrift, err := j.s.Workspace.Adrift(ctx)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			s := &logbookScreen{job: j, entries: all, points: points, adrift: adrift}
			s.rows.rows = func() int { return len(s.entries) }
			j.open(s)
			return nil
		}, nil
	})
}

func (s *logbookScreen) here() *ledger.LogEntry {
	if s.rows.row >= len(s.entries) {
		return nil
	}
	return &s.entries[s.rows.row]
}

func (s *logbookScreen) actions() []action {
	var out []action
	if e := s.here(); e != nil && e.Waypoint != "" {
		if e.Of != ledger.Committed {
			out = append(out, act(keys.Next, "what was decided", s.enterRow))
		}
		if e.What != ledger.Sent && (e.What != ledger.Undone || e.Return != "") {
			out = append(out, acts(keys.Undo, "go back before it", func() tea.Cmd { return s.goBack(e.Waypoint) }))
		}
		if e.What == ledger.Joined && e.Of != ledger.Committed {
			out = append(out, acts(keys.Pick, "take only this back, by a new commit",
				func() tea.Cmd { return s.counter(e.Waypoint) }))
		}
		out = append(out, act(keys.Views, "what differs from now",
			func() tea.Cmd { return openSince(s.job, e.Waypoint) }))
	}
	if e := s.here(); e != nil && e.What == ledger.Moved {
		out = append(out, acts(keys.Undo, "take it back", func() tea.Cmd { return s.takeBack(*e) }))
	}
	if s.adrift != nil {
		out = append(out, acts(keys.Branch, "keep what is on no branch", s.keepAdrift))
	}
	if len(s.entries) > 0 {
		out = append(out, acts(keys.Drop, "clean old waypoints", s.clean))
	}
	out = append(out, s.rows.keys("entry")...)
	return append(out, act(keys.Back, "", quietly(s.job.close)))
}

// goBack moves branch, index and files back to before an entry, or shows why it cannot. It asks first if something
// came after it or was pushed.
func (s *logbookScreen) goBack(name string) tea.Cmd {
	return s.job.start("looking how to go back", func(ctx context.Context, _ func(int, int)) (then, error) {
		way, err := s.job.s.WayBack(ctx, name)
		if err != nil {
			return s.refused(err)
		}
		return func() tea.Cmd {
			if way.Direct() {
				return s.goingBack(name)
			}
			s.job.ask(term.Warning(way.Sentence()+" Go back?"), "go back",
				func() tea.Cmd { return s.goingBack(name) }, nil)
			return nil
		}, nil
	})
}

// takeBack undoes the switch to a branch, or its deletion.
func (s *logbookScreen) takeBack(e ledger.LogEntry) tea.Cmd {
	return s.job.startVital("taking it back", func(ctx context.Context, _ func(int, int)) (then, error) {
		if err := s.job.s.Forwards.TakeBack(ctx, &e); err != nil {
			return s.refused(err)
		}
		return func() tea.Cmd {
			s.job.holds = ""
			cmd := s.job.nav.startOver(true)
			s.job.flash = term.Done(words.If(e.Of == ledger.Deleted, "The branch "+e.Branch+" is there again.",
				"You are on "+e.Was+" again; no file changed."))
			return cmd
		}, nil
	})
}

// refused shows why something cannot be done. The list stays.
func (s *logbookScreen) refused(err error) (then, error) {
	var asks *change.AsksError
	if errors.As(err, &asks) {
		return func() tea.Cmd { return s.job.returning(asks) }, nil
	}
	var blocked *plan.Blocked
	var moved *change.MovedError
	if errors.As(err, &blocked) || errors.As(err, &moved) {
		return func() tea.Cmd {
			s.job.flash = term.Warning(words.Sentence(err.Error()))
			return nil
		}, nil
	}
	return nil, err
}

// counter prepares a commit that takes back what an entry brought. It goes through all stages.
func (s *logbookScreen) counter(name string) tea.Cmd {
	return s.job.start("making the opposite", func(ctx context.Context, _ func(int, int)) (then, error) {
		if err := s.job.s.Counter(ctx, name); err != nil {
			return s.refused(err)
		}
		return func() tea.Cmd {
			s.job.holds = ""
			return s.job.nav.lookAgain(false)
		}, nil
	})
}

// keepAdrift makes a branch for commits that are on none.
func (s *logbookScreen) keepAdrift() tea.Cmd {
	a := s.adrift
	return s.job.start("making a branch", func(ctx context.Context, _ func(int, int)) (then, error) {
		name, err := s.job.s.Workspace.KeepAdrift(ctx, a)
		return func() tea.Cmd {
			s.adrift = nil
			s.job.flash = term.Done("Kept on the branch " + name + ". c in the history compares it with yours, and " +
				"picks from " +
				"it.")
			return nil
		}, err
	})
}

// cleanAge is the age of the waypoints that the key cleans.
const cleanAge = 30 * 24 * time.Hour

// clean removes what old waypoints keep, after a question.
func (s *logbookScreen) clean() tea.Cmd {
	s.job.ask(term.Warning("Waypoints older than 30 days lose what they keep. You can no "+
		"longer go back to them; the logbook still tells what was done. Clean them?"), "clean them", func() tea.Cmd {
		return s.job.start("cleaning", func(ctx context.Context, _ func(int, int)) (then, error) {
			n, err := s.job.s.Clean(ctx, cleanAge)
			return func() tea.Cmd {
				s.job.flash = term.Text(term.Plain, words.Count(n, "waypoint was", "waypoints were")+" cleaned.")
				return nil
			}, err
		})
	}, nil)
	return nil
}

func (s *logbookScreen) goingBack(name string) tea.Cmd {
	return s.job.startVital("going back", func(ctx context.Context, _ func(int, int)) (then, error) {
		w, err := s.job.s.Return(ctx, name)
		if err != nil {
			return s.refused(err)
		}
		at := w.Before
		if w.Name != name {
			at = w.After // the event has its own waypoint
		}
		return func() tea.Cmd {
			s.job.notice, s.job.holds, s.job.rewrite = s.job.s.TakeNotice(), "", false
			cmd := s.job.nav.lookAgain(true)
			s.job.flash = term.Done(fmt.Sprintf("%s is back at %s, with its files. Your decisions are kept.",
				w.Branch, s.job.placed(at)))
			return cmd
		}, nil
	})
}

// enterRow shows an entry in full.
func (s *logbookScreen) enterRow() tea.Cmd {
	e := *s.here()
	return s.job.start("reading what was decided", func(ctx context.Context, _ func(int, int)) (then, error) {
		told, err := draw.Of(ctx, s.job.s.History, e.Waypoint)
		if err != nil {
			return nil, err
		}
		p := &toldPage{}
		told.Tell(p)
		return func() tea.Cmd {
			s.job.open(&toldScreen{job: s.job, waypoint: e.Waypoint, rows: p.rows})
			return nil
		}, nil
	})
}

func (s *logbookScreen) update(msg tea.Msg) tea.Cmd {
	return s.rows.update(msg)
}

func (s *logbookScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Head("LOGBOOK", "  what Dorvik did here, the newest first")
	p.Blank()
	if s.adrift != nil {
		p.Warn(w, s.adrift.Sentence()+" Press b to keep "+words.Is(len(s.adrift.Commits), "it", "them")+" on one.")
		p.Blank()
	}
	if len(s.entries) == 0 {
		p.Say(w, term.Text(term.Plain, "Dorvik has changed nothing here yet."))
		return p
	}
	rows := s.rows.on(nil, w)
	for i := range s.entries {
		e := &s.entries[i]
		rows.item(term.Text(term.Dim, words.Ago(s.job.now(), e.When)).Fit(14).Mark(markOfEvent(e.What)).
			Add(term.Plain, e.Sentence(s.job.s.Repo.Dialect(), s.job.s.Planner.Short(e.To))).
			Add(term.Dim, "   "+e.Name()))
	}
	foot := s.kept(w)
	p = append(p, rows.window(max(3, h-len(p)-len(foot)))...)
	if h < 16 {
		return p
	}
	for len(p) < h-len(foot) {
		p.Blank()
	}
	return append(p, foot...)
}

// kept describes what the waypoint of the marked entry keeps.
func (s *logbookScreen) kept(w int) (p term.Page) {
	e := s.here()
	p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
	p.Head("WHAT IT KEEPS", "  "+e.Name())
	p.Blank()
	fact := func(name, text string) {
		p.Row(term.Text(term.Plain, "    ").Then(term.Text(term.Dim, name).Fit(18)).Add(term.Plain, text).Cut(w))
	}
	if e.What == ledger.Moved {
		fact("branch", e.Branch)
		fact("kept", words.If(e.Of == ledger.Deleted, "its commits, at "+s.job.s.Planner.Short(e.From)+
			"; u makes the branch again", "nothing was changed but the branch you are on"))
		return p
	}
	fact("branch", fmt.Sprintf("%s, from %s to %s", e.Branch, s.job.s.Planner.Short(e.From),
		s.job.s.Planner.Short(e.To)))
	point := s.points[e.Waypoint]
	switch {
	case e.Waypoint == "":
		fact("waypoint", "none: nothing was joined here before it")
	case point == nil:
		fact("waypoint", "cleaned: the logbook still tells what was done, but nothing is kept of it")
	default:
		fact("decisions", words.If(len(point.Decisions) == 0, "none were asked", words.Count(len(point.Decisions),
			"was made", "were made")+"; enter shows them"))
		if k := point.Kept; k != nil && len(k.Paths) > 0 {
			fact("not committed", words.List(words.Some(k.Paths, 4))+", as it was then")
		}
		if len(point.Aside) > 0 {
			fact("moved aside", words.List(words.Some(point.Aside, 4)))
			fact("", "kept in "+s.job.s.Applier.AsideAt(point))
		}
		if c := point.Checked; c != nil && !c.Skipped {
			fact("check", c.Command+words.If(c.Passed, ", which passed", ", which failed"))
		}
	}
	return p
}

// markOfEvent returns the mark of a event.
func markOfEvent(d ledger.Event) term.Mark {
	switch d {
	case ledger.Undone:
		return term.MarkBehind
	case ledger.Sent:
		return term.MarkSettled
	}
	return term.MarkJoined
}

func (s *logbookScreen) status() term.Line {
	return term.Text(term.Dim, words.Count(len(s.entries), "entry", "entries"))
}

func (s *logbookScreen) remark() term.Line {
	return term.Text(term.Dim,
		"A waypoint keeps the branch as it was. Going back keeps what came since under a waypoint, too, "+
			"and says so first.")
}

// toldScreen shows a recovery in sentences, as the report does.
type toldScreen struct {
	job      *job
	waypoint string
	rows     []term.Line
	scroll   term.Scroll
}

func (s *toldScreen) actions() []action {
	out := append([]action{act(keys.Back, "", quietly(s.job.close))}, scrollKeys(&s.scroll)...)
	return append(out, act(keys.Picture, "", func() tea.Cmd {
		of := newPicture(s.job, draw.KindReport)
		of.waypoint = s.waypoint
		s.job.open(of)
		return nil
	}))
}

func (s *toldScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.Update(msg)
	return nil
}

func (s *toldScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	for _, l := range s.rows {
		p.Rows(term.Indent(term.Wrap(l, w-4), 2))
	}
	return s.scroll.Window(p, h)
}

func (s *toldScreen) status() term.Line { return term.Text(term.Dim, "waypoint "+s.waypoint) }

func (s *toldScreen) remark() term.Line {
	return term.Text(term.Dim, "p writes it as a report. You are only reading.")
}

// toldPage collects a report as rows.
type toldPage struct{ rows []term.Line }

func (p *toldPage) add(l term.Line) { p.rows = append(p.rows, l) }

// markOfSign returns the mark of a drawn sign.
func markOfSign(k draw.SignKind) term.Mark {
	return [...]term.Mark{draw.SignBase: term.MarkBase, draw.SignYours: term.MarkYours,
		draw.SignTheirs: term.MarkTheirs,
		draw.SignJoined: term.MarkJoined, draw.SignBehind: term.MarkBehind}[k]
}

// Title implements draw.Listener.
func (p *toldPage) Title(title string, summary []string) {
	p.add(term.Line{}.Bold(term.Bright, title))
	p.add(nil)
	for _, l := range summary {
		p.add(term.Text(term.Plain, l))
	}
}

// Part implements draw.Listener.
func (p *toldPage) Part(h string, _ float64) {
	p.add(nil)
	p.add(term.Heading(strings.ToUpper(h)))
	p.add(nil)
}

// Say implements draw.Listener.
func (p *toldPage) Say(text string) { p.add(term.Text(term.Plain, text)) }

// Side implements draw.Listener.
func (p *toldPage) Side(name string, k draw.SignKind, nodes []history.Node) {
	for _, n := range nodes {
		m := markOfSign(k)
		p.add(term.Line{}.Mark(m).Add(m.Hue, n.ID.Prefix(12)+"  ").Add(term.Plain, n.Subject()).
			Add(term.Dim, "   "+n.Author().Name+", "+n.Author().Time().Format("2 Jan 2006")))
	}
}

// Overlap implements draw.Listener.
func (p *toldPage) Overlap(list []plan.Overlap) {
	for _, o := range list {
		p.add(term.Text(term.Plain, o.Path+"   ").Mark(term.MarkYours).Add(term.Dim,
			fmt.Sprintf("%d  ", o.Yours)).Mark(term.MarkTheirs).
			Add(term.Dim, fmt.Sprintf("%d  ", o.Theirs)).Add(term.Dim, string(o.Kind)))
	}
}

// Conflict implements draw.Listener.
func (p *toldPage) Conflict(q *plan.Attributed, head, decision string) {
	p.add(term.Line{}.Bold(term.Plain, head))
	if c := q.Question; !c.Whole() {
		for _, side := range []struct {
			term.Mark
			text string
		}{{term.MarkBase, c.Base}, {term.MarkYours, c.Yours}, {term.MarkTheirs, c.Theirs}} {
			for _, row := range splitLines(strings.TrimSuffix(side.text, "\n")) {
				if side.text != "" {
					p.add(term.Line{}.Mark(side.Mark).Add(term.Plain, row))
				}
			}
		}
	}
	p.add(term.Line{}.Mark(term.MarkSettled).Add(term.Joined, decision))
	p.add(nil)
}

// Item implements draw.Listener.
func (p *toldPage) Item(k draw.SignKind, text string) {
	p.add(term.Line{}.Mark(markOfSign(k)).Add(term.Plain, text))
}
