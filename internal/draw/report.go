package draw

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// Report draws a report for a reviewer or the archive: what was joined, what was decided, by whom and why, what was
// left out, whether it builds, and how to go back.
func Report(t *Told, opt Options) (*Drawing, error) {
	opt.Paged = true
	s := t.sheet(t.title(), opt)
	p := &printed{s, t}
	t.Tell(p)
	return s.finish(), nil
}

// Markdown writes the report as CommonMark, to be pasted into a team's chat or tracker.
func Markdown(w io.Writer, t *Told) error {
	m := &marked{w: w, t: t}
	t.Tell(m)
	return m.err
}

// Listener receives a report from beginning to end.
type Listener interface {
	Title(title string, summary []string)
	Part(heading string, first float64) // minimum height of its first element, in points
	Say(text string)
	Side(name string, kind SignKind, nodes []history.Node)
	Overlap(list []plan.Overlap)
	Conflict(q *plan.Attributed, head, decision string)
	Item(kind SignKind, text string)
}

// Tell passes a recovery to a listener, part by part.
func (t *Told) Tell(to Listener) {
	to.Title(t.title(), summary(t))
	to.Part("The two lines", 60)
	to.Say(t.parted())
	to.Side("yours", SignYours, t.Story.Position.Divergence.Yours)
	to.Side("theirs", SignTheirs, t.Story.Position.Divergence.Theirs)
	if len(t.Story.Overlap) > 0 {
		to.Part("Where both changed the same files", 60)
		to.Overlap(t.Story.Overlap)
	}
	if t.Story.Join != nil {
		tellJoin(t, to)
	}
	to.Part("The result", 30)
	for _, l := range resultWords(t) {
		to.Say(l)
	}
	if len(t.Story.Others) > 0 {
		to.Part("What the others get", 20)
		for _, o := range t.Story.Others {
			to.Item(SignTheirs, otherWords(o))
		}
	}
	to.Part("How to go back", 30)
	to.Say(backWords(t))
}

// tellJoin passes what was decided, what was left out, and whether it builds.
func tellJoin(t *Told, to Listener) {
	to.Part("Conflicts", 130)
	if len(t.Story.Questions) == 0 {
		to.Say("There were none: all of it joined by itself.")
	}
	for i := range t.Story.Questions {
		q := &t.Story.Questions[i]
		to.Conflict(q, conflictHead(t, i), decisionOf(t, q))
	}
	to.Part("Left out", 20)
	if len(t.Story.Left) == 0 {
		to.Say("Nothing: every line, name and deletion of either side is in the result.")
	}
	for _, l := range t.Story.Left {
		to.Item(signOfSide(l.Side), leftOutWords(t, l))
	}
	if n := len(t.Story.Join.Mended); n > 0 {
		to.Part("Mends", 20)
		for _, m := range t.Story.Join.Mended {
			to.Item(SignJoined, m.Path+": changed beside what was joined and decided")
		}
	}
	if len(t.Story.Join.Regenerations) > 0 {
		to.Part("Made anew", 20)
		for _, m := range t.Story.Join.Regenerations {
			to.Item(SignJoined, m.Sentence())
		}
	}
	to.Part("The check", 20)
	to.Say(checkWords(t))
}

// title returns the title of the report.
func (t *Told) title() string {
	if t.Story.Position.IsPick() {
		return "Commits picked onto " + t.branch()
	}
	return "Joining " + t.branch() + " and " + t.upstream()
}

// summary returns the report in a few sentences.
func summary(t *Told) (out []string) {
	d := t.Story.Position.Divergence
	first := fmt.Sprintf("%s by %s (yours) and %s by %s (theirs)", t.commits(len(d.Yours)),
		words.List(plan.Authors(d.Yours)), t.commits(len(d.Theirs)), t.theirNames())
	if t.Story.Position.IsPick() {
		first = fmt.Sprintf("%s by %s", t.commits(len(d.Theirs)), t.theirNames())
	}
	switch {
	case t.Story.Join == nil: // the join was made: one under way has a Join
		return []string{fmt.Sprintf("%s moved forward on %s, to %s by %s: nothing of yours was in the way, and "+
			"nothing was joined.", t.branch(), t.Story.Waypoint.Time.Format("2 Jan 2006 15:04 -0700"),
			t.commits(len(d.Theirs)), t.theirNames())}
	case t.Story.Waypoint == nil:
		out = append(out, words.Sentence(fmt.Sprintf("%s are to be joined by %s; nothing of it is on the branch yet",
			first, t.called(t.Story.Join.Route))))
	default:
		done := "joined by " + words.If(t.Story.Waypoint.By.Is(plan.Rebase), t.called(plan.Rebase),
			string(t.Story.Waypoint.By))
		if t.Story.Position.IsPick() {
			done = "picked"
		}
		were := "were"
		if t.Story.Position.IsPick() {
			were = words.Is(len(d.Theirs), "was", "were")
		}
		out = append(out, words.Sentence(fmt.Sprintf("%s %s %s on %s", first, were, done,
			t.Story.Waypoint.Time.Format("2 Jan 2006 15:04 -0700"))))
	}
	settled := t.Story.Join.Settled
	asked := settled + t.Story.Join.Open
	switch {
	case asked == 0:
		out = append(out, "No decision was needed.")
	case t.Story.Join.Open > 0:
		out = append(out, fmt.Sprintf("%d of %s settled.", settled, words.Count(asked, "conflict is", "conflicts are")))
	default:
		out = append(out, words.Count(settled, "conflict was", "conflicts were")+" settled by "+t.person()+".")
	}
	if n := len(t.Story.Left); n > 0 {
		things := words.Count(n, "thing somebody did is", "things somebody did are")
		out = append(out, things+" not in the result; see below.")
	}
	return append(out, checkWords(t))
}

