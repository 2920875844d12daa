package draw

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Told is the content of a drawing: a recovery and how to describe it.
type Told struct {
	Story *lookback.Story
	Short func(object.ID) string
	By    vcs.Dialect                                 // words of the system
	Size  func(n history.Node) (lines int, err error) // number of lines a commit changed
	// Editor returns the newest commit of a side that changed a file.
	Editor func(side []history.Node, path string) (history.Node, bool)
}

// commits counts commits in the words of the system.
func (t *Told) commits(n int) string { return t.By.Say(plural(n, "commit")) }

// called names a route.
func (t *Told) called(r plan.Route) string { return r.In(t.By) }

// name returns the author of a commit.
func (t *Told) name(n history.Node) string {
	if n.Commit == nil {
		return "somebody"
	}
	return n.Author().Name
}

// sheet returns an empty sheet for the recovery.
func (t *Told) sheet(title string, opt Options) *sheet {
	s := newSheet(title, opt)
	if t.Story.Who != "" {
		s.yours = "yours: what " + t.Story.Who + " had"
	}
	return s
}

// theirNames names the authors of theirs.
func (t *Told) theirNames() string { return t.Story.Position.TheirNames() }

func (t *Told) branch() string { return t.Story.Position.Branch.Name }

func (t *Told) upstream() string {
	if up := t.Story.Position.Line().Name; up != "" {
		return up
	}
	return "the other line"
}

// parted returns a sentence about where the lines part.
func (t *Told) parted() string {
	if len(t.Story.Below) == 0 {
		return "The two lines have no commit in common."
	}
	n := t.Story.Below[0]
	return fmt.Sprintf("The lines part at %s, “%s”, of %s.", t.Short(n.ID), n.Subject(), date(n.Author().Time()))
}

// Overlap draws, file by file, what both sides changed and how close the changes are.
func Overlap(t *Told, opt Options) (*Drawing, error) {
	s := t.sheet("Overlap of "+t.branch()+" and "+t.upstream(), opt)
	if len(t.Story.Overlap) == 0 {
		s.title(s.d.Title, t.parted())
		s.say(0, sans, 9, Ink, "Nothing overlaps: only one side has changed anything since.")
		return s.finish(), nil
	}
	decide := 0
	for _, o := range t.Story.Overlap {
		if o.Decide {
			decide++
		}
	}
	s.title(s.d.Title, fmt.Sprintf("%s %s; %s needed a decision.", t.parted(),
		words.Count(len(t.Story.Overlap), "file was changed since", "files were changed since"),
		plural(decide, "file")))
	s.legend(SignYours, SignTheirs)
	overlapRows(s, t)
	return s.finish(), nil
}

// overlapRows draws one row per file: changed lines of yours to the left, of theirs to the right.
func overlapRows(s *sheet, t *Told) {
	top := 1
	for _, o := range t.Story.Overlap {
		top = max(top, o.Yours, o.Theirs)
	}
	const half = 118.0 // length of the longest bar
	mid := s.d.W - margin - half - 34
	for _, o := range t.Story.Overlap {
		room := mid - half - 40 - margin
		name := wrapped(mono, 8, o.Path, room)
		kind := string(o.Kind)
		if o.Decide {
			kind += ", needs a decision"
		}
		if who := t.authors(o.Path, o.From); who != "" {
			kind += "; " + who
		}
		said := wrapped(sans, 7.5, kind, room)
		height := 8*lineHigh*float64(len(name)) + 7.5*lineHigh*float64(len(said)) + 8
		s.room(height)
		y := s.write(margin, s.y, mono, 8, Ink, name)
		hue := Dim
		if o.Decide {
			hue = Trouble
		}
		s.write(margin, y, sans, 7.5, hue, said)
		bar := func(n int, whole bool, side merge.Side) {
			if n == 0 && !whole {
				return
			}
			long := max(2, half*float64(n)/float64(top))
			label := fmt.Sprint(n)
			if whole {
				long, label = 10, "not text"
			}
			b := Block{Box: Box{mid + 3, s.y + 3, mid + 3 + long, s.y + 12}, Hue: Theirs, Hatched: true}
			x := mid + long + 7
			if side == merge.Yours {
				b = Block{Box: Box{mid - 3 - long, s.y + 3, mid - 3, s.y + 12}, Hue: Yours}
				x = mid - long - 7 - width(sans, 7.5, label)
			}
			s.put(b, Text{x, s.y + 10.5, 7.5, sans, Dim, label})
		}
		bar(o.Yours, o.YoursWhole, merge.Yours)
		bar(o.Theirs, o.TheirsWhole, merge.Theirs)
		s.put(Line{Points: [][2]float64{{mid, s.y + 1}, {mid, s.y + height - 5}}, Width: 0.6, Hue: Faint})
		s.y += height
	}
}

