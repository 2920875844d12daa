package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// chooseScreen is Choose: both computed routes side by side.
type chooseScreen struct {
	job    *job
	scroll term.Scroll
}

func (s *chooseScreen) label() string { return ledger.Choose.String() }

func (s *chooseScreen) state() (string, passed) {
	switch {
	case s.job.pos == nil || s.job.joinless():
		return "", unused
	case s.job.under == screen(s):
		return s.job.called(s.job.route), well
	case s.job.join != nil:
		return s.job.called(s.job.join.Route), well
	}
	return s.job.called(s.job.st.Route), well
}

// fit marks a route that exists.
func (s *chooseScreen) fit() {
	if s.job.route == "" || s.job.pos.IsPick() != (s.job.route == plan.Pick) || s.job.st.Route == "" {
		s.job.route = s.job.plan.Suggested
	}
}

// enter goes to Choose and computes both routes with the present decisions.
func (s *chooseScreen) enter() tea.Cmd {
	s.job.goTo(s)
	pos, st := s.job.pos, s.job.st
	return s.job.start("working both ways out", func(ctx context.Context, progress func(int, int)) (then, error) {
		plan, err := s.job.s.Planner.Plan(ctx, pos, &st.Decisions, progress)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			if s.job.pos != pos {
				return nil
			}
			s.job.plan = plan
			return s.job.foresee()
		}, nil
	})
}

func (s *chooseScreen) status() term.Line { return s.job.asked() }

func (s *chooseScreen) remark() term.Line {
	if s.oneWay() {
		return term.Text(term.Dim, s.job.say("This was worked out without touching your branch or files."))
	}
	return term.Text(term.Dim, "Both ways were worked out without touching your branch or files.")
}

func (s *chooseScreen) actions() []action {
	out := []action{acts(keys.Next, "take this way", s.take)}
	switch {
	case s.job.pos.IsPick():
		out[0] = acts(keys.Next, "go on", s.take)
	case !s.oneWay():
		out = append(out, act(keys.Left, "the other way", quietly(s.turn)), also(keys.Right, quietly(s.turn)))
	}
	out = append(out, act(keys.Back, "", quietly(s.job.nav.toLook)), drawAction(s.job, draw.KindRoutes))
	return append(out, scrollKeys(&s.scroll)...)
}

// turn marks the other route.
func (s *chooseScreen) turn() {
	s.job.route = map[plan.Route]plan.Route{plan.Rebase: plan.Merge,
		plan.Merge: plan.Rebase}[s.job.route]
}

// picked is a click on a route.
type picked struct{ route plan.Route }

func (s *chooseScreen) update(msg tea.Msg) tea.Cmd {
	if click, ok := msg.(picked); ok {
		s.job.route = click.route
		return nil
	}
	s.scroll.Update(msg)
	return nil
}

// take takes the marked route, or shows why it cannot.
func (s *chooseScreen) take() tea.Cmd {
	if j := s.job.plan.Of(s.job.route); j.Refused != nil {
		s.job.flash = term.Warning(words.Sentence(j.Refused.Error()))
		return nil
	}
	if s.job.route == plan.Rebase && s.job.plan.Pushed() && !s.job.rewrite {
		s.confirm(s.job.plan.Published)
		return nil
	}
	return s.taken()
}

func (s *chooseScreen) taken() tea.Cmd {
	route := s.job.route
	return s.job.rejoin(func(to *recovery.Session) error { return to.Ledger.TakeRoute(route) }, s.job.nav.joined)
}

// confirm asks whether commits on a remote may get new ids.
func (s *chooseScreen) confirm(published []plan.Published) {
	whoever := "whoever has " + words.Is(len(published), "that commit", "those commits") + " will"
	if who := published[0].Who; len(who) > 0 {
		whoever += ", such as " + words.List(words.Some(who, 3)) + " who committed there,"
	}
	s.job.ask(term.Warning(words.List(words.Some(s.job.namesOf(published),
		2))+": "+whoever+" have the same change twice. Rebase "+
		"all the same?"),
		"rebase all the same", func() tea.Cmd { s.job.rewrite = true; return s.taken() }, nil)
}

