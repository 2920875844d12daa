package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/draw"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// historyScreen lists the commits of the branch, or of another line compared with it, newest first.
type historyScreen struct {
	job   *job
	reads besides
	rev   string // shown revision; empty for the branch

	c       *lookback.Chronicle
	entries []lookback.Entry
	hues    map[int]term.Hue // hue of each drawn line: that of its last commit read
	strokes [][]term.Hue     // hues of the cells in each row
	reading bool
	done    bool // all commits were read

	list list

	find  lookback.Find
	typed string // as typed
	only  bool   // show only what was found
	found []int  // indexes of entries

	place  int // last bookmark visited, from 1; 0 is the newest commit
	marked []object.ID
}

// readAhead is how many commits are read beyond those that are seen.
const (
	firstRead = 120
	readAhead = 400
)

// openHistory shows the history.
func openHistory(j *job, rev string) tea.Cmd {
	s := &historyScreen{job: j, reads: j.newBeside(), rev: rev, hues: map[int]term.Hue{}}
	s.list = list{rows: s.rows, turned: s.turned, end: s.toEnd}
	j.open(s)
	return s.begin(object.ID{})
}

// begin reads the first commits, and goes to one if requested.
func (s *historyScreen) begin(to object.ID) tea.Cmd {
	s.reading = true
	revs := []string{}
	if s.rev != "" {
		revs = append(revs, s.rev, "HEAD") // both directions
	}
	return s.reads.start(func(ctx context.Context) (then, error) {
		c, err := s.job.s.History.Chronicle(ctx, revs...)
		if err != nil {
			return func() tea.Cmd { s.job.close(); return s.job.failed(err) }, nil
		}
		return s.readMore(ctx, c, firstRead)
	})
}

// readMore reads more commits and returns what shows them.
func (s *historyScreen) readMore(ctx context.Context, c *lookback.Chronicle, n int) (then, error) {
	more, err := c.More(ctx, n)
	if err != nil {
		return nil, err
	}
	if err := s.job.s.Planner.TellApart(ctx, idsOf(more)); err != nil {
		return nil, err
	}
	return func() tea.Cmd {
		if s.c == nil && c.Untold != nil {
			s.job.flash = term.Warning(words.Sentence("what Dorvik did here is not told: " + c.Untold.Error()))
		}
		s.c, s.reading, s.done = c, false, len(more) == 0
		s.add(more)
		return s.wants()
	}, nil
}

func idsOf(entries []lookback.Entry) []object.ID {
	ids := make([]object.ID, len(entries))
	for i := range entries {
		ids[i] = entries[i].ID
	}
	return ids
}

func (s *historyScreen) add(more []lookback.Entry) {
	for i := range more {
		s.strokes = append(s.strokes, s.strokesOf(&more[i]))
	}
	s.entries = append(s.entries, more...)
	s.seek(len(s.entries) - len(more))
}

// strokesOf returns the colours of a row's cells: that of the commit's line, of the previous commit above it, and
// those of the other lines.
func (s *historyScreen) strokesOf(e *lookback.Entry) []term.Hue {
	own := signOf(e).Hue
	if own == term.Joined {
		own = term.Faint
	}
	s.hues[e.Own] = own
	for _, l := range e.Begins {
		s.hues[l.Line] = own
	}
	cells := e.Cells()
	out := make([]term.Hue, len(cells))
	for i, c := range cells {
		out[i] = s.hues[c.Line]
	}
	return out
}

// seek finds the next match among entries from an index on.
func (s *historyScreen) seek(from int) {
	if s.find.Empty() {
		return
	}
	hit, err := s.job.s.History.Found(context.Background(), s.find, s.entries[from:])
	if err != nil {
		s.job.flash = term.Warning(words.Sentence(err.Error()))
		return
	}
	k := 0
	for i := from; i < len(s.entries) && k < len(hit); i++ {
		if s.entries[i].ID == hit[k].ID {
			s.found = append(s.found, i)
			k++
		}
	}
}

// rows returns the number of rows; shown returns the entry of one.
func (s *historyScreen) rows() int {
	if s.only {
		return len(s.found)
	}
	return len(s.entries)
}

func (s *historyScreen) shown(row int) *lookback.Entry {
	if s.only {
		row = s.found[row]
	}
	return &s.entries[row]
}

// here returns the marked commit, or nil.
func (s *historyScreen) here() *lookback.Entry {
	if s.list.row >= s.rows() {
		return nil
	}
	return s.shown(s.list.row)
}