// Routes draws both routes side by side: the history that each makes, and its questions.
func Routes(t *Told, opt Options) (*Drawing, error) {
	s := t.sheet("Ways to join "+t.branch()+" and "+t.upstream(), opt)
	text := t.parted()
	if t.Story.Plan.Why != "" {
		text += " Suggested: " + t.called(t.Story.Plan.Suggested) + ". " + words.Sentence(t.Story.Plan.Why)
	}
	s.title(s.d.Title, text)
	if t.Story.Join == nil {
		s.say(0, sans, 9, Ink, "Nothing was to be joined: the branch moved forward to theirs.")
		return s.finish(), nil
	}
	s.legend(SignYours, SignTheirs, SignJoined, SignBase, SignBehind)
	routeColumns(s, t)
	return s.finish(), nil
}

// authors names the last person of each side who changed one of the paths.
func (t *Told) authors(paths ...string) string {
	var names []string
	for _, side := range [][]history.Node{t.Story.Position.Divergence.Yours, t.Story.Position.Divergence.Theirs} {
		for _, p := range paths {
			if p == "" {
				continue
			}
			if n, ok := t.Editor(side, p); ok && !slices.Contains(names, t.name(n)) {
				names = append(names, t.name(n))
			}
		}
	}
	if len(names) == 0 {
		return ""
	}
	return words.List(names)
}

// routeRow is a commit of the history that a route makes.
type routeRow struct {
	sign     SignKind
	id, text string
	note     string
}

// routeColumns draws the routes next to each other.
func routeColumns(s *sheet, t *Told) {
	var joins []*plan.Join
	for _, j := range []*plan.Join{t.Story.Plan.Rebase, t.Story.Plan.Merge, t.Story.Plan.Pick} {
		if j != nil && (j.Refused == nil || !t.Story.Plan.OneWay()) {
			joins = append(joins, j)
		}
	}
	const gap = 20.0
	wide := (s.inner() - gap*float64(len(joins)-1)) / float64(len(joins))
	top, low := s.y, s.y
	for i, j := range joins {
		s.y = top
		s.route(t, j, margin+float64(i)*(wide+gap), wide)
		low = max(low, s.y)
	}
	s.y = low
}

// route draws one route in a column.
func (s *sheet) route(t *Told, j *plan.Join, x, w float64) {
	name := words.Upper(t.called(j.Route))
	if j.Route == t.Story.Plan.Suggested {
		name += ", suggested"
	}
	s.y = s.write(x, s.y, bold, 12, Ink, []string{name})
	s.y += 2
	if j.Refused != nil {
		s.y = s.write(x, s.y, sans, 8.5, Dim, wrapped(sans, 8.5, words.Sentence(j.Refused.Error()), w))
		return
	}
	for _, l := range routeFacts(t, j) {
		s.y = s.write(x, s.y, sans, 8.5, Dim, wrapped(sans, 8.5, l, w))
	}
	s.y += 8
	rows := routeRows(t, j)
	limit := s.d.H - margin - 30
	lanes := routeLanes(j.Route, rows)
	in := 18 + lane*float64(slices.Max(append(slices.Clone(lanes), 0)))
	var at []float64 // y of each sign
	var texts []func()
	for i, r := range rows {
		head := wrapped(sans, 8.5, r.text, w-in)
		foot := wrapped(sans, 7.5, r.id+" · "+r.note, w-in)
		high := 8.5*lineHigh*float64(len(head)) + 7.5*lineHigh*float64(len(foot)) + 7
		if s.opt.Paged && s.y+high > limit {
			more, y := fmt.Sprintf("and %s more, older", t.commits(len(rows)-i)), s.y
			texts = append(texts, func() { s.write(x+in, y, sans, 8, Dim, []string{more}) })
			s.y += 8 * lineHigh
			break
		}
		at = append(at, s.y+7)
		y := s.y
		texts = append(texts, func() {
			s.put(Sign{x + 5 + lane*float64(lanes[i]), y + 7, 4.2, r.sign})
			s.write(x+in, s.write(x+in, y, sans, 8.5, Ink, head), sans, 7.5, Dim, foot)
		})
		s.y += high
	}
	low := s.y
	s.routeLines(x, rows, lanes, at)
	for _, write := range texts { // draw texts over the lines
		write()
	}
	s.y = low
}

// lane is the distance between the two lines of a merge.
const lane = 14.0

// routeLanes returns the line of each row; in a merge theirs has its own.
func routeLanes(route plan.Route, rows []routeRow) []int {
	out := make([]int, len(rows))
	for i, r := range rows {
		if route == plan.Merge && r.sign == SignTheirs {
			out[i] = 1
		}
	}
	return out
}