// person returns who decided.
func (t *Told) person() string {
	if t.Story.Who == "" {
		return "a person"
	}
	return t.Story.Who
}

func signOfSide(s merge.Side) SignKind {
	if s == merge.Yours {
		return SignYours
	}
	return SignTheirs
}

// conflictHead names the place of a conflict and whose edits meet there.
func conflictHead(t *Told, i int) string {
	q := &t.Story.Questions[i]
	where := q.Question.Path
	if !q.Question.Whole() {
		place := q.Question.Place.Yours
		where += fmt.Sprintf(":%d", place.Lo+1)
	}
	return fmt.Sprintf("%d of %d   %s", i+1, len(t.Story.Questions), where)
}

// decisionOf describes how and why a conflict was settled.
func decisionOf(t *Told, q *plan.Attributed) string {
	d := q.Decision
	if d == nil {
		return "Not settled yet."
	}
	who := t.person()
	if d.Way == settle.Written {
		return who + " settled it by writing the place."
	}
	said := who + " settled it by: " + d.Way.Label() + "."
	if o, ok := q.Question.Option(d.Way); ok && o.Reason != "" {
		said += " " + words.Sentence(o.Reason)
	}
	if d.Way == q.Question.Suggested {
		said += " It was suggested."
	} else if q.Question.Suggested != "" {
		said += " Suggested was: " + q.Question.Suggested.Label() + "."
	}
	return said
}

func leftOutWords(t *Told, l plan.LeftOut) string {
	return fmt.Sprintf("%s, %s: %s", l.Where(), cmp.Or(l.Author, t.Story.Who), l.Says(t.Story.Left))
}

func checkWords(t *Told) string {
	c := t.Story.Checked
	switch {
	case c == nil:
		return "The result was not checked."
	case c.Skipped && c.Command == "":
		return "The result was not checked: it was chosen to go on without."
	case c.Skipped:
		return fmt.Sprintf("The check “%s” did not pass, and it was chosen to go on.", c.Command)
	case c.Passed:
		return fmt.Sprintf("The joined code passes its check, “%s”, in %s.", c.Command, words.Seconds(c.Took))
	}
	return fmt.Sprintf("The check “%s” failed.", c.Command)
}

func resultWords(t *Told) (out []string) {
	if t.Story.Waypoint == nil {
		return []string{"It is not made yet: the branch is as it was."}
	}
	out = append(out, fmt.Sprintf("%s went from %s to %s.", t.branch(), t.Story.Waypoint.Before,
		t.Story.Waypoint.After))
	if t.Story.Differs {
		out = append(out, "Worked out anew, with the same decisions, the join comes to other files than were made "+
			"then: what is told above is of the one worked out now.")
	}
	for _, n := range t.Story.Made {
		out = append(out, fmt.Sprintf("%s   %s", t.Short(n.ID), n.Subject()))
	}
	if t.Story.Pushed {
		return append(out, t.upstream()+" has it.")
	}
	return append(out, "It is not on "+t.upstream()+", as far as was fetched.")
}

func otherWords(o lookback.Other) string {
	if len(o.Files) == 0 {
		return fmt.Sprintf("%s: %s, in the result as they left %s", o.Name, plural(o.Kept, "file"),
			words.Is(o.Kept, "it", "them"))
	}
	var names []string
	for _, f := range o.Files {
		names = append(names, fmt.Sprintf("%s (+%d −%d)", f.Path, f.Added, f.Removed))
	}
	return fmt.Sprintf("%s: %d of %s changed: %s", o.Name, len(o.Files), plural(o.Kept+len(o.Files), "file"),
		words.List(names))
}