func (s *chooseScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	routes := []plan.Route{plan.Rebase, plan.Merge}
	switch {
	case s.job.pos.IsPick():
		p.Rows(term.Indent(s.routePage(plan.Pick, min(w-4, wide)), 2))
	case s.oneWay() && w >= wide:
		s.beside(&p, w)
		p.Blank()
		s.why(&p, w)
	case s.oneWay():
		s.why(&p, w)
		p.Blank()
		p.Rows(term.Indent(s.routePage(s.job.route, w-4), 2))
		p.Blank()
		p.Rows(term.Indent(s.comes(w-4), 2))
	case w >= wide:
		s.sideBySide(&p, routes, w)
		p.Blank()
		s.why(&p, w)
	default:
		tabs := term.Text(term.Plain, "  ")
		for i, r := range routes {
			if i > 0 {
				tabs = tabs.Add(term.Dim, "   ")
			}
			name := term.Text(term.Dim, "  "+s.title(r))
			if r == s.job.route {
				name = term.Line{}.Bold(term.Bright, "▶ "+s.title(r))
			}
			tabs = tabs.Then(name.Clicks(picked{r}))
		}
		p.Row(tabs.Add(term.Dim, "     ←→ shows the other"))
		p.Blank()
		s.why(&p, w)
		p.Blank()
		p.Rows(term.Indent(s.routePage(s.job.route, w-4), 2))
	}
	return s.scroll.Window(p, h)
}

// oneWay reports that there is but one route.
func (s *chooseScreen) oneWay() bool {
	return s.job.pos.IsPick() || s.job.plan != nil && s.job.plan.OneWay()
}

// beside shows the only route, and what it brings.
func (s *chooseScreen) beside(p *term.Page, w int) {
	width := (w - 7) / 2
	route, comes := s.routePage(s.job.route, width-6), s.comes(width-3)
	left := s.box(route, s.job.route, width, len(route))
	for i := range max(len(left), len(comes)+1) {
		l := term.Text(term.Plain, strings.Repeat(" ", width))
		if i < len(left) {
			l = left[i]
		}
		row := term.Text(term.Plain, "  ").Then(l).Add(term.Plain, "    ")
		if i > 0 && i <= len(comes) {
			row = row.Then(comes[i-1])
		}
		p.Row(row)
	}
}

// comes lists what is new on the other side.
func (s *chooseScreen) comes(w int) term.Page {
	p := term.Page{term.Line{}.Bold(term.Dim, "WHAT COMES")}
	p.Blank()
	for _, n := range s.job.pos.Divergence.Theirs {
		p.Row(term.Text(term.Theirs, s.job.s.Planner.Short(n.ID)+"  ").Add(term.Plain, n.Subject()).Cut(w))
		p.Row(term.Text(term.Dim, strings.Repeat(" ", len(s.job.s.Planner.Short(n.ID))+2)+n.Author().Name+", "+
			s.job.age(n)).Cut(w))
	}
	return p
}

func (s *chooseScreen) sideBySide(p *term.Page, routes []plan.Route, w int) {
	width, rows := (w-7)/2, 0
	var pages [2]term.Page
	for i, r := range routes {
		pages[i] = s.routePage(r, width-6)
		rows = max(rows, len(pages[i]))
	}
	left, right := s.box(pages[0], routes[0], width, rows), s.box(pages[1], routes[1], width, rows)
	for i := range left {
		p.Row(term.Text(term.Plain, "  ").Then(left[i]).Add(term.Plain, "   ").Then(right[i]))
	}
}

// why returns the reason for the suggested route.
func (s *chooseScreen) why(p *term.Page, w int) {
	p.Say(w, term.Line{}.Bold(term.Bright, "Why "+s.job.called(s.job.plan.Suggested)+": ").Add(term.Dim,
		s.job.plan.Why))
	if s.job.plan.Rebase.Refused == nil && s.job.plan.Merge.Refused == nil && s.job.plan.Merge.Conflicts() > 0 {
		p.Say(w, term.Text(term.Dim,
			"What you decide on one way is kept where the same conflict comes up on the other."))
	}
}

func (s *chooseScreen) title(r plan.Route) string { return words.Upper(s.job.called(r)) }

// box draws a border around a page, a heavy one around the marked route.
func (s *chooseScreen) box(p term.Page, r plan.Route, w, rows int) term.Page {
	g, h := []string{"┌", "─", "┐", "│", "└", "┘"}, term.Faint
	if r == s.job.route {
		g, h = []string{"┏", "━", "┓", "┃", "┗", "┛"}, term.Bright
	}
	out := term.Page{term.Text(h, g[0]+strings.Repeat(g[1], w-2)+g[2])}
	for i := range rows {
		var l term.Line
		if i < len(p) {
			l = p[i]
		}
		out.Row(term.Text(h, g[3]).Add(term.Plain, "  ").Then(l).Fit(w-1).Add(h, g[3]).Clicks(picked{r}))
	}
	out.Row(term.Text(h, g[4]+strings.Repeat(g[1], w-2)+g[5]))
	return out
}