// routeLines draws the lines between rows: from each row to the next on its line, and for a second line from the first
// row to the last.
func (s *sheet) routeLines(x float64, rows []routeRow, lanes []int, at []float64) {
	if len(at) == 0 {
		return
	}
	px := func(i int) float64 { return x + 5 + lane*float64(lanes[i]) }
	put := func(hue SignKind, points ...[2]float64) {
		s.put(Line{Points: points, Width: 1.8, Hue: hueOfSign[hue], Dashed: hue == SignTheirs || hue == SignBehind})
	}
	last := [2]int{0, -1} // the last row with a sign, by line
	for i := 1; i < len(at); i++ {
		l := lanes[i]
		from := last[l]
		if from < 0 { // the second line begins at the first row
			put(rows[i].sign, [2]float64{px(0), at[0]}, [2]float64{px(i), min(at[0]+2*lane, at[i])}, [2]float64{px(i),
				at[i]})
		} else {
			put(rows[from].sign, [2]float64{px(from), at[from]}, [2]float64{px(i), at[i]})
		}
		last[l] = i
	}
	if end := len(at) - 1; last[1] >= 0 && lanes[end] == 0 && end > last[1] { // and ends at the last row
		put(rows[last[1]].sign, [2]float64{px(last[1]), at[last[1]]}, [2]float64{px(end), at[end]})
	}
}

// routeFacts lists what a route makes and asks.
func routeFacts(t *Told, j *plan.Join) (out []string) {
	switch j.Route {
	case plan.Merge:
		if t.Story.Position.BringsIn() {
			out = append(out, "One new revision brings the other line in; nothing is rewritten.")
			break
		}
		out = append(out, "One new commit joins both lines; nothing is rewritten.")
	case plan.Rebase:
		if t.By.Linear {
			out = append(out, words.Count(j.Kept(), "change list of yours goes", "change lists of yours go")+
				" on top of what is new.")
			break
		}
		out = append(out, fmt.Sprintf("%s of yours %s replayed on top of theirs, with new ids.",
			plural(j.Kept(), "commit"), words.Is(j.Kept(), "is", "are")))
	case plan.Pick:
		out = append(out, words.Count(j.Kept(), "commit is", "commits are")+" brought onto your branch.")
	}
	asks := j.Open + j.Settled
	if asks == 0 {
		return append(out, "It asks nothing.")
	}
	return append(out, fmt.Sprintf("It asks %s, at %s.", plural(asks, "decision"), plural(len(j.Stops), "stop")))
}

// routeRows returns the commits of the history that a route makes, newest first.
func routeRows(t *Told, j *plan.Join) (rows []routeRow) {
	d := t.Story.Position.Divergence
	of := func(kind SignKind, nodes []history.Node) {
		for _, n := range nodes {
			rows = append(rows, routeRow{kind, t.Short(n.ID), n.Subject(), t.name(n)})
		}
	}
	again := func(kind SignKind) {
		for i := len(j.Steps) - 1; i >= 0; i-- {
			st := &j.Steps[i]
			r := routeRow{kind, "was " + t.Short(st.Commit.ID), st.Commit.Subject(), t.name(st.Commit)}
			if t.By.Linear {
				r.id = t.Short(st.Commit.ID)
			}
			switch {
			case st.Outcome == replay.AlreadyThere:
				r.sign, r.id, r.note = SignBehind, t.Short(st.Commit.ID),
					"not needed: "+t.Short(st.Same.ID)+" holds the same change"
			case st.Outcome == replay.Dropped:
				r.sign, r.id, r.note = SignBehind, t.Short(st.Commit.ID), "left out"
			case st.Left():
				r.sign, r.id, r.note = SignBehind, t.Short(st.Commit.ID), "not needed: nothing of it is left"
			case st.Outcome == replay.Conflict:
				r.note += ", asked"
			}
			rows = append(rows, r)
		}
	}
	switch j.Route {
	case plan.Rebase:
		again(SignYours)
		of(SignTheirs, d.Theirs)
	case plan.Pick:
		again(SignTheirs)
		of(SignYours, d.Yours)
	default:
		subject := plan.MergeSubject(t.Story.Position)
		rows = append(rows, routeRow{SignJoined, t.By.Say("a new commit"), subject, t.Story.Who})
		of(SignYours, d.Yours)
		of(SignTheirs, d.Theirs)
	}
	for _, n := range t.Story.Below[:min(1, len(t.Story.Below))] {
		rows = append(rows, routeRow{SignBase, t.Short(n.ID), n.Subject(), "where the lines part"})
	}
	return rows
}

// Activity draws who committed when and how much since the lines parted.
func Activity(t *Told, opt Options) (*Drawing, error) {
	s := t.sheet("Since "+t.branch()+" and "+t.upstream()+" parted", opt)
	s.title(s.d.Title, t.parted()+t.By.Say(" A sign stands for a commit; the larger it is, the more lines it changed."))
	s.legend(SignYours, SignTheirs)
	err := activityRows(s, t)
	return s.finish(), err
}

