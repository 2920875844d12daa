package tui

import (
	"cmp"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

func (s *roadScreen) view(w, h int) term.Page {
	var p term.Page
	tight := h < 24
	foot := s.becomes(w, tight)
	if !tight {
		p.Blank()
	}
	p.Head("THE ROAD", "  your commits, one after the other, on top of "+s.job.pos.Line().Name)
	if !tight {
		p.Blank()
	}
	room := max(4, h-len(p)-len(foot))
	rows := s.rows(w)
	s.list.scroll.Size(len(rows), room)
	s.list.scroll.Show(s.list.row)
	p.Rows(s.list.scroll.Edges(rows[s.list.scroll.At():min(len(rows), s.list.scroll.At()+room)], len(rows)))
	return append(p, foot...)
}

// rows returns the commits in the order of the replay.
func (s *roadScreen) rows(w int) (p term.Page) {
	digits := len(fmt.Sprint(len(s.job.join.Steps)))
	subjects := map[int]string{}
	for _, group := range replay.Groups(s.job.join.Steps) {
		subjects[group[0]] = s.job.subject(group)
	}
	for i := range s.job.join.Steps {
		st := &s.job.join.Steps[i]
		m, h, says := s.state(i)
		id := h
		if id == term.Plain {
			id = term.Yours
		}
		l := term.Text(term.Bright, words.If(i == s.list.row, " ▶ ", "   ")).Add(term.Faint, fmt.Sprintf("%*d ", digits,
			i+1)).Mark(m).
			Add(id, s.job.s.Planner.Short(st.Commit.ID)+"  ").Add(fades(h == term.Dim),
			cmp.Or(subjects[i], st.Commit.Subject()))
		l = l.Fit(max(w/2, w-58)).Add(fades(h == term.Dim), "  "+says)
		if i == s.list.row {
			l = l.Fit(w).On(term.OnRow)
		}
		p.Row(l.Cut(w).Clicks(clickedRow(i)))
	}
	if c := s.job.join.Carried; c != nil && len(c.Paths) > 0 {
		l := term.Text(term.Plain, strings.Repeat(" ", digits+4)).Mark(term.MarkYours).Add(term.Plain,
			"your uncommitted work")
		p.Row(l.Fit(max(w/2, w-58)).Add(term.Dim, "  the last stop; it is not committed").Cut(w))
	}
	return p
}

// fades returns the colour of a text that may no longer matter.
func fades(dimmed bool) term.Hue {
	if dimmed {
		return term.Dim
	}
	return term.Plain
}

// subject returns the subject of the commit that a group of steps becomes.
func (j *job) subject(group []int) string {
	subject := j.join.Steps[group[0]].Commit.Subject()
	for _, k := range group {
		if m := j.join.Steps[k].Message; m != "" {
			subject, _, _ = strings.Cut(m, "\n")
		}
	}
	return subject
}

// state describes the state of a commit.
func (s *roadScreen) state(i int) (m term.Mark, h term.Hue, says string) {
	st := &s.job.join.Steps[i]
	request := s.job.pos.Requests[st.Commit.ID]
	if s.fixed(i) {
		return term.MarkSettled, term.Plain, "made before it stopped"
	}
	if why := s.job.whyLeft(st); why != "" {
		return term.MarkBehind, term.Dim, why
	}
	open, settled := 0, 0
	for k := range s.job.questions {
		q := &s.job.questions[k]
		if stop := s.job.join.Stops[q.Stop]; stop.Uncommitted || stop.Commit.ID != st.Commit.ID {
			continue
		}
		if q.Decision == nil {
			open++
		} else {
			settled++
		}
	}
	var more []string
	switch {
	case open > 0:
		m, says = term.MarkOpen, "asks "+words.Count(open, "decision", "decisions")
	case settled > 0:
		m, says = term.MarkSettled, words.Count(settled, "decision", "decisions")+" made"
	default:
		m, says = term.MarkJoined, "joins by itself"
	}
	if st.Into {
		more = append(more, "part of the one before")
	}
	if request.Message != "" {
		more = append(more, "new message")
	}
	if n := len(st.Edited); n > 0 {
		more = append(more, "edited by you")
	}
	if len(st.Unfit) > 0 {
		unfit := pathsOf(st.Unfit)
		m = term.MarkWarning
		more = append(more, "your edit of "+words.List(words.Some(unfit, 2))+" fits no longer")
	}
	if request.Keep {
		more = append(more, "kept, empty")
	}
	if i < len(s.job.built.IDs) {
		if passed, ok := s.job.each.passes(s.job.built.IDs[i]); ok {
			more = append(more, words.If(passed, "passes its check", "does not pass its check"))
			if !passed {
				m = term.MarkWarning
			}
		}
	}
	if last, ok := replay.Last(s.job.join.Steps); ok && last == i && len(s.job.join.Mended) > 0 {
		more = append(more, "holds your mend")
	}
	return m, term.Plain, strings.Join(append([]string{says}, more...), ", ")
}

// whyLeft returns why a commit is not replayed, or "" for one that is.
func (j *job) whyLeft(st *replay.Step) string {
	switch st.Outcome {
	case replay.AlreadyThere:
		return "not needed: " + j.s.Planner.Short(st.Same.ID) + " holds the same change"
	case replay.Emptied:
		for _, r := range st.Joins() {
			if !r.Clean() {
				return "not needed: nothing of it is left, as you settled it"
			}
		}
		return "not needed: nothing of it is left, its changes are there already"
	case replay.Dropped:
		return "left out by you"
	}
	return ""
}

// becomes lists the outcomes of the marked commit with their outcomes.
func (s *roadScreen) becomes(w int, tight bool) (p term.Page) {
	st := s.step()
	if !tight {
		p.Blank()
	}
	p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
	p.Head("WHAT HAPPENS TO IT", "  "+s.job.s.Planner.Short(st.Commit.ID)+" “"+st.Commit.Subject()+"”")
	if !tight {
		p.Blank()
	}
	outcomes := s.outcomes(s.list.row)
	if len(outcomes) == 0 {
		p.Say(w, term.Text(term.Plain, "It was made before the rebase stopped, and it stays."))
	}
	for i, f := range outcomes {
		l := term.Text(term.Bright, words.If(i == s.way, "  ▶ ", "    ")).Add(term.Dim,
			fmt.Sprint(i+1)+"  ").Bold(term.Plain, f.name)
		rows := term.Wrap(s.means(i, f), w-roadNames-2)
		if tight { // the rest is shown when it applies
			rows = rows[:min(len(rows), 2)]
		}
		for _, row := range rows {
			row = l.Fit(roadNames).Then(row)
			if i == s.way {
				row = row.Fit(w).On(term.OnRow)
			}
			p.Row(row.Clicks(clickedWay(i)))
			l = nil
		}
	}
	if tight {
		return p
	}
	p.Blank()
	p.Say(w, term.Text(term.Dim,
		"If you know the commands: continue is to settle the conflicts; skip is 2, left out; "+
			"abort is q, because nothing was changed."))
	return p
}

// roadNames is the width of the column of outcomes.
const roadNames = 34

// means describes what an outcome means.
func (s *roadScreen) means(i int, f outcome) term.Line {
	if i == s.is(s.list.row) {
		_, _, says := s.state(s.list.row)
		return term.Text(term.Joined, "as it is now").Add(term.Plain, ": "+says)
	}
	cost := s.costs[requested{s.step().Commit.ID, f.request}]
	if cost == nil {
		return term.Text(term.Dim, "working it out…")
	}
	l := s.loses(cost)
	switch more := cost.Asks - s.job.join.Open; {
	case more > 0:
		l = l.Add(term.Plain, "; ").Add(term.Trouble, "asks "+words.Count(more, "more decision", "more decisions"))
	case more < 0:
		l = l.Add(term.Plain, "; asks "+words.Count(-more, "fewer decision", "fewer decisions"))
	}
	if f.request.Into {
		l = l.Add(term.Dim, "; one commit with both messages, w writes another")
	}
	return l
}

// loses describes what the result would lack.
func (s *roadScreen) loses(cost *plan.Cost) term.Line {
	if len(cost.Left) == 0 {
		return term.Text(term.Plain, "nothing is lost")
	}
	files := map[string]bool{}
	for _, l := range cost.Left {
		files[l.Path] = true
	}
	first := cost.Left[0]
	l := term.Text(term.Trouble, "loses "+words.Count(len(cost.Left), "thing", "things")+" of yours").
		Add(term.Plain, " in "+words.Count(len(files), "file", "files"))
	return l.Add(term.Dim, ": "+first.Path+", “"+words.OneLine(first.Text)+"”"+words.If(len(cost.Left) > 1, " …", ""))
}

// pathsOf returns the files of edits.
func pathsOf(edits []merge.TextEdit) (out []string) {
	for _, one := range edits {
		out = append(out, one.Path)
	}
	return out
}