func backWords(t *Told) string {
	if t.Story.Waypoint == nil {
		return "There is nothing to go back from: nothing was changed."
	}
	if t.Story.Waypoint.GoneBack {
		return "It was gone back from."
	}
	if t.Story.Pushed {
		return fmt.Sprintf("It was pushed, and others may build on it: it can no longer be undone. A new commit "+
			"can take the change back. The branch as it was, at %s, is kept as %s.",
			t.Short(t.Story.Waypoint.Before), t.Story.Waypoint.Ref())
	}
	return fmt.Sprintf("The state of before is kept under the waypoint %s: “dorvik undo %s” takes branch and "+
		"files back to it.", t.Story.Waypoint.Name, t.Story.Waypoint.Name)
}

// printed writes a report on pages.
type printed struct {
	*sheet
	t *Told
}

func (p *printed) Title(title string, summary []string) {
	p.sheet.title(title, "")
	p.y += 4
	for _, l := range summary {
		p.sheet.say(0, sans, 10, Ink, l)
	}
	p.legend(SignYours, SignTheirs)
	p.y -= 10
}

func (p *printed) Part(h string, first float64) { p.heading(h, first) }

func (p *printed) Say(text string) {
	p.sheet.say(0, sans, 9, Ink, text)
	p.y += 3
}

func (p *printed) Side(name string, kind SignKind, nodes []history.Node) {
	if len(nodes) == 0 {
		return
	}
	p.room(40)
	p.y += 5
	p.y = p.write(margin, p.y, bold, 9, map[SignKind]Hue{SignYours: Yours, SignTheirs: Theirs}[kind], []string{name})
	for _, n := range nodes {
		p.Item(kind, fmt.Sprintf("%s  %s · %s, %s", p.t.Short(n.ID), n.Subject(), p.t.name(n), date(n.Author().Time())))
	}
}

func (p *printed) Item(kind SignKind, text string) {
	lines := wrapped(sans, 9, text, p.inner()-16)
	p.room(9*lineHigh*float64(len(lines)) + 2)
	p.put(Sign{margin + 5, p.y + 6.7, 3.6, kind})
	p.y = p.write(margin+16, p.y, sans, 9, Ink, lines) + 2
}

func (p *printed) Overlap([]plan.Overlap) { overlapRows(p.sheet, p.t) }

func (p *printed) Conflict(q *plan.Attributed, head, decision string) {
	p.room(110)
	p.y += 4
	p.sheet.say(0, bold, 9.5, Ink, head)
	if hint := words.Hint(q.Question); hint != "" {
		p.sheet.say(0, sans, 8.5, Dim, words.Sentence(hint))
	}
	for _, e := range edits(p.t, q) {
		p.edit(e)
	}
	p.y += 3
	p.sheet.say(10, sans, 9, Joined, decision)
	p.y += 8
}

// editOf is a side's edit of the base.
type editOf struct {
	kind       SignKind
	who        string
	base, side string
	whole      bool
}

// edits is both sides' edits of a conflict.
func edits(t *Told, q *plan.Attributed) []editOf {
	who := func(n history.Node) string {
		if n.Commit == nil {
			return ""
		}
		return fmt.Sprintf("%s, %s: %s (%s)", t.name(n), date(n.Author().Time()), n.Subject(), t.Short(n.ID))
	}
	c := q.Question
	out := []editOf{{SignYours, who(q.Yours), c.Base, c.Yours, c.Whole()}, {SignTheirs, who(q.Theirs), c.Base,
		c.Theirs, c.Whole()}}
	if text, ok := settledText(q); ok {
		out = append(out, editOf{SignJoined, "what stands there now", c.Base, text, false})
	}
	return out
}

// settledText returns the text of a decision. ok is false if the conflict is open or about a whole file.
func settledText(q *plan.Attributed) (text string, ok bool) {
	d := q.Decision
	switch {
	case d == nil || q.Question.Whole():
		return "", false
	case d.Way == settle.Written:
		return d.Text, true
	}
	o, ok := q.Question.Option(d.Way)
	return o.Text, ok
}

// editRow is a line of an edit: removed, added or unchanged.
type editRow struct {
	sign, text string
	on         Hue
}

// rows returns the lines of an edit in order; on is the background of added ones.
func (e editOf) rows(on Hue) (out []editRow) {
	base, side := diff.Lines(e.base), diff.Lines(e.side)
	add := func(sign string, lines []string, on Hue) {
		for _, l := range lines {
			out = append(out, editRow{sign, strings.TrimRight(l, "\r\n"), on})
		}
	}
	at := 0
	for _, d := range diff.Histogram(base, side) {
		add(" ", base[at:d.A0], Paper)
		add("−", base[d.A0:d.A1], OnBase)
		add("+", side[d.B0:d.B1], on)
		at = d.A1
	}
	add(" ", base[at:], Paper)
	return out
}