// moment is a commit on the time line.
type moment struct {
	history.Node
	sign SignKind
	size int
}

// moments returns the commits of both sides, oldest first.
func (t *Told) moments() (all []moment, err error) {
	for _, side := range []struct {
		sign  SignKind
		nodes []history.Node
	}{{SignYours, t.Story.Position.Divergence.Yours}, {SignTheirs, t.Story.Position.Divergence.Theirs}} {
		for _, n := range side.nodes {
			size, err := t.Size(n)
			if err != nil {
				return nil, err
			}
			all = append(all, moment{n, side.sign, size})
		}
	}
	slices.SortStableFunc(all, func(a, b moment) int { return cmp.Compare(a.Author().When, b.Author().When) })
	return all, nil
}

// activityRows draws one time line per author.
func activityRows(s *sheet, t *Told) error {
	all, err := t.moments()
	if err != nil {
		return err
	}
	if len(all) == 0 {
		s.say(0, sans, 9, Dim, "Nobody has committed since.")
		return nil
	}
	first, last := all[0].Author().Time(), all[len(all)-1].Author().Time()
	var names []string
	by := map[string][]moment{}
	most := 1
	for _, m := range all {
		name := t.name(m.Node)
		if by[name] == nil {
			names = append(names, name)
		}
		by[name] = append(by[name], m)
		most = max(most, m.size)
	}
	left := margin + 110
	span := max(last.Sub(first), time.Minute)
	x := func(at time.Time) float64 {
		return left + 14 + (s.d.W-margin-left-28)*float64(at.Sub(first))/float64(span)
	}
	s.ticks(first, last, left, x)
	for _, name := range names {
		lines := 0
		for _, m := range by[name] {
			lines += m.size
		}
		said := wrapped(bold, 9, name, left-margin-10)
		facts := wrapped(sans, 7.5, fmt.Sprintf("%s, %s", t.commits(len(by[name])), plural(lines, "line")),
			left-margin-10)
		height := max(34, 9*lineHigh*float64(len(said))+7.5*lineHigh*float64(len(facts))+10)
		s.room(height)
		y := s.write(margin, s.y, bold, 9, Ink, said)
		s.write(margin, y, sans, 7.5, Dim, facts)
		mid := s.y + height/2 - 3
		s.put(Line{Points: [][2]float64{{left, mid}, {s.d.W - margin, mid}}, Width: 0.8, Hue: Faint})
		for _, m := range by[name] {
			s.put(Sign{x(m.Author().Time()), mid, 3.5 + 8.5*math.Sqrt(float64(m.size)/float64(most)), m.sign})
		}
		s.y += height
	}
	s.heading("Commits", 30)
	for _, m := range slices.Backward(all) {
		s.commitRow(t, m)
	}
	return nil
}

// ticks draws the time scale above the lines: days or, for a short time, hours, as far apart as their labels need.
func (s *sheet) ticks(first, last time.Time, left float64, x func(time.Time) float64) {
	form, step := "2 Jan", 24*time.Hour
	at := time.Date(first.Year(), first.Month(), first.Day(), 0, 0, 0, 0, first.Location())
	if last.Sub(first) < 36*time.Hour {
		form, step, at = "2 Jan 15:04", time.Hour, first.Truncate(time.Hour)
	}
	y, end := s.y+10, left
	for ; !at.After(last); at = at.Add(step) {
		label := at.Format(form)
		px, w := x(at), width(sans, 7.5, label)
		if px < end || px+w > s.d.W-margin {
			continue
		}
		s.put(Text{px, y, 7.5, sans, Dim, label}, Line{Points: [][2]float64{{px, y + 2}, {px, y + 6}}, Width: 0.6,
			Hue: Faint})
		end = px + w + 18
	}
	s.y += 18
}

// commitRow returns a row of a list of commits: sign, subject, author and date.
func (s *sheet) commitRow(t *Told, m moment) {
	facts := fmt.Sprintf("%s · %s · %s · %s", t.Short(m.ID), t.name(m.Node),
		m.Author().Time().Format("2 Jan 2006 15:04"),
		plural(m.size, "line"))
	head := wrapped(sans, 9, m.Subject(), s.inner()-16)
	s.room(9*lineHigh*float64(len(head)) + 7.5*lineHigh + 5)
	s.put(Sign{margin + 5, s.y + 8, 3.8, m.sign})
	s.y = s.write(margin+16, s.y, sans, 9, Ink, head)
	s.y = s.write(margin+16, s.y, sans, 7.5, Dim, []string{fitted(sans, 7.5, facts, s.inner()-16)})
	s.y += 5
}