// facts is a page of names and values.
type facts struct {
	page term.Page
	w    int
}

func (f *facts) fact(what string, l term.Line) {
	for i, row := range term.Wrap(l, f.w-14) {
		if i > 0 {
			what = ""
		}
		f.page.Row(term.Text(term.Dim, " "+what).Fit(14).Then(row))
	}
}

// about describes each route and when it suits.
var about = map[plan.Route][2]string{
	plan.Rebase: {"your commits are replayed, one by one, after theirs",
		"Suits you when the commits are still only yours and the team likes a line that reads in order."},
	plan.Merge: {"one new commit joins the two lines",
		"Suits you when others already build on your commits, or when it should stay visible that there were two " +
			"lines."},
	plan.Pick: {"the picked commits are replayed after yours",
		"The picked commits stay where they are. If that branch is joined later, Dorvik finds that the change is " +
			"there already."},
}

// aboutUpdate describes the only route of a system that keeps one row of commits.
var aboutUpdate = [2]string{"your changes go on top of what is new, one change list after the other",
	"Your files are as they are until you accept the result, and an undo brings them back byte for byte."}

// aboutBringing describes bringing another line in, in such a system.
var aboutBringing = [2]string{"one new revision brings the other line in",
	"What is brought in is noted in svn:mergeinfo, so that the next time only what is new then comes."}

// aboutCounter describes taking a join back by a commit.
var aboutCounter = [2]string{"one commit that takes back what was brought, after all that came since",
	"Suits you when what is taken back is on the remote: no commit there is rewritten."}

// routePage shows what a route makes and asks.
func (s *chooseScreen) routePage(r plan.Route, w int) term.Page {
	f := facts{w: w}
	j := s.job.plan.Of(r)
	is := about[r]
	switch {
	case s.job.pos.BringsIn():
		is = aboutBringing
	case s.oneWay() && r == plan.Rebase:
		is = aboutUpdate
	}
	head := term.Line{}.Bold(term.Bright, s.title(r))
	if s.job.pos.Counter() != "" {
		is, head = aboutCounter, term.Line{}.Bold(term.Bright, "Take back by a commit")
	}
	if r == s.job.plan.Suggested && !s.job.pos.IsPick() {
		head = head.Add(term.Joined, "   suggested")
	}
	f.page.Row(head)
	f.page.Rows(term.Wrap(term.Text(term.Dim, is[0]), w))
	f.page.Blank()
	if j.Refused != nil {
		f.page.Rows(term.Wrap(term.Warning(words.Sentence(j.Refused.Error())), w))
		return f.page
	}
	f.page.Rows(s.drawing(j, w))
	f.page.Blank()
	s.makes(&f, j)
	f.page.Blank()
	s.asks(&f, j)
	f.page.Blank()
	if d := s.job.st.LastCheck; d > 0 {
		f.fact("check", term.Text(term.Plain, "once, about "+words.Seconds(d)).Add(term.Dim, "  (as the last run)"))
	} else {
		f.fact("check", term.Text(term.Plain, "once, on the joined result"))
	}
	f.page.Blank()
	f.page.Rows(term.Wrap(term.Text(term.Dim, is[1]), w))
	return f.page
}