// wants reads more when the visible rows approach the end.
func (s *historyScreen) wants() tea.Cmd {
	if s.reading || s.c == nil {
		return nil
	}
	c := s.c
	if !c.Compared() {
		return s.compareLines(c)
	}
	if s.done || s.list.row+readAhead/2 < s.rows() {
		return nil
	}
	s.reading = true
	return s.reads.start(func(ctx context.Context) (then, error) { return s.readMore(ctx, c, readAhead) })
}

// compareLines finds commits of both lines with the same change, after the first ones are shown.
func (s *historyScreen) compareLines(c *lookback.Chronicle) tea.Cmd {
	s.reading = true
	return s.reads.start(func(ctx context.Context) (then, error) {
		err := c.Same(ctx)
		return func() tea.Cmd {
			if s.reading = false; err != nil {
				return s.job.failed(err)
			}
			c.Refresh(s.entries)
			return s.wants()
		}, nil
	})
}

func (s *historyScreen) turned() tea.Cmd {
	if s.list.row == 0 {
		s.place = 0
	}
	return s.wants()
}

// toEnd reads everything and marks the last row.
func (s *historyScreen) toEnd() tea.Cmd {
	if s.done || s.only {
		return s.list.to(toTheEnd)
	}
	return s.readUntil("reading the whole history", func([]lookback.Entry) bool { return false }, func() tea.Cmd {
		return s.list.to(s.rows() - 1)
	})
}

func (s *historyScreen) actions() []action {
	var out []action
	if s.here() != nil {
		out = append(out, act(keys.Next, "look at it", func() tea.Cmd { return openCommit(s.job, s.here()) }))
	}
	out = append(out, s.list.keys("commit")...)
	if s.canPick() {
		out = append(out, act(keys.Take, words.If(s.isMarked(), "unmark it", "mark it"), s.mark))
	}
	if len(s.marked) > 0 {
		out = append(out, acts(keys.Pick, fmt.Sprintf("pick %d", len(s.marked)), s.pickMarked))
	}
	out = append(out, act(keys.Find, "find", func() tea.Cmd { return s.ask(s.typed) }))
	if !s.find.Empty() && !s.only {
		out = append(out, act(keys.Following, "next found", func() tea.Cmd { return s.next(1) }),
			act(keys.Previous, "", func() tea.Cmd { return s.next(-1) }))
	}
	if s.c != nil && len(s.c.Bookmarks) > 0 && !s.only {
		out = append(out, act(keys.Left, "landmarks", func() tea.Cmd { return s.bookmark(-1) }),
			also(keys.Right, func() tea.Cmd { return s.bookmark(1) }))
	}
	if s.rev == "" {
		out = append(out, act(keys.Compare, "", func() tea.Cmd { return openLines(s.job, false) }))
	}
	out = append(out, act(keys.Back, words.If(s.only, "all commits", "back"), s.leave),
		drawAction(s.job, draw.KindHistory))
	return out
}

// leave shows all commits again, or closes the history.
func (s *historyScreen) leave() tea.Cmd {
	if s.only || !s.find.Empty() {
		at := s.here()
		s.only, s.find, s.found, s.typed = false, lookback.Find{}, nil, ""
		if at != nil {
			s.list.row = slices.IndexFunc(s.entries, func(e lookback.Entry) bool { return e.ID == at.ID })
		}
		return nil
	}
	s.reads.stop()
	s.job.close()
	return nil
}

// bookmark goes to the next bookmark.
func (s *historyScreen) bookmark(by int) tea.Cmd {
	n := len(s.c.Bookmarks) + 1
	s.place = ((s.place+by)%n + n) % n
	if s.place == 0 {
		s.job.flash = term.Text(term.Plain, "The newest commit.")
		return s.list.to(0)
	}
	at := s.c.Bookmarks[s.place-1]
	s.job.flash = term.Text(term.Plain, words.Sentence(at.Words))
	return s.goToCommit(at.Commit)
}

// goToCommit goes to a commit and reads until it appears.
func (s *historyScreen) goToCommit(id object.ID) tea.Cmd {
	if i := slices.IndexFunc(s.entries, func(e lookback.Entry) bool { return e.ID == id }); i >= 0 {
		s.list.scroll.Around(i)
		return s.list.to(i)
	}
	if s.done || s.reading {
		return nil
	}
	return s.readUntil("looking for the commit", func(some []lookback.Entry) bool {
		return slices.ContainsFunc(some, func(e lookback.Entry) bool { return e.ID == id })
	}, func() tea.Cmd { return s.goToCommit(id) })
}

