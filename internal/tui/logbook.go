package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// logbookScreen is what was done here, the newest first.
type logbookScreen struct {
	*job
	entries []ledger.LogEntry
	points  map[string]*ledger.Waypoint
	adrift  *recovery.Adrift
	row     int
	scroll  scroll
}

// openLogbook lays the logbook over the screen there is.
func (j *job) openLogbook() tea.Cmd {
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
			j.open(&logbookScreen{job: j, entries: all, points: points, adrift: adrift})
			return nil
		}, nil
	})
}

func (s *logbookScreen) here() *ledger.LogEntry {
	if s.row >= len(s.entries) {
		return nil
	}
	return &s.entries[s.row]
}

func (s *logbookScreen) actions() []action {
	var out []action
	if e := s.here(); e != nil && e.Waypoint != "" {
		out = append(out, act(keys.next, "what was decided", s.enterRow))
		if e.What != ledger.Sent && (e.What != ledger.Undone || e.Return != "") {
			out = append(out, acts(keys.undo, "go back before it", func() tea.Cmd { return s.goBack(e.Waypoint) }))
		}
		if e.What == ledger.Joined {
			out = append(out, acts(keys.pick, "take only this back, by a new commit",
				func() tea.Cmd { return s.counter(e.Waypoint) }))
		}
		out = append(out, act(keys.views, "what differs from now", func() tea.Cmd { return s.openSince(e.Waypoint) }))
	}
	if s.adrift != nil {
		out = append(out, acts(keys.branch, "keep what is on no branch", s.keepAdrift))
	}
	if len(s.entries) > 0 {
		out = append(out, acts(keys.drop, "clean old waypoints", s.clean))
	}
	out = append(out, rowKeys("entry", len(s.entries), s.scroll.room(), s.move)...)
	return append(out, act(keys.back, "", quietly(s.close)))
}

func (s *logbookScreen) move(by int) tea.Cmd {
	s.row = max(0, min(s.row+by, len(s.entries)-1))
	return nil
}

// goBack takes branch, index and files back to before an entry, or says why not. Where something was
// done since, or it was pushed, it asks first.
func (s *logbookScreen) goBack(name string) tea.Cmd {
	return s.start("looking how to go back", func(ctx context.Context, _ func(int, int)) (then, error) {
		way, err := s.s.WayBack(ctx, name)
		if err != nil {
			return s.refused(err)
		}
		return func() tea.Cmd {
			if way.Direct() {
				return s.goingBack(name)
			}
			s.ask(warning(way.Sentence()+" Go back?"), "go back", func() tea.Cmd { return s.goingBack(name) }, nil)
			return nil
		}, nil
	})
}

// refused says why something cannot be done; the list stays.
func (s *logbookScreen) refused(err error) (then, error) {
	var asks *change.AsksError
	if errors.As(err, &asks) {
		return func() tea.Cmd { return s.returning(asks) }, nil
	}
	var blocked *plan.Blocked
	var moved *change.MovedError
	if errors.As(err, &blocked) || errors.As(err, &moved) {
		return func() tea.Cmd {
			s.flash = warning(words.Sentence(err.Error()))
			return nil
		}, nil
	}
	return nil, err
}

// counter prepares taking back what an entry brought by a new commit, which goes through the stages.
func (s *logbookScreen) counter(name string) tea.Cmd {
	return s.start("making the opposite", func(ctx context.Context, _ func(int, int)) (then, error) {
		if err := s.s.Counter(ctx, name); err != nil {
			return s.refused(err)
		}
		return func() tea.Cmd {
			s.holds = ""
			s.goTo(s.look)
			return s.load(false)
		}, nil
	})
}

// keepAdrift gives commits that are on no branch one.
func (s *logbookScreen) keepAdrift() tea.Cmd {
	a := s.adrift
	return s.start("making a branch", func(ctx context.Context, _ func(int, int)) (then, error) {
		name, err := s.s.Workspace.KeepAdrift(ctx, a)
		return func() tea.Cmd {
			s.adrift = nil
			s.flash = done("Kept on the branch " + name + ". c in the history compares it with yours, and picks from " +
				"it.")
			return nil
		}, err
	})
}

// cleanAge is how old waypoints are that are cleaned by a key.
const cleanAge = 30 * 24 * time.Hour