// makes describes the new history.
func (s *chooseScreen) makes(f *facts, j *plan.Join) {
	switch j.Route {
	case plan.Pick:
		f.fact("history", term.Text(term.Plain, "your line, and "+words.Count(j.Kept(), "new commit",
			"new commits")+" after it"))
		f.fact("rewrites", term.Text(term.Plain, "nothing"))
		f.fact("keeps", term.Text(term.Plain, "author, date and message of each"))
		s.leavesOut(f, j)
	case plan.Rebase:
		if s.oneWay() {
			f.fact("brings", term.Text(term.Plain, words.Count(len(s.job.pos.Divergence.Theirs), "new revision",
				"new revisions")))
			s.leavesOut(f, j)
			return
		}
		f.fact("history", term.Text(term.Plain, "one straight line, no extra commit"))
		l := term.Text(term.Plain, words.Count(j.Kept(), "of your commits, ", "of your commits, "))
		if n := len(s.job.plan.Published); n > 0 {
			f.fact("rewrites", l.Add(term.Trouble, "▲ "+words.Count(n, "is", "are")+" on a remote: ").
				Add(term.Plain, words.List(words.Some(s.job.namesOf(s.job.plan.Published), 2))))
		} else {
			f.fact("rewrites", l.Add(term.Joined, "none was ever pushed").Add(term.Plain, ": safe"))
		}
		s.leavesOut(f, j)
	default:
		subject := plan.MergeSubject(s.job.pos)
		if s.job.pos.BringsIn() {
			f.fact("brings", term.Text(term.Plain, words.Count(len(s.job.pos.Divergence.Theirs), "revision",
				"revisions")))
			f.fact("adds", term.Text(term.Plain, "1 revision, ").Add(term.Dim, "“"+subject+"”"))
			return
		}
		f.fact("history", term.Text(term.Plain, "two lines, and a commit that joins them"))
		f.fact("rewrites", term.Text(term.Plain, "nothing"))
		f.fact("adds", term.Text(term.Plain, "1 merge commit, ").Add(term.Dim, "“"+subject+"”"))
	}
}

// namesOf returns the ids and subjects of commits.
func (j *job) namesOf(nodes []plan.Published) (names []string) {
	for _, n := range nodes {
		names = append(names, j.s.Planner.Short(n.ID)+" “"+n.Subject()+"” on "+n.On)
	}
	return names
}

// leavesOut lists the commits that are not replayed.
func (s *chooseScreen) leavesOut(f *facts, j *plan.Join) {
	other := merge.Theirs
	if j.Route == plan.Pick {
		other = merge.Yours
	}
	for i := range j.Steps {
		st := &j.Steps[i]
		id := s.job.s.Planner.Short(st.Commit.ID)
		if id == vcs.Unnumbered {
			id = "“" + st.Commit.Subject() + "”"
		}
		switch st.Outcome {
		case replay.AlreadyThere:
			f.fact("leaves out", term.Text(term.Plain, id).Add(term.Dim,
				" is there already: "+s.job.first(st.Same, other)+" did the same"))
		case replay.Emptied:
			f.fact("leaves out", term.Text(term.Plain, id).Add(term.Dim, " has nothing left to add"))
		case replay.Dropped:
			f.fact("leaves out", term.Text(term.Plain, id).Add(term.Dim,
				" as you wished; n on Settle brings it back"))
		}
	}
}

// asks lists the open decisions of a route.
func (s *chooseScreen) asks(f *facts, j *plan.Join) {
	defer func() {
		n := len(s.job.misfits[j.Route])
		if n == 0 && s.job.foreseeing != nil {
			f.fact("may break", term.Text(term.Dim, stillLooking))
		}
		if n > 0 {
			f.fact("may break", term.Text(term.Trouble, words.Count(n, "pair of edits",
				"pairs of edits")).Add(term.Plain,
				words.Is(n, " that does not fit", " that do not fit")+", though the texts join"))
		}
	}()
	n, made := j.Conflicts(), j.Settled
	if n == 0 {
		f.fact("asks you", term.Text(term.Joined, "nothing: it joins by itself"))
		return
	}
	l := term.Line{}.Bold(term.Trouble, fmt.Sprint(j.Open)).Add(term.Plain, words.Is(j.Open, " decision", " decisions"))
	if j.Open == 0 {
		l = term.Text(term.Joined, "nothing more")
	}
	if made > 0 {
		l = l.Add(term.Plain, "; ").Add(term.Joined, fmt.Sprintf("%d made already", made))
	}
	if j.Route == plan.Merge {
		l = l.Add(term.Plain, ", once")
	} else {
		l = l.Add(term.Plain, ", at "+s.job.say(words.Count(len(j.Stops), "commit", "commits")))
	}
	f.fact("asks you", l)
	m := term.MarkYours
	if j.Route == plan.Pick {
		m = term.MarkTheirs
	}
	rows := 0
	for _, stop := range j.Stops {
		if rows > 8 {
			f.page.Row(term.Text(term.Dim, "   and more"))
			return
		}
		if stop.Uncommitted {
			f.page.Row(term.Text(term.Plain, "   ").Mark(term.MarkYours).Add(term.Plain,
				stop.Commit.Subject()).Cut(f.w))
		} else if stop.Commit.Commit != nil {
			f.page.Row(term.Text(term.Plain, "   ").Mark(m).Add(term.Plain,
				s.job.s.Planner.Short(stop.Commit.ID)+" ").Add(term.Dim,
				stop.Commit.Subject()).Cut(f.w))
		}
		rows += stopFiles(f, stop)
	}
}

