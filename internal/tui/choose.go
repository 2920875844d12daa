package tui

import (
	"context"
	"fmt"
	"strings"

	"charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/words"
)

// chooseScreen is Choose: both routes worked out, side by side.
type chooseScreen struct {
	*job
	scroll scroll
	route  plan.Route
}

func (s *chooseScreen) label() string { return ledger.Choose.String() }

func (s *chooseScreen) state() (string, passed) {
	switch {
	case s.pos == nil || s.joinless():
		return "", unused
	case s.under == screen(s):
		return string(s.route), well
	case s.join != nil:
		return string(s.join.Route), well
	}
	return string(s.st.Route), well
}

// fit has the marked route be one that there is.
func (s *chooseScreen) fit() {
	if s.route == "" || s.pos.IsPick() != (s.route == plan.Pick) || s.st.Route == "" {
		s.route = s.plan.Suggested
	}
}

// enter goes to Choose, with what was decided meanwhile worked into both ways.
func (s *chooseScreen) enter() tea.Cmd {
	s.goTo(s)
	pos, st := s.pos, s.st
	return s.start("working both ways out", func(ctx context.Context, progress func(int, int)) (then, error) {
		plan, err := s.s.Planner.Plan(ctx, pos, &st.Decisions, progress)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			if s.pos != pos {
				return nil
			}
			s.plan = plan
			return s.foresee()
		}, nil
	})
}

func (s *chooseScreen) status() line { return s.asked() }

func (s *chooseScreen) remark() line {
	if s.pos.IsPick() {
		return txt(dim, "This was worked out without touching your branch, index or files.")
	}
	return txt(dim, "Both ways were worked out without touching your branch, index or files.")
}

func (s *chooseScreen) actions() []action {
	out := []action{acts(keys.next, "take this way", s.take)}
	if s.pos.IsPick() {
		out[0] = acts(keys.next, "go on", s.take)
	} else {
		out = append(out, act(keys.left, "the other way", quietly(s.turn)), also(keys.right, quietly(s.turn)))
	}
	out = append(out, act(keys.back, "", quietly(func() { s.goTo(s.look) })), s.drawAction(draw.KindRoutes))
	return append(out, s.scroll.actions()...)
}

// turn marks the other route.
func (s *chooseScreen) turn() {
	s.route = map[plan.Route]plan.Route{plan.Rebase: plan.Merge,
		plan.Merge: plan.Rebase}[s.route]
}

// picked is a click on a route.
type picked struct{ route plan.Route }

func (s *chooseScreen) update(msg tea.Msg) tea.Cmd {
	if click, ok := msg.(picked); ok {
		s.route = click.route
		return nil
	}
	s.scroll.update(msg)
	return nil
}

// take takes the marked route, or says why it cannot be taken.
func (s *chooseScreen) take() tea.Cmd {
	if j := s.plan.Of(s.route); j.Refused != nil {
		s.flash = warning(words.Sentence(j.Refused.Error()))
		return nil
	}
	if s.route == plan.Rebase && s.plan.Pushed() && !s.rewrite {
		s.confirm(s.plan.Published)
		return nil
	}
	return s.taken()
}

func (s *chooseScreen) taken() tea.Cmd {
	route := s.route
	return s.rejoin(func(to *recovery.Session) error { return to.Ledger.TakeRoute(route) }, s.joined)
}

// confirm asks whether commits that are on a remote may be given new ids.
func (s *chooseScreen) confirm(published []plan.Published) {
	whoever := "whoever has " + words.Is(len(published), "that commit", "those commits") + " will"
	if who := published[0].Who; len(who) > 0 {
		whoever += ", such as " + words.List(words.Some(who, 3)) + " who committed there,"
	}
	s.ask(warning(words.List(words.Some(s.namesOf(published), 2))+": "+whoever+" have the same change twice. Rebase "+
		"all the same?"),
		"rebase all the same", func() tea.Cmd { s.rewrite = true; return s.taken() }, nil)
}