// edit writes the removed and added lines of a side.
func (p *printed) edit(e editOf) {
	kind := map[SignKind]Hue{SignYours: OnYours, SignTheirs: OnTheirs, SignJoined: OnJoined}[e.kind]
	p.room(30)
	p.y += 3
	p.put(Sign{margin + 15, p.y + 6.4, 3.6, e.kind})
	p.y = p.write(margin+26, p.y, sans, 8.5, Ink, wrapped(sans, 8.5, e.who, p.inner()-26))
	if e.whole {
		return
	}
	p.y += 2
	for _, part := range e.rows(kind) {
		for i, row := range wrapped(mono, 7.5, part.text, p.inner()-46) {
			p.room(7.5 * lineHigh)
			high := 7.5 * lineHigh
			if part.on != Paper {
				p.put(Block{Box: Box{margin + 26, p.y, p.d.W - margin, p.y + high}, Hue: part.on})
			}
			if i == 0 {
				p.put(Text{margin + 29, p.y + high - 2.2, 7.5, mono, Dim, part.sign})
			}
			p.y = p.write(margin+40, p.y, mono, 7.5, Ink, []string{row})
		}
	}
}

// marked writes a report in Markdown (CommonMark).
type marked struct {
	w   io.Writer
	t   *Told
	err error
}

func (m *marked) print(format string, args ...any) {
	if m.err == nil {
		_, m.err = fmt.Fprintf(m.w, format, args...)
	}
}

// plainText escapes a text for Markdown.
func plainText(s string) string {
	var b strings.Builder
	for _, r := range s {
		if strings.ContainsRune("\\`*_{}[]<>#|~!", r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}

func (m *marked) Title(title string, summary []string) {
	m.print("# %s\n\n", plainText(title))
	for _, l := range summary {
		m.print("%s\n", plainText(l))
	}
	theirs := "on " + m.t.upstream()
	if m.t.Story.Position.IsPick() {
		theirs = "picked"
	}
	m.print("\n◐ yours: what %s had. ◑ theirs: what was %s.\n", plainText(m.t.person()), plainText(theirs))
}

func (m *marked) Part(h string, _ float64) { m.print("\n## %s\n\n", h) }

func (m *marked) Say(text string) { m.print("%s\n\n", plainText(text)) }

func (m *marked) Side(name string, kind SignKind, nodes []history.Node) {
	if len(nodes) == 0 {
		return
	}
	m.print("\n**%s**\n\n", name)
	for _, n := range nodes {
		id := n.ID.Prefix(12)
		if m.t != nil && m.t.By.Linear {
			id = m.t.Short(n.ID)
		}
		m.print("- %s `%s` %s, %s, %s\n", signText(kind), id, plainText(n.Subject()),
			plainText(n.Author().Name),
			date(n.Author().Time()))
	}
}

// signText returns a sign as a character.
func signText(k SignKind) string { return [...]string{"○", "◐", "◑", "●", "◌"}[k] }

func (m *marked) Overlap(list []plan.Overlap) {
	m.print("| file | ◐ yours | ◑ theirs | |\n| --- | ---: | ---: | --- |\n")
	for _, o := range list {
		said := string(o.Kind)
		if o.Decide {
			said += ", needs a decision"
		}
		m.print("| %s | %d | %d | %s |\n", plainText(o.Path), o.Yours, o.Theirs, said)
	}
}

func (m *marked) Conflict(q *plan.Attributed, head, decision string) {
	m.print("### %s\n\n", plainText(head))
	if hint := words.Hint(q.Question); hint != "" {
		m.print("%s\n\n", words.Sentence(hint))
	}
	c := q.Question
	if !c.Whole() {
		for _, e := range []struct{ name, text string }{
			{"○ base", c.Base}, {"◐ yours", c.Yours}, {"◑ theirs", c.Theirs},
		} {
			m.print("%s:\n\n", e.name)
			m.fenced(e.text)
		}
		if text, ok := settledText(q); ok {
			m.print("● what stands there now:\n\n")
			m.fenced(text)
		}
	}
	m.print("%s\n\n", plainText(decision))
}

// fenced writes a code block whose fences are longer than any in it.
func (m *marked) fenced(text string) {
	fence := "```"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	m.print("%s\n%s%s\n\n", fence, text, fence)
}

func (m *marked) Item(kind SignKind, text string) {
	m.print("- %s %s\n", signText(kind), plainText(text))
}