// readUntil reads until a condition holds, as a task that can be cancelled.
func (s *historyScreen) readUntil(doing string, there func([]lookback.Entry) bool, next then) tea.Cmd {
	if s.reading || s.done {
		return nil
	}
	s.reading = true
	c := s.c
	return s.job.start(doing, func(ctx context.Context, progress func(int, int)) (then, error) {
		var all []lookback.Entry
		for {
			more, err := c.More(ctx, readAhead)
			all = append(all, more...)
			if err == nil && len(more) > 0 && !there(more) {
				progress(len(all), 0)
				continue
			}
			ended, cancelled := err == nil && len(more) == 0, ctx.Err() != nil
			if err == nil {
				err = s.job.s.Planner.TellApart(ctx, idsOf(all))
			}
			if cancelled {
				err = nil // keep what was read
			}
			return func() tea.Cmd {
				s.reading, s.done = false, ended
				s.add(all)
				if cancelled {
					s.job.flash = term.Text(term.Plain, "Cancelled.")
					return nil
				}
				return next()
			}, err
		}
	})
}

// next goes to the next match and reads more if needed.
func (s *historyScreen) next(by int) tea.Cmd {
	if by < 0 {
		for _, i := range slices.Backward(s.found) {
			if i < s.list.row {
				return s.list.to(i)
			}
		}
		s.job.flash = term.Text(term.Plain, "There is none above.")
		return nil
	}
	for _, i := range s.found {
		if i > s.list.row {
			return s.list.to(i)
		}
	}
	if s.done {
		s.job.flash = term.Text(term.Plain, "There is none below.")
		return nil
	}
	find := s.find
	return s.readUntil("looking further back", func(some []lookback.Entry) bool {
		hit, err := s.job.s.History.Found(context.Background(), find, some)
		return err != nil || len(hit) > 0
	}, func() tea.Cmd {
		if len(s.found) > 0 && s.found[len(s.found)-1] > s.list.row {
			return s.next(1)
		}
		s.job.flash = term.Text(term.Plain, "There is none below.")
		return nil
	})
}

// looked applies a search: it shows only the matches, or goes from one to the next.
func (s *historyScreen) looked(typed string, only bool) tea.Cmd {
	f, err := lookback.ParseFind(typed)
	if err != nil {
		s.job.flash = term.Warning(words.Sentence(err.Error()))
		return nil
	}
	s.find, s.typed, s.found = f, typed, nil
	s.only = only && !f.Empty()
	s.seek(0)
	if f.Empty() {
		return nil
	}
	if !s.only {
		s.list.row--
		cmd := s.next(1)
		s.list.row = max(0, s.list.row)
		return cmd
	}
	s.list.row = 0
	if len(s.found) > s.list.scroll.Room() || s.done {
		return nil
	}
	want := s.list.scroll.Room()
	seen := 0
	return s.readUntil("looking further back", func(some []lookback.Entry) bool {
		hit, err := s.job.s.History.Found(context.Background(), f, some)
		seen += len(hit)
		return err != nil || seen > want
	}, func() tea.Cmd { return nil })
}

// canPick reports whether the marked commit can be picked: it is on another line and its change is not here.
func (s *historyScreen) canPick() bool {
	e := s.here()
	return e != nil && s.pickable(e)
}

func (s *historyScreen) pickable(e *lookback.Entry) bool { return e.Apart && e.There.ID.IsZero() }

func (s *historyScreen) isMarked() bool { return slices.Contains(s.marked, s.here().ID) }

func (s *historyScreen) mark() tea.Cmd {
	e := s.here()
	if len(e.Commit.Parents) > 1 {
		s.job.flash = term.Warning("This commit joins lines: pick the commits it joined, or use “dorvik pick " +
			"--parent N”.")
		return nil
	}
	if i := slices.Index(s.marked, e.ID); i >= 0 {
		s.marked = slices.Delete(s.marked, i, i+1)
		return nil
	}
	s.marked = append(s.marked, e.ID)
	for row := s.list.row + 1; row < s.rows(); row++ { // go to the next candidate
		if s.pickable(s.shown(row)) {
			return s.list.to(row)
		}
	}
	return nil
}

