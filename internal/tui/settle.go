package tui

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// settleScreen is Settle: for each conflict the two edits, the ways, and the result.
type settleScreen struct {
	job     *job
	at      int // index of the conflict
	way     int // marked way; one past the last means writing; unmarked means none
	views   views
	changes map[settle.Key]*edit // edits in files that the other side deleted
	seen    map[settle.Key]*exhibits
	went    map[settle.Key]*settle.Whereabouts // new places of the lines of deleted files

	edits  term.Scroll // scroll position of the edits, if they fill the page
	result term.Scroll
	placed bool // the result was scrolled to the conflict once
	list   term.Scroll
}

// unmarked is settleScreen.way if no way is marked because none is clearly right. Enter then takes nothing.
const unmarked = -1

// views selects what the page of a conflict shows.
type views int

const (
	allViews    views = iota // edits, ways and result, as far as they fit
	editView                 // the two edits in full
	fileView                 // the result in full
	textsView                // the three texts of the place
	againstView              // theirs against yours
	viewCount   = 5
)

func (s *settleScreen) label() string { return ledger.Settle.String() }

func (s *settleScreen) state() (string, passed) {
	if s.job.join == nil {
		return "", unused
	}
	switch n := s.job.join.Settled + s.job.join.Open; {
	case n == 0:
		return "nothing to settle", well
	case s.job.under == screen(s):
		return fmt.Sprintf("%d of %d", s.job.join.Settled, n), well
	default:
		return fmt.Sprintf("%d settled", s.job.join.Settled), well
	}
}

func (s *settleScreen) status() term.Line {
	q := s.question()
	switch {
	case s.job.file != nil:
		return nil
	case q == nil || s.job.join.Stops[q.Stop].Commit.Commit == nil:
		return term.Text(term.Dim, s.job.called(s.job.st.Route))
	case s.job.join.Stops[q.Stop].Uncommitted:
		return term.Text(term.Dim, s.job.join.Stops[q.Stop].Commit.Subject()+"  ·  the last stop")
	}
	stop := s.job.join.Stops[q.Stop].Commit
	if n := len(s.job.join.Stops); n > 1 {
		return term.Text(term.Dim, s.job.s.Planner.Short(stop.ID)+s.job.say(fmt.Sprintf(
			"  ·  %d of %d commits that ask", q.Stop+1, n)))
	}
	return term.Text(term.Dim, s.job.s.Planner.Short(stop.ID)+s.job.say("  ·  the one commit that asks"))
}

func (s *settleScreen) question() *plan.Attributed {
	if s.at < 0 || s.at >= len(s.job.questions) {
		return nil
	}
	return &s.job.questions[s.at]
}

// enter goes to Settle, to a conflict.
func (s *settleScreen) enter(at int) tea.Cmd {
	s.job.goTo(s)
	return s.turnTo(at)
}

// onward describes what follows when everything is settled.
func (s *settleScreen) onward() string {
	if s.job.file != nil {
		return "write " + filepath.Base(s.job.file.name)
	}
	if s.job.pos.SettlesOnly() {
		return "put it into your files"
	}
	if s.job.pos.Trivial() == plan.FastForward {
		return words.If(!s.job.pos.Stash().IsZero(), "bring it back",
			words.If(s.job.pos.MovesBack(), "go back", "move forward"))
	}
	return "go on to Check"
}

// next names the next view.
func (v views) next() string {
	return [...]string{"the edits in full", "the result in full", "the three texts", "yours against theirs",
		"all together"}[v]
}

// scrolled returns what the scroll keys move.
func (s *settleScreen) scrolled() *term.Scroll {
	if s.views == allViews || s.views == fileView {
		return &s.result
	}
	return &s.edits
}

// leave goes back, first to the usual view.
func (s *settleScreen) leave() tea.Cmd {
	switch {
	case s.views != allViews:
		s.views = allViews
		return nil
	case s.job.file != nil:
		return s.job.nav.leaveFile()
	case s.job.pos.Resumes() != nil:
		return s.job.leaveStuck()
	case s.job.pos.MovesBack(): // the branch does not move back
		return s.job.nav.startOver(false)
	case s.job.pos.Trivial() == plan.FastForward:
		s.job.nav.toLook()
		return nil
	}
	return s.job.nav.chooseAgain()
}

// Clicks: on a way, on a conflict in the list, on a file in the list.
type (
	clickedWay      int
	clickedConflict int
	clickedFile     int
)

func (s *settleScreen) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case clickedWay:
		s.mark(int(msg))
	case clickedConflict:
		return s.turnTo(int(msg))
	case clickedFile:
		if !s.job.busy() {
			return s.read(s.job.joinedAlone[msg].file.Path)
		}
	case judged:
		if s.job.verdicts == nil {
			s.job.verdicts = map[settle.Key][]settle.Verdict{}
		}
		s.job.verdicts[msg.key] = msg.of
		if s.changes == nil {
			s.changes = map[settle.Key]*edit{}
		}
		s.changes[msg.key] = msg.change
		if s.seen == nil {
			s.seen = map[settle.Key]*exhibits{}
		}
		s.seen[msg.key] = msg.seen
		if s.went == nil {
			s.went = map[settle.Key]*settle.Whereabouts{}
		}
		s.went[msg.key] = msg.went
	default:
		s.scrolled().Update(msg)
	}
	return nil
}