// clean forgets what old waypoints keep, if that is agreed to.
func (s *logbookScreen) clean() tea.Cmd {
	s.ask(warning("What waypoints keep that are older than 30 days is forgotten: it cannot be gone back to then, and "+
		"the logbook goes on telling what was done. Clean them?"), "clean them", func() tea.Cmd {
		return s.start("cleaning", func(ctx context.Context, _ func(int, int)) (then, error) {
			n, err := s.s.Clean(ctx, cleanAge)
			return func() tea.Cmd {
				s.flash = txt(plain, words.Count(n, "waypoint was", "waypoints were")+" cleaned.")
				return nil
			}, err
		})
	}, nil)
	return nil
}

func (s *logbookScreen) goingBack(name string) tea.Cmd {
	return s.startVital("going back", func(ctx context.Context, _ func(int, int)) (then, error) {
		w, err := s.s.Return(ctx, name)
		if err != nil {
			return s.refused(err)
		}
		at := w.Before
		if w.Name != name {
			at = w.After // it has a waypoint of its own
		}
		return func() tea.Cmd {
			s.notice, s.holds, s.rewrite = s.s.TakeNotice(), "", false
			s.goTo(s.look)
			cmd := s.load(true)
			s.flash = done(fmt.Sprintf("%s is back at %s, with index and files. Your decisions are kept.", w.Branch,
				s.s.Planner.Short(at)))
			return cmd
		}, nil
	})
}

// enterRow tells an entry in full.
func (s *logbookScreen) enterRow() tea.Cmd {
	e := *s.here()
	return s.start("reading what was decided", func(ctx context.Context, _ func(int, int)) (then, error) {
		told, err := draw.Of(ctx, s.s.History, e.Waypoint)
		if err != nil {
			return nil, err
		}
		p := &toldPage{}
		told.Tell(p)
		return func() tea.Cmd {
			s.open(&toldScreen{job: s.job, waypoint: e.Waypoint, rows: p.rows})
			return nil
		}, nil
	})
}

func (s *logbookScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedCommit:
		s.row = int(msg)
	case tea.MouseWheelMsg:
		return s.move(wheeled(msg))
	}
	return nil
}

func (s *logbookScreen) view(w, h int) page {
	p := page{nil}
	p.head("LOGBOOK", "  what Dorvik did here, the newest first")
	p.blank()
	if s.adrift != nil {
		p.warn(w, s.adrift.Sentence()+" Press b to keep "+words.Is(len(s.adrift.Commits), "it", "them")+" on one.")
		p.blank()
	}
	if len(s.entries) == 0 {
		p.say(w, txt(plain, "Dorvik has changed nothing here yet."))
		return p
	}
	var rows page
	for i := range s.entries {
		e := &s.entries[i]
		l := txt(bright, words.If(i == s.row, "  ▶ ", "    ")).then(txt(dim, words.Ago(s.now(), e.When)).fit(14)).
			mark(markOfDeed(e.What)).add(plain, e.Sentence(s.s.Planner.Short(e.To))).add(dim, "   "+e.Name()).cut(w)
		if i == s.row {
			l = l.fit(w).on(onRow)
		}
		rows.row(l.clicks(clickedCommit(i)))
	}
	foot := s.kept(w)
	room := max(3, h-len(p)-len(foot))
	s.scroll.size(len(rows), room)
	s.scroll.show(s.row)
	p = append(p, s.scroll.window(rows, room)...)
	if h < 16 {
		return p
	}
	for len(p) < h-len(foot) {
		p.blank()
	}
	return append(p, foot...)
}

// kept tells of the marked entry what its waypoint keeps.
func (s *logbookScreen) kept(w int) (p page) {
	e := s.here()
	p.row(txt(plain, "  ").then(rule(w - 4)))
	p.head("WHAT IT KEEPS", "  "+e.Name())
	p.blank()
	fact := func(name, text string) {
		p.row(txt(plain, "    ").then(txt(dim, name).fit(18)).add(plain, text).cut(w))
	}
	fact("branch", fmt.Sprintf("%s, from %s to %s", e.Branch, s.s.Planner.Short(e.From), s.s.Planner.Short(e.To)))
	point := s.points[e.Waypoint]
	switch {
	case e.Waypoint == "":
		fact("waypoint", "none: nothing was joined here before it")
	case point == nil:
		fact("waypoint", "cleaned: what was done is still told, and nothing is kept of it")
	default:
		fact("decisions", words.If(len(point.Decisions) == 0, "none were asked", words.Count(len(point.Decisions),
			"was made", "were made")+"; enter tells them"))
		if k := point.Kept; k != nil && len(k.Paths) > 0 {
			fact("not committed", words.List(words.Some(k.Paths, 4))+", as it was then")
		}
		if len(point.Aside) > 0 {
			fact("moved aside", words.List(words.Some(point.Aside, 4)))
			fact("", "kept in "+s.s.Applier.AsideAt(point))
		}
		if c := point.Checked; c != nil && !c.Skipped {
			fact("check", c.Command+words.If(c.Passed, ", which passed", ", which failed"))
		}
	}
	return p
}