// pickMarked picks the marked commits, oldest first.
func (s *historyScreen) pickMarked() tea.Cmd {
	var revs []string
	for _, e := range slices.Backward(s.entries) {
		if slices.Contains(s.marked, e.ID) {
			revs = append(revs, e.ID.String())
		}
	}
	if s.job.st.Underway() || s.job.st.Accepted != nil {
		s.job.flash = term.Warning("A recovery is under way here: finish or undo it before you pick.")
		return nil
	}
	return s.job.start("looking at what is picked", func(ctx context.Context, _ func(int, int)) (then, error) {
		if err := s.job.s.Pick(ctx, revs, 0); err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			s.reads.stop()
			return s.job.nav.lookAgain(false)
		}, nil
	})
}

func (s *historyScreen) update(msg tea.Msg) tea.Cmd {
	return s.list.update(msg)
}

// signOf returns the sign of a commit.
func signOf(e *lookback.Entry) term.Mark {
	return [...]term.Mark{lookback.SideBase: term.MarkBase, lookback.SideYours: term.MarkYours,
		lookback.SideTheirs: term.MarkTheirs,
		lookback.SideJoined: term.MarkJoined, lookback.SideBehind: term.MarkBehind}[e.Side()]
}

// drawLines draws the lines of a row in a limited number of columns.
func (s *historyScreen) drawLines(e *lookback.Entry, hues []term.Hue, most int) term.Line {
	var l term.Line
	sign := signOf(e)
	cells := e.Cells()
	for i, c := range cells {
		if i >= 2*most-1 {
			if 2*e.Column >= i {
				return l.Add(term.Faint, "…").Add(sign.Hue, sign.Sign)
			}
			return l.Add(term.Faint, "…")
		}
		if c.Commit {
			l = l.Add(sign.Hue, sign.Sign)
			continue
		}
		l = l.Add(hues[i], string(c.Rune()))
	}
	return l
}

// columns returns the number of columns for the lines of the visible rows, up to a limit.
func (s *historyScreen) columns(w, from, to int) int {
	n := 1
	if s.only {
		return n
	}
	for i := from; i < to; i++ {
		n = max(n, s.entries[i].Width())
	}
	return min(n, max(3, w/10))
}

func (s *historyScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	p.Row(s.top(w))
	p.Blank()
	if s.c == nil {
		p.Say(w, term.Text(term.Dim, "Reading the history…"))
		return p
	}
	if s.rows() == 0 {
		p.Say(w, term.Text(term.Plain, words.If(s.reading, "Looking…", "Nothing was found.")))
		return p
	}
	room := h - len(p)
	s.list.scroll.Size(s.rows(), room)
	s.list.scroll.Show(s.list.row)
	from := s.list.scroll.At()
	to := min(s.rows(), from+room)
	most, said := s.columns(w, from, to), 0
	for i := from; i < to; i++ {
		said = max(said, term.Cells(s.said(s.shown(i))))
	}
	for i := from; i < to; i++ {
		p.Row(s.commitRow(i, w, most, min(said, w*2/5)))
	}
	return p
}

// top describes what is listed.
func (s *historyScreen) top(w int) term.Line {
	name := s.rev
	if name == "" {
		name = "this branch"
		if s.job.pos != nil {
			name = s.job.pos.Branch.Name
		}
	}
	l := term.Text(term.Plain, " ").Then(term.Heading("HISTORY")).Bold(term.Bright, "  "+name)
	switch {
	case s.only:
		l = l.Add(term.Dim, "   only ").Add(term.Plain, s.typed)
	case s.rev != "":
		l = l.Add(term.Dim, "   beside your branch: ").Mark(term.MarkTheirs).Add(term.Dim,
			"there, not here  ").Mark(term.MarkYours).
			Add(term.Dim, "here, not there  ").Mark(term.MarkBase).Add(term.Dim, "in both")
	}
	return l.Cut(w)
}

// said returns the remarks about a commit.
func (s *historyScreen) said(e *lookback.Entry) string {
	return strings.Join(e.Said(s.job.s.Planner.Short), "; ")
}