// remark describes the outcome of the marked way, or the next step, and what was not read of the file.
func (s *settleScreen) remark() term.Line {
	l := s.remarkOf()
	if q := s.question(); q != nil && q.Question.Plain && s.job.join.Open > 0 {
		l = l.Add(term.Dim,
			" "+q.Question.Path+" nests too deep, or is too large, to be read by its format: it is settled "+
				"as plain text.")
	}
	if q := s.question(); q != nil && s.job.w >= wide {
		l = l.Add(term.Dim, askedFirst(q))
	}
	return l
}

// askedFirst says why an open conflict is asked before others, if there is a reason.
func askedFirst(q *plan.Attributed) string {
	if q.First == "" || q.Decision != nil {
		return ""
	}
	return " It is asked first: " + q.First + "."
}

func (s *settleScreen) remarkOf() term.Line {
	q := s.question()
	switch {
	case q == nil:
		return term.Text(term.Dim, "Nothing asks for a decision.")
	case s.job.join.Open == 0 && s.marksDecision() && s.job.file != nil:
		return term.Text(term.Dim, "All settled. Enter writes "+s.job.file.name+"; nothing has been written yet.")
	case s.job.join.Open == 0 && s.marksDecision():
		return term.Text(term.Dim, "All settled. Enter goes on to the check; nothing has been changed yet.")
	case s.aside(q) != "":
		return term.Text(term.Dim, "Put aside: "+s.aside(q)+". It can be settled all the same; m takes it up again.")
	case s.way == unmarked && q.Question.Doubt != "":
		return term.Text(term.Dim, "No way is suggested: "+q.Question.Doubt+". Choose one by its number or with ↑↓.")
	case s.way == unmarked:
		return term.Text(term.Dim, "No way is suggested. Choose one by its number or with ↑↓.")
	case s.way >= len(q.Question.Ways):
		return term.Text(term.Dim, "Write the place yourself, starting from what it holds now.")
	}
	o := q.Question.Ways[s.way]
	if o.Way == q.Question.Suggested && (s.job.w < wide || q.Question.Whole()) {
		// The reason does not fit beside the way.
		why := "Suggested: " + words.Why(q.Question) + "."
		if s.job.h >= 24 {
			why += " " + words.Taking(q.Question, o)
		}
		return term.Text(term.Dim, why)
	}
	return term.Text(term.Dim, words.Taking(q.Question, o))
}

// nextOpen returns the next open conflict after one, cyclically.
func (s *settleScreen) nextOpen(after int) int {
	n := len(s.job.questions)
	for _, waiting := range []bool{false, true} { // postponed conflicts come last
		for i := 1; i <= n; i++ {
			if k := (after + i + n) % n; s.job.questions[k].Decision == nil &&
				(s.aside(&s.job.questions[k]) != "") == waiting {
				return k
			}
		}
	}
	return max(0, min(after, n-1))
}

// mark marks a way or, after the last, writing.
func (s *settleScreen) mark(way int) {
	most := len(s.question().Question.Ways)
	if s.question().Question.Whole() {
		most--
	}
	s.way, s.placed = max(0, min(way, most)), false
}

// resized scrolls the result to the place again.
func (s *settleScreen) resized() { s.placed = false }

// judged is the consequences of a conflict's ways, computed in the background.
type judged struct {
	key    settle.Key
	of     []settle.Verdict
	change *edit
	seen   *exhibits
	went   *settle.Whereabouts
}

// turnTo goes to a conflict, marks its decided or suggested way, and judges its ways.
func (s *settleScreen) turnTo(at int) tea.Cmd {
	s.at, s.placed, s.way = at, false, unmarked
	s.edits.To(0)
	q := s.question()
	if q == nil {
		return nil
	}
	want := q.Question.Suggested
	if q.Decision != nil {
		want = q.Decision.Way
	}
	for i, o := range q.Question.Ways {
		if o.Way == want {
			s.way = i
		}
	}
	if want == settle.Written {
		s.way = len(q.Question.Ways)
	}
	if s.job.verdicts[q.Question.Key] != nil {
		return nil
	}
	store := s.job.s.Planner.Store
	f, c, decisions, joined := q.File, q.Question, s.job.st.Decisions, s.job.join.Stops[q.Stop].Result
	return func() tea.Msg {
		out := judged{key: c.Key, change: changeOf(store, c), seen: s.exhibitsOf(c),
			went: whereabouts(store, c, joined)}
		for _, o := range c.Ways {
			out.of = append(out.of, f.Judge(c, o, func(other *settle.Question) settle.Option {
				o, _ := f.Chosen(other, &decisions)
				return o
			}))
		}
		return out
	}
}