// stopFiles lists the files of a stop with questions.
func stopFiles(f *facts, stop plan.Stop) int {
	const most = 5
	for i, file := range stop.Files {
		if i == most {
			f.page.Row(term.Text(term.Dim, "     and "+words.Count(len(stop.Files)-i, "more file", "more files")))
			return i
		}
		how, h := hint(file)
		f.page.Row(term.Text(term.Plain, "     "+file.Path).Add(term.Dim,
			"   "+words.Count(len(file.Questions), "conflict",
				"conflicts")+" · ").
			Add(h, how).Cut(f.w))
	}
	return len(stop.Files)
}

// hint describes in a few words how a file's conflicts can be settled: the first that has no suggestion, or else the
// first.
func hint(f *settle.File) (string, term.Hue) {
	c := f.Questions[0]
	if i := slices.IndexFunc(f.Questions, func(q *settle.Question) bool { return q.Suggested == "" }); i > 0 {
		c = f.Questions[i]
	}
	switch {
	case c.Suggested == settle.Weave:
		return "weave is suggested", term.Joined
	case c.Suggested == settle.TheirsYours:
		return "both added lines here", term.Joined
	case c.Whole():
		return words.Hint(c), term.Plain
	case c.Suggested != "":
		return "one side holds both edits", term.Joined
	}
	if c.Doubt != "" {
		return "needs your eye: " + c.Doubt, term.Plain
	}
	return "needs your eye", term.Plain
}

// drawing shows the history that a route would make.
func (s *chooseScreen) drawing(j *plan.Join, w int) term.Page {
	switch j.Route {
	case plan.Pick:
		return s.drawPick(j, w)
	case plan.Rebase:
		return s.drawRebase(j, w)
	}
	top, bottom := row(term.MarkYours, "", len(s.job.pos.Divergence.Yours), 8), row(term.MarkTheirs, "",
		len(s.job.pos.Divergence.Theirs), 8)
	n := max(top.Width(), bottom.Width())
	pad := func(l term.Line, h term.Hue, end string) term.Line {
		return l.Add(h, strings.Repeat("─", n-l.Width()+3)+end)
	}
	return term.Page{
		term.Text(term.Base, " "+term.MarkBase.Sign).Then(pad(top, term.Yours, "╮")),
		term.Text(term.Theirs, " │").Add(term.Plain, strings.Repeat(" ", n+3)).Bold(term.Joined,
			term.MarkJoined.Sign).Add(term.Joined, "  joined"),
		term.Text(term.Theirs, " ╰").Then(pad(bottom, term.Theirs, "╯")),
	}
}

// row draws n commits in a row or, above a limit, their number.
func row(m term.Mark, prime string, n, most int) term.Line {
	if n > most {
		return term.Text(m.Hue, fmt.Sprintf("───%d × %s", n, m.Sign+prime))
	}
	return term.Text(m.Hue, strings.Repeat("───"+m.Sign+prime, n))
}

// drawPick draws picked commits after yours.
func (s *chooseScreen) drawPick(j *plan.Join, w int) term.Page {
	most := w/4 - 2
	return s.straight(row(term.MarkYours, "", len(s.job.pos.Divergence.Yours), most/2),
		row(term.MarkTheirs, "′", j.Kept(), most/2))
}

// drawRebase draws your commits after theirs.
func (s *chooseScreen) drawRebase(j *plan.Join, w int) term.Page {
	most := w/4 - 2
	return s.straight(row(term.MarkTheirs, "", len(s.job.pos.Divergence.Theirs), most/2),
		row(term.MarkYours, "′", j.Kept(), most/2))
}

// straight draws one line of commits after the common ancestor.
func (s *chooseScreen) straight(first, then term.Line) term.Page {
	return term.Page{term.Text(term.Base, " "+term.MarkBase.Sign).Then(first).Then(then),
		term.Text(term.Dim, " "+s.job.s.Planner.Short(s.job.pos.Base())).Add(term.Dim,
			words.If(s.job.s.Repo.Dialect().Linear, "   ′ on top of what is new", "   ′ replayed, with a new id"))}
}