// commitRow draws a commit with its lines and remarks in limited widths.
func (s *historyScreen) commitRow(i, w, most, said int) term.Line {
	e := s.shown(i)
	sign := signOf(e)
	l := term.Text(term.Bright, words.If(i == s.list.row, "▶", " "))
	l = l.Add(term.Plain, words.If(slices.Contains(s.marked, e.ID), "✓", " "))
	if s.only {
		l = l.Add(sign.Hue, sign.Sign)
	} else {
		l = l.Then(s.drawLines(e, s.strokes[i], most)).Fit(2 + 2*most - 1)
	}
	l = l.Add(sign.Hue, "  "+s.job.s.Planner.Short(e.ID)+"  ")
	who := s.who(e)
	age := s.job.age(history.Node{ID: e.ID, Commit: e.Commit})
	var right term.Line
	var subjectRoom int
	if w >= wide {
		right = term.Text(term.Dim, "  ").Then(term.Text(term.Dim, who).Fit(16)).Then(term.Text(term.Dim, age).Fit(13))
		right = right.Then(term.Text(sign.Hue, s.said(e)).Fit(said + 1))
		subjectRoom = w - l.Width() - right.Width()
	} else {
		right = term.Text(term.Dim, " ").Then(term.Text(term.Dim, words.First(who)).Fit(8)).Then(term.Text(term.Dim,
			age).Fit(11))
		subjectRoom = w - l.Width() - right.Width()
	}
	subject := term.Line{}
	for _, n := range e.Names {
		subject = subject.Put(term.Ink{Hue: term.Bright, Ground: term.OnRow}, "‹"+n.Name+"›").Add(term.Plain, " ")
	}
	h := term.Plain
	if e.Side() == lookback.SideBehind {
		h = term.Dim
	}
	found := !s.only && slices.Contains(s.found, i)
	subject = subject.Put(term.Ink{Hue: h, Under: found}, e.Subject())
	l = l.Then(subject.Cut(subjectRoom).Fit(subjectRoom)).Then(right)
	if i == s.list.row {
		l = l.Fit(w).On(term.OnRow)
	}
	return l.Clicks(clickedRow(i))
}

// who returns the author's short name.
func (s *historyScreen) who(e *lookback.Entry) string {
	who := e.Author()
	if s.job.me != "" && who.Key() == s.job.me {
		return "you"
	}
	return who.Name
}

func (s *historyScreen) status() term.Line {
	n := fmt.Sprintf("%d read", len(s.entries))
	switch {
	case s.only:
		n = fmt.Sprintf("%d found in %d", len(s.found), len(s.entries))
	case !s.find.Empty():
		n = fmt.Sprintf("%d found in %d read", len(s.found), len(s.entries))
	case s.done:
		n = s.job.say(words.Count(len(s.entries), "commit", "commits"))
		if s.c != nil && s.c.Cut() {
			n += ", and more that this shallow clone does not have"
		}
	}
	return term.Text(term.Dim, n)
}

func (s *historyScreen) remark() term.Line {
	e := s.here()
	if e == nil {
		return term.Text(term.Dim, "You are only looking. Nothing changes here.")
	}
	if len(s.marked) > 0 {
		return term.Text(term.Plain, words.Count(len(s.marked), "commit is", "commits are")+
			" marked. g brings "+words.Is(len(s.marked), "it",
			"them")+" onto your branch, through the same stages as any join.")
	}
	said := e.Said(s.job.s.Planner.Short)
	if e.Later {
		said = append(said, "its clock was wrong: a line to it is not drawn")
	}
	if len(said) == 0 {
		return term.Text(term.Dim, "You are only looking. Nothing changes here.")
	}
	return term.Text(term.Dim, words.Sentence(strings.Join(said, "; ")))
}

// ask opens the search with its last text.
func (s *historyScreen) ask(typed string) tea.Cmd {
	f := &finding{screen: s, f: s.job.frame, label: "find", says: "A commit must match everything you type. Case " +
		"does not matter.",
		empty: term.Text(term.Dim, "words, ").Bold(term.Plain, "by:").Add(term.Dim, "ilka, ").Bold(term.Plain,
			"in:").Add(term.Dim, "fares/, ").
			Bold(term.Plain, "since:").Add(term.Dim, "2026-03, ").Bold(term.Plain, "until:").Add(term.Dim,
			"2026-03-04")}
	f.open(typed, act(keys.Next, "show only these", f.typed(func(typed string) tea.Cmd {
		return s.looked(typed, true)
	})), act(keys.Following, "go from one to the next", f.typed(func(typed string) tea.Cmd {
		return s.looked(typed, false)
	})))
	return nil
}

// historyAction returns the key that opens the history.
func (j *job) historyAction() action {
	return act(keys.History, "", func() tea.Cmd { return openHistory(j, "") })
}