// changeOf returns one side's change of a text file that the other side deleted, or nil.
func changeOf(store *object.Overlay, c *settle.Question) *edit {
	v, ok := c.Subject.(*merge.Versions)
	if !ok || v.Yours.Absent() == v.Theirs.Absent() || !v.Base.Mode.IsRegular() {
		return nil
	}
	out, has := &edit{hue: term.Yours, ground: term.OnYours, from: 1, note: "emptied"}, v.Yours
	if v.Yours.Absent() {
		out.hue, out.ground, has = term.Theirs, term.OnTheirs, v.Theirs
	}
	was, err := store.Blob(context.Background(), v.Base.ID)
	if err != nil || !has.Mode.IsRegular() || !merge.IsText(was) {
		return nil
	}
	is, err := store.Blob(context.Background(), has.ID)
	if err != nil || !merge.IsText(is) {
		return nil
	}
	out.base, out.text, out.place = string(was), string(is), string(is)
	return out
}

// whereabouts finds the new place of the lines of a file that one side deleted, or nil.
func whereabouts(store *object.Overlay, c *settle.Question, joined *merge.Result) *settle.Whereabouts {
	v, ok := c.Subject.(*merge.Versions)
	if !ok || v.Yours.Absent() == v.Theirs.Absent() || !v.Base.Mode.IsRegular() {
		return nil
	}
	side := joined.Given.Theirs
	if v.Yours.Absent() {
		side = joined.Given.Yours
	}
	was, err := store.Blob(context.Background(), v.Base.ID)
	if err != nil || !merge.IsText(was) {
		return nil
	}
	at, ok, err := settle.FindLines(context.Background(), store, joined.Given.Base, side, string(was))
	if err != nil || !ok {
		return nil
	}
	return &at
}

// marksDecision reports whether the marked way is the decided one.
func (s *settleScreen) marksDecision() bool {
	q := s.question()
	if q == nil || q.Decision == nil || s.way == unmarked {
		return false
	}
	if s.way < len(q.Question.Ways) {
		return q.Question.Ways[s.way].Way == q.Decision.Way
	}
	return q.Decision.Way == settle.Written
}

// chosen returns the marked way or the decision or, if nothing is marked, the base.
func (s *settleScreen) chosen(q *plan.Attributed) settle.Option {
	if s.way == unmarked {
		return settle.Option{Text: q.Question.Base}
	}
	if s.way < len(q.Question.Ways) {
		return q.Question.Ways[s.way]
	}
	o, _ := q.File.Chosen(q.Question, &s.job.st.Decisions)
	return o
}

// writingPage draws the conflict's page with the editor in it.
func (s settlePage) writingPage(q *plan.Attributed, ed *term.Editor, w, h int) term.Page {
	edit := func(w int) term.Page {
		p := s.conflictHead(q, w, h)
		head := term.Text(term.Plain, " ").Bold(term.Joined, "WRITE IT YOURSELF").Add(term.Dim,
			"  what the place will hold")
		if h < 11 { // no more fits
			p.Row(head)
			return append(p, ed.View(w, h-len(p))...)
		}
		share := max(4, h/3)
		edits := s.editsPage(q, w, share)
		p.Rows(edits[:min(len(edits), share)])
		p.Row(term.Rule(w))
		p.Row(head)
		before, after := s.besidePlace(q, max(2, (h-len(p)-len(ed.Lines)-1)/2))
		p.Rows(before)
		p.Rows(ed.View(w, h-len(p)-len(after)))
		return append(p, after...)
	}
	if w < wide {
		return edit(w)
	}
	return term.Beside(s.listPage(listWidth, h), edit(w-listWidth-3), listWidth, w, h)
}

// besidePlace returns some joined lines before and after the place.
func (s settlePage) besidePlace(q *plan.Attributed, most int) (before, after term.Page) {
	parts, at := s.parts(q)
	above, below := linesAround(parts, at, most)
	row := func(l string) term.Line {
		return term.Text(term.Dim, "      ").Add(term.Dim, strings.TrimRight(l, "\r\n"))
	}
	for _, l := range above {
		before.Row(row(l))
	}
	for _, l := range below {
		after.Row(row(l))
	}
	return before, after
}

// linesAround returns some lines of the result before and after a part.
func linesAround(parts []settle.Part, at, most int) (above, below []string) {
	for i, p := range parts {
		switch {
		case i < at:
			above = append(above, p.Lines...)
		case i > at && len(below) < most:
			below = append(below, p.Lines...)
		}
	}
	return above[max(0, len(above)-most):], below[:min(len(below), most)]
}

// theirName returns the author of the other side's edit.
func (s *settleScreen) theirName(q *plan.Attributed) string {
	return s.job.first(q.Theirs, merge.Theirs)
}

// they is theirName, or "they" if several people are behind the edit.
func (s *settleScreen) they(q *plan.Attributed) string {
	if q.Wrote[1].People() > 1 {
		return "they"
	}
	return s.theirName(q)
}

// aside returns why a conflict is deferred, or "".
func (s *settleScreen) aside(q *plan.Attributed) string {
	if q.Decision != nil {
		return ""
	}
	return s.job.st.PutAside[q.Question.Key]
}