func (s *chooseScreen) view(w, h int) page {
	p := page{nil}
	routes := []plan.Route{plan.Rebase, plan.Merge}
	switch {
	case s.pos.IsPick():
		p.rows(indent(s.routePage(plan.Pick, min(w-4, wide)), 2))
	case w >= wide:
		s.sideBySide(&p, routes, w)
		p.blank()
		s.why(&p, w)
	default:
		tabs := txt(plain, "  ")
		for i, r := range routes {
			if i > 0 {
				tabs = tabs.add(dim, "   ")
			}
			name := txt(dim, "  "+title(r))
			if r == s.route {
				name = line{}.bold(bright, "▶ "+title(r))
			}
			tabs = tabs.then(name.clicks(picked{r}))
		}
		p.row(tabs.add(dim, "     ←→ shows the other"))
		p.blank()
		s.why(&p, w)
		p.blank()
		p.rows(indent(s.routePage(s.route, w-4), 2))
	}
	return s.scroll.window(p, h)
}

func (s *chooseScreen) sideBySide(p *page, routes []plan.Route, w int) {
	width, rows := (w-7)/2, 0
	var pages [2]page
	for i, r := range routes {
		pages[i] = s.routePage(r, width-6)
		rows = max(rows, len(pages[i]))
	}
	left, right := s.box(pages[0], routes[0], width, rows), s.box(pages[1], routes[1], width, rows)
	for i := range left {
		p.row(txt(plain, "  ").then(left[i]).add(plain, "   ").then(right[i]))
	}
}

// why gives the reason for the suggested route.
func (s *chooseScreen) why(p *page, w int) {
	p.say(w, line{}.bold(bright, "Why "+string(s.plan.Suggested)+": ").add(dim, s.plan.Why))
	if s.plan.Rebase.Refused == nil && s.plan.Merge.Refused == nil && s.plan.Merge.Conflicts() > 0 {
		p.say(w, txt(dim, "What you decide on one way is kept where the same conflict comes up on the other."))
	}
}

func title(r plan.Route) string { return words.Upper(string(r)) }

// box draws a frame of the given size around a page: heavy around the chosen route.
func (s *chooseScreen) box(p page, r plan.Route, w, rows int) page {
	g, h := []string{"┌", "─", "┐", "│", "└", "┘"}, faint
	if r == s.route {
		g, h = []string{"┏", "━", "┓", "┃", "┗", "┛"}, bright
	}
	out := page{txt(h, g[0]+strings.Repeat(g[1], w-2)+g[2])}
	for i := range rows {
		var l line
		if i < len(p) {
			l = p[i]
		}
		out.row(txt(h, g[3]).add(plain, "  ").then(l).fit(w-1).add(h, g[3]).clicks(picked{r}))
	}
	out.row(txt(h, g[4]+strings.Repeat(g[1], w-2)+g[5]))
	return out
}

// facts is a page of names and what they are, one under the other.
type facts struct {
	page
	w int
}

func (f *facts) fact(what string, l line) {
	for i, row := range wrap(l, f.w-14) {
		if i > 0 {
			what = ""
		}
		f.row(txt(dim, " "+what).fit(14).then(row))
	}
}

// about is what a route is, and whom it suits.
var about = map[plan.Route][2]string{
	plan.Rebase: {"your commits are made again, one by one, after theirs",
		"Suits you when the commits are still only yours and the team likes a line that reads in order."},
	plan.Merge: {"one new commit joins the two lines",
		"Suits you when others already build on your commits, or when it should stay visible that there were two " +
			"lines."},
	plan.Pick: {"the picked commits are made again after yours",
		"The picked commits stay where they are. If that branch is joined later, the same change is met twice, and " +
			"found to be there already."},
}

// aboutCounter is what taking back by a commit is.
var aboutCounter = [2]string{"one commit that takes back what was brought, after all that came since",
	"Suits you when what is taken back is on the remote: no commit there is rewritten."}