// markOfDeed is the mark of what was done.
func markOfDeed(d ledger.Deed) mark {
	switch d {
	case ledger.Undone:
		return markBehind
	case ledger.Sent:
		return markSettled
	}
	return markJoined
}

func (s *logbookScreen) status() line {
	return txt(dim, words.Count(len(s.entries), "entry", "entries"))
}

func (s *logbookScreen) remark() line {
	return txt(dim, "A waypoint keeps the branch as it was. Going back keeps what came since under a waypoint, too, "+
		"and says so first.")
}

// toldScreen is a recovery in sentences, as the report has them.
type toldScreen struct {
	*job
	waypoint string
	rows     []line
	scroll   scroll
}

func (s *toldScreen) actions() []action {
	out := append([]action{act(keys.back, "", quietly(s.close))}, s.scroll.actions()...)
	return append(out, act(keys.picture, "", func() tea.Cmd {
		s.open(&pictureScreen{job: s.job, row: len(drawings) - 1, waypoint: s.waypoint})
		return nil
	}))
}

func (s *toldScreen) update(msg tea.Msg) tea.Cmd {
	s.scroll.update(msg)
	return nil
}

func (s *toldScreen) view(w, h int) page {
	p := page{nil}
	for _, l := range s.rows {
		p.rows(indent(wrap(l, w-4), 2))
	}
	return s.scroll.window(p, h)
}

func (s *toldScreen) status() line { return txt(dim, "waypoint "+s.waypoint) }

func (s *toldScreen) remark() line { return txt(dim, "p writes it as a report. You are only reading.") }

// toldPage takes down what is told, as rows.
type toldPage struct{ rows []line }

func (p *toldPage) add(l line) { p.rows = append(p.rows, l) }

// markOfSign is the mark of a sign that is drawn.
func markOfSign(k draw.SignKind) mark {
	return [...]mark{draw.SignBase: markBase, draw.SignYours: markYours, draw.SignTheirs: markTheirs,
		draw.SignJoined: markJoined, draw.SignBehind: markBehind}[k]
}

// Title implements draw.Listener, and so do the others.
func (p *toldPage) Title(title string, summary []string) {
	p.add(line{}.bold(bright, title))
	p.add(nil)
	for _, l := range summary {
		p.add(txt(plain, l))
	}
}

// Part begins a part.
func (p *toldPage) Part(h string, _ float64) {
	p.add(nil)
	p.add(heading(strings.ToUpper(h)))
	p.add(nil)
}

// Say is a sentence.
func (p *toldPage) Say(text string) { p.add(txt(plain, text)) }

// Side is one side's commits.
func (p *toldPage) Side(name string, k draw.SignKind, nodes []history.Node) {
	for _, n := range nodes {
		m := markOfSign(k)
		p.add(line{}.mark(m).add(m.hue, n.ID.Prefix(12)+"  ").add(plain, n.Subject()).
			add(dim, "   "+n.Author().Name+", "+n.Author().Time().Format("2 Jan 2006")))
	}
}

// Overlap is the files that both sides changed.
func (p *toldPage) Overlap(list []plan.Overlap) {
	for _, o := range list {
		p.add(txt(plain, o.Path+"   ").mark(markYours).add(dim, fmt.Sprintf("%d  ", o.Yours)).mark(markTheirs).
			add(dim, fmt.Sprintf("%d  ", o.Theirs)).add(dim, string(o.Kind)))
	}
}

// Conflict is a conflict with both edits and what was decided.
func (p *toldPage) Conflict(q *plan.Attributed, head, decision string) {
	p.add(line{}.bold(plain, head))
	if c := q.Question; !c.Whole() {
		for _, side := range []struct {
			mark
			text string
		}{{markBase, c.Base}, {markYours, c.Yours}, {markTheirs, c.Theirs}} {
			for _, row := range splitLines(strings.TrimSuffix(side.text, "\n")) {
				if side.text != "" {
					p.add(line{}.mark(side.mark).add(plain, row))
				}
			}
		}
	}
	p.add(line{}.mark(markSettled).add(joined, decision))
	p.add(nil)
}

// Item is one of a list.
func (p *toldPage) Item(k draw.SignKind, text string) {
	p.add(line{}.mark(markOfSign(k)).add(plain, text))
}