// routePage tells what a route makes and asks.
func (s *chooseScreen) routePage(r plan.Route, w int) page {
	f := facts{w: w}
	j := s.plan.Of(r)
	is, head := about[r], line{}.bold(bright, title(r))
	if s.pos.Counter() != "" {
		is, head = aboutCounter, line{}.bold(bright, "Take back by a commit")
	}
	if r == s.plan.Suggested && !s.pos.IsPick() {
		head = head.add(joined, "   suggested")
	}
	f.row(head)
	f.rows(wrap(txt(dim, is[0]), w))
	f.blank()
	if j.Refused != nil {
		f.rows(wrap(warning(words.Sentence(j.Refused.Error())), w))
		return f.page
	}
	f.rows(s.drawing(j, w))
	f.blank()
	s.makes(&f, j)
	f.blank()
	s.asks(&f, j)
	f.blank()
	if d := s.st.LastCheck; d > 0 {
		f.fact("check", txt(plain, "once, about "+words.Seconds(d)).add(dim, "  (as the last run)"))
	} else {
		f.fact("check", txt(plain, "once, on the joined result"))
	}
	f.blank()
	f.rows(wrap(txt(dim, is[1]), w))
	return f.page
}

// makes tells what becomes of the history.
func (s *chooseScreen) makes(f *facts, j *plan.Join) {
	switch j.Route {
	case plan.Pick:
		f.fact("history", txt(plain, "your line, and "+words.Count(j.Kept(), "new commit", "new commits")+" after it"))
		f.fact("rewrites", txt(plain, "nothing"))
		f.fact("keeps", txt(plain, "author, date and message of each"))
		s.leavesOut(f, j)
	case plan.Rebase:
		f.fact("history", txt(plain, "one straight line, no extra commit"))
		l := txt(plain, words.Count(j.Kept(), "of your commits, ", "of your commits, "))
		if n := len(s.plan.Published); n > 0 {
			f.fact("rewrites", l.add(trouble, "▲ "+words.Count(n, "is", "are")+" on a remote: ").
				add(plain, words.List(words.Some(s.namesOf(s.plan.Published), 2))))
		} else {
			f.fact("rewrites", l.add(joined, "none was ever pushed").add(plain, ": safe"))
		}
		s.leavesOut(f, j)
	default:
		f.fact("history", txt(plain, "two lines, and a commit that joins them"))
		f.fact("rewrites", txt(plain, "nothing"))
		subject, _, _ := strings.Cut(plan.MergeMessage(s.pos), "\n")
		f.fact("adds", txt(plain, "1 merge commit, ").add(dim, "“"+subject+"”"))
	}
}

// namesOf is the ids and subjects of commits.
func (s *chooseScreen) namesOf(nodes []plan.Published) (names []string) {
	for _, n := range nodes {
		names = append(names, s.s.Planner.Short(n.ID)+" “"+n.Subject()+"” on "+n.On)
	}
	return names
}

// leavesOut lists the commits that are not made again.
func (s *chooseScreen) leavesOut(f *facts, j *plan.Join) {
	other := merge.Theirs
	if j.Route == plan.Pick {
		other = merge.Yours
	}
	for i := range j.Steps {
		st := &j.Steps[i]
		id := s.s.Planner.Short(st.Commit.ID)
		switch st.Outcome {
		case replay.AlreadyThere:
			f.fact("leaves out", txt(plain, id).add(dim, " is there already: "+s.first(st.Same, other)+" did the same"))
		case replay.Emptied:
			f.fact("leaves out", txt(plain, id).add(dim, " has nothing left to add"))
		case replay.Dropped:
			f.fact("leaves out", txt(plain, id).add(dim, " as you wished; n on Settle takes it back in"))
		}
	}
}

// asks lists the decisions that a route wants, less those that are made.
func (s *chooseScreen) asks(f *facts, j *plan.Join) {
	defer func() {
		n := len(s.misfits[j.Route])
		if n == 0 && s.foreseeing != nil {
			f.fact("may break", txt(dim, stillLooking))
		}
		if n > 0 {
			f.fact("may break", txt(trouble, words.Count(n, "pair of edits", "pairs of edits")).add(plain,
				words.Is(n, " that does not fit", " that do not fit")+", though the texts join"))
		}
	}()
	n, made := j.Conflicts(), j.Settled
	if n == 0 {
		f.fact("asks you", txt(joined, "nothing: it joins by itself"))
		return
	}
	l := line{}.bold(trouble, fmt.Sprint(j.Open)).add(plain, words.Is(j.Open, " decision", " decisions"))
	if j.Open == 0 {
		l = txt(joined, "nothing more")
	}
	if made > 0 {
		l = l.add(plain, "; ").add(joined, fmt.Sprintf("%d made already", made))
	}
	if j.Route == plan.Merge {
		l = l.add(plain, ", once")
	} else {
		l = l.add(plain, ", at "+words.Count(len(j.Stops), "commit", "commits"))
	}
	f.fact("asks you", l)
	m := markYours
	if j.Route == plan.Pick {
		m = markTheirs
	}
	rows := 0
	for _, stop := range j.Stops {
		if rows > 8 {
			f.row(txt(dim, "   and more"))
			return
		}
		if stop.Uncommitted {
			f.row(txt(plain, "   ").mark(markYours).add(plain, stop.Commit.Subject()).cut(f.w))
		} else if stop.Commit.Commit != nil {
			f.row(txt(plain, "   ").mark(m).add(plain, s.s.Planner.Short(stop.Commit.ID)+" ").add(dim,
				stop.Commit.Subject()).cut(f.w))
		}
		rows += stopFiles(f, stop)
	}
}

// stopFiles lists the files of a stop that ask.
func stopFiles(f *facts, stop plan.Stop) int {
	const most = 5
	for i, file := range stop.Files {
		if i == most {
			f.row(txt(dim, "     and "+words.Count(len(stop.Files)-i, "more file", "more files")))
			return i
		}
		how, h := hint(file)
		f.row(txt(plain, "     "+file.Path).add(dim, "   "+words.Count(len(file.Questions), "conflict",
			"conflicts")+" · ").
			add(h, how).cut(f.w))
	}
	return len(stop.Files)
}

// hint says in a few words how a file's conflicts can be settled.
func hint(f *settle.File) (string, hue) {
	switch c := f.Questions[0]; {
	case c.Suggested == settle.Weave:
		return "fits word by word", joined
	case c.Suggested == settle.TheirsYours:
		return "both added lines here", joined
	case c.Whole():
		return words.Hint(c), plain
	case c.Suggested != "":
		return "one side holds both edits", joined
	}
	return "needs your eye", plain
}

// drawing shows the history a route would make.
func (s *chooseScreen) drawing(j *plan.Join, w int) page {
	switch j.Route {
	case plan.Pick:
		return s.drawPick(j, w)
	case plan.Rebase:
		return s.drawRebase(j, w)
	}
	top, bottom := row(markYours, "", len(s.pos.Divergence.Yours), 8), row(markTheirs, "",
		len(s.pos.Divergence.Theirs), 8)
	n := max(top.width(), bottom.width())
	pad := func(l line, h hue, end string) line {
		return l.add(h, strings.Repeat("─", n-l.width()+3)+end)
	}
	return page{
		txt(base, " "+markBase.sign).then(pad(top, yours, "╮")),
		txt(theirs, " │").add(plain, strings.Repeat(" ", n+3)).bold(joined, markJoined.sign).add(joined, "  joined"),
		txt(theirs, " ╰").then(pad(bottom, theirs, "╯")),
	}
}

// row draws n commits in a row, or where they are more than most their number.
func row(m mark, prime string, n, most int) line {
	if n > most {
		return txt(m.hue, fmt.Sprintf("───%d × %s", n, m.sign+prime))
	}
	return txt(m.hue, strings.Repeat("───"+m.sign+prime, n))
}

// drawPick draws picked commits after yours.
func (s *chooseScreen) drawPick(j *plan.Join, w int) page {
	most := w/4 - 2
	return s.straight(row(markYours, "", len(s.pos.Divergence.Yours), most/2), row(markTheirs, "′", j.Kept(), most/2))
}

// drawRebase draws your commits after theirs.
func (s *chooseScreen) drawRebase(j *plan.Join, w int) page {
	most := w/4 - 2
	return s.straight(row(markTheirs, "", len(s.pos.Divergence.Theirs), most/2), row(markYours, "′", j.Kept(), most/2))
}

// straight draws one line of commits after the common ancestor.
func (s *chooseScreen) straight(first, then line) page {
	return page{txt(base, " "+markBase.sign).then(first).then(then),
		txt(dim, " "+s.s.Planner.Short(s.pos.Base())).add(dim, "   ′ made again, with a new id")}
}
