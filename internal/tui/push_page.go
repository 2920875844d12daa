package tui

import (
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

// pushPage draws Push.
type pushPage struct{ *pushScreen }

func (s pushPage) view(w, h int) term.Page {
	p := term.Page{nil}
	if !s.headline(&p, w) {
		return s.scroll.Window(p, h)
	}
	s.leftNote(&p, w)
	p.Blank()
	p.Head("WHAT "+strings.ToUpper(s.job.pos.Branch.Name)+" BECOMES", "")
	p.Blank()
	s.becomes(&p, w)
	if s.ready != nil && s.ready.Exchange != nil && s.job.holds == "" {
		s.goesRows(&p, w)
	}
	if s.job.pos.Trivial() == plan.NotTrivial && s.join() != nil {
		s.touchedRows(&p, w)
		p.Blank()
		p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
		s.leftOutRows(&p, w)
		if s.job.holds == "" {
			p.Blank()
			p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
			s.madeSure(&p)
		}
		s.othersRows(&p, w)
	} else if s.ready != nil && s.job.holds == "" && s.refused == nil {
		p.Blank()
		p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
		p.Head("BEFORE IT GOES", "")
		p.Blank()
		s.marksRow(sureRow(&p))
		s.madeSureOfRemote(sureRow(&p))
	}
	return s.scroll.Window(p, h)
}

// sureRow returns a function that adds a row about something that was looked at before a push.
func sureRow(p *term.Page) func(well bool, what, detail string) {
	return func(well bool, what, detail string) {
		m := term.MarkSettled
		if !well {
			m = term.MarkWarning
		}
		p.Row(term.Text(term.Plain, "    ").Mark(m).Add(term.Plain, " "+what).Fit(46).Add(term.Dim, "  "+detail))
	}
}

// marksRow says whether conflict marks are in what goes.
func (s pushPage) marksRow(row func(well bool, what, detail string)) {
	d := s.ready
	if len(d.Marks) == 0 {
		row(true, "no conflict marks in what goes", words.Count(d.Read, "file read", "files read"))
		return
	}
	var where []string
	for _, k := range d.Marks {
		where = append(where, k.String())
	}
	row(false, "conflict marks stand in a file", words.List(words.Some(where, 2)))
}

// headline describes the state of the push. It returns false if nothing follows below.
func (s pushPage) headline(p *term.Page, w int) bool {
	d, up, remote := s.ready, s.job.pos.To().Name, s.job.pos.To().Remote.String()
	switch {
	case s.job.holds != "":
		s.pushed(p, w)
	case d == nil:
		p.Say(w, term.Text(term.Dim, "Asking "+remote+" where it is…"))
		return false
	case s.refused != nil:
		s.refusal(p, w)
	case s.stopped != nil:
		p.Say(w, term.Line{}.Bold(term.Trouble, "✗ The hook "+s.stopped.Name+" stopped it. ").Add(term.Plain,
			fmt.Sprintf("It ended "+
				"with %d, and nothing was changed. Mend what it found, then press enter again.", s.stopped.Code)))
		saidRows(p, s.stopped.Said, w)
	case s.blocked():
		s.inTheWay(p, w)
	case d.Gone:
		p.Say(w, term.Line{}.Bold(term.Trouble, "▲ "+up+" is gone at the remote. ").Add(term.Plain,
			"Somebody deleted it there, or "+
				"gave it another name. Ask before you create it again; esc goes back, and nothing is changed."))
	case s.job.pos.Resumes() != nil &&
		s.joins():
		p.Say(w, term.Line{}.Bold(term.Joined, "Ready to finish. ").Add(term.Plain,
			fmt.Sprintf("%s goes to the result, and nothing "+
				"of %s that was half done is left over. A push comes "+
				"after.", s.job.branchName(), s.job.pos.Stuck.What())))
	case d.Moved:
		p.Say(w, term.Line{}.Bold(term.Trouble, s.job.say("▲ Somebody pushed meanwhile. ")).
			Add(term.Plain,
				up+" is no longer where it was when this was joined. Look at what is new; your decisions are "+
					"kept."))
		return false
	case d.Silent != nil:
		p.Say(w, term.Line{}.Bold(term.Trouble, "▲ "+remote+" did not answer. ").
			Add(term.Plain, words.Sentence(d.Silent.Error())+" Whether a push gets through shows when it is tried."))
	case d.Unclear != nil:
		p.Say(w, term.Line{}.Bold(term.Trouble, "▲ Where should it go? ").Add(term.Plain, d.Unclear.Question()))
	case up == "":
		p.Say(w, term.Line{}.Bold(term.Joined, words.If(s.joins(), "Ready. ", "Joined here. ")).Add(term.Plain,
			"There is no remote to push to."))
	case d.Exchange != nil:
		x := d.Exchange
		p.Say(w, term.Line{}.Bold(term.Bright, words.If(s.joins(), "Ready to join and exchange. ",
			"Ready to exchange. ")).Add(term.Plain, fmt.Sprintf("%s of %s, all of them "+
			"yours, %s replaced by %s.", words.Count(len(x.Goes), "commit", "commits"), up, words.Is(len(x.Goes), "is",
			"are"), instead(d))))
	case s.behind():
		p.Say(w, s.waiting(up))
	default:
		p.Say(w, s.goes(up))
	}
	return true
}

// pushed describes an accepted push, and what can follow.
func (s pushPage) pushed(p *term.Page, w int) {
	p.Say(w, term.Line{}.Bold(term.Joined, s.job.say("✓ Pushed. ")).Add(term.Plain, s.job.holds+" "+s.inIt()))
	s.hostRows(p, w)
	saidRows(p, s.said, w)
	if f := s.job.forward; f != nil && !recovery.IsTrunk(s.job.pos.Branch.Name) {
		p.Say(w,
			term.Text(term.Dim, fmt.Sprintf("%s has all of %s now: ^ puts it forward, so that "+
				"%[2]s holds the same.",
				s.job.branchName(), f.Name)))
	}
}

// goes describes a push that nothing here is in the way of.
func (s pushPage) goes(up string) term.Line {
	switch d := s.ready; {
	case d.Aside:
		return term.Line{}.Bold(term.Trouble, "▲ "+up+" took no push before. ").Add(term.Plain,
			words.Sentence(d.Refused.Why())+" Push to another branch, and have that joined there.")
	case len(d.Breaks) > 0:
		return term.Line{}.Bold(term.Trouble, "▲ The server refused this before. ").Add(term.Plain,
			"Change the commits first; what it asked for is below.")
	}
	head := s.job.say("Ready to join and push.")
	if s.joins() && inRow(s.job) {
		return term.Line{}.Bold(term.Joined, "Ready to join. ").Add(term.Plain,
			"The row then goes on with the next; nothing "+
				"is pushed before all had their turn.")
	}
	if s.job.accepted() {
		head = s.job.say("Joined here, not pushed yet.")
	} else if !s.joins() {
		head = s.job.say("Ready to push.")
	}
	where := up + ", which has not moved."
	if s.ready.New {
		where = fmt.Sprintf("%s, a new branch there, which %s then follows.", up, s.job.branchName())
	}
	return term.Line{}.Bold(term.Joined, head+" ").Add(term.Plain, fmt.Sprintf("%s to %s",
		s.job.say(words.Count(s.ready.Commits, "commit goes", "commits go")), where))
}

// instead describes what an exchange puts into the place of what goes.
func instead(d *recovery.Departure) string {
	if d.Commits > 0 {
		return words.Count(d.Commits, "commit", "commits") + " of your branch"
	}
	return "nothing: your branch went back behind them"
}

// goesRows lists the commits that an exchange takes out of the remote branch.
func (s pushPage) goesRows(p *term.Page, w int) {
	p.Blank()
	p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
	p.Head("WHAT GOES", "  from "+s.job.pos.To().Name)
	p.Blank()
	for _, g := range s.ready.Exchange.Goes {
		l := term.Text(term.Plain, "    ").Mark(term.MarkTheirs).Add(term.Plain, "  "+s.short(g.Node)+"  "+
			g.Subject()).Fit(w * 6 / 10)
		if g.Now.IsZero() {
			l = l.Mark(term.MarkWarning).Add(term.Trouble, "not here in any form")
		} else {
			l = l.Mark(term.MarkSettled).Add(term.Dim, "here as "+s.job.s.Planner.Short(g.Now))
		}
		p.Row(l)
	}
	if len(s.ready.Has) > 0 {
		p.Blank()
		p.Warn(w-2, fmt.Sprintf("%s %s what goes, too: whoever builds on that gets both forms when they join.",
			words.List(words.Some(s.ready.Has, 3)), words.Is(len(s.ready.Has), "has", "have")))
	}
}

// waiting describes a join that cannot be pushed yet, because the upstream has commits that it lacks.
func (s pushPage) waiting(up string) term.Line {
	n := s.job.say(words.Count(len(s.ready.Lacks), "commit", "commits"))
	what, head := s.job.pos.Line().Name+" is joined on your branch.", "✓ Joined here. "
	if s.job.pos.IsPick() {
		what, head = words.Count(s.job.join.Kept(), "commit is", "commits are")+" on your branch.", "✓ Picked. "
	}
	if s.job.accepted() {
		return term.Line{}.Bold(term.Joined, head).Add(term.Plain,
			fmt.Sprintf(s.job.say("%s %s has %s that you do not have: join the two lines before you push."), what, up,
				n))
	}
	what = s.job.pos.Line().Name + " is joined on your branch."
	if s.job.pos.IsPick() {
		what = words.Count(s.job.join.Kept(), "commit goes", "commits go") + " on your branch."
	}
	return term.Line{}.Bold(term.Joined, "Ready. ").Add(term.Plain,
		fmt.Sprintf(s.job.say("%s %s has %s that you do not have, so a push comes after joining those."), what, up, n))
}

// inTheWay describes what is in the way of the result, and the next step.
func (s pushPage) inTheWay(p *term.Page, w int) {
	names := words.List(words.Some(s.job.inWay.Paths, 3))
	text := "The result must change it. Press enter to have your work carried along: it is joined onto the result, " +
		"what does not fit is asked, and nothing of it is committed. Or commit it first."
	if s.job.inWay.Hidden {
		text = "git was told to treat it as unchanged, and it is not. Make git look again with “git update-index " +
			"--no-skip-worktree --no-assume-unchanged”, then look again with f on Look."
	}
	if s.job.inWay.Unknown {
		text = "It is not tracked, and the result must write there. Press enter to move it aside; undo " +
			"brings it back. Or move it yourself."
	}
	p.Say(w, term.Line{}.Bold(term.Trouble, "▲ Not yet: "+names+" is in the way. ").Add(term.Plain, text))
}

// leftNote counts what is left out, as the list below shows, with other remarks.
func (s pushPage) leftNote(p *term.Page, w int) {
	if s.join() != nil {
		for _, m := range s.job.join.Regenerations {
			if m.Made {
				p.Say(w, term.Line{}.Mark(term.MarkJoined).Add(term.Plain, m.Sentence()))
			} else {
				p.Warn(w, m.Sentence())
			}
		}
		for _, n := range s.job.join.Remarks() {
			if n.Asks {
				p.Warn(w, words.Remark(n))
			}
		}
	}
	if s.ready == nil || len(s.ready.Left) == 0 || s.job.holds != "" {
		return
	}
	n, mended := len(s.ready.Left), s.ready.Mended()
	var parts []string
	if n > mended {
		parts = append(parts, words.Count(n-mended, "thing", "things")+" somebody did will be left out")
	}
	if mended > 0 {
		parts = append(parts, "your mend changed "+words.Count(mended, "line", "lines")+" somebody wrote")
	}
	p.Warn(w, words.Sentence(strings.Join(parts, ", and ")+"; see the list below"))
}

// inIt describes what of both sides was pushed.
func (s pushPage) inIt() string {
	switch d := s.ready; {
	case s.pushedRow != nil:
		return "What was joined is in it."
	case s.job.join == nil || d == nil:
		return "Your work is in it."
	case len(d.Left) > d.Mended():
		return "Both sides' work is in it, but for " + words.Count(len(d.Left), "thing", "things") +
			" in the list below."
	case len(d.Left) > 0:
		return "Both sides' work is in it; your mend changed " + words.Count(len(d.Left), "line", "lines") + " of it."
	}
	return "Both sides' work is in it."
}

// refusal describes why the push failed and what to do.
func (s pushPage) refusal(p *term.Page, w int) {
	head, text, next := s.refused.Refused(s.job.canUndo())
	p.Say(w, term.Line{}.Bold(term.Trouble, "✗ "+head+" ").Add(term.Plain, text))
	p.Say(w, term.Text(term.Dim, next))
	if n := s.refused.Tries; n > 1 {
		p.Say(w, term.Text(term.Dim, fmt.Sprintf("It was tried %d times.", n)))
	}
	saidRows(p, s.refused.Refusal.Words, w)
}

// touchedRows lists the files that changed on disk, after the branch has the result.
func (s pushPage) touchedRows(p *term.Page, w int) {
	if !s.job.accepted() || s.ready == nil || s.ready.Touched == nil || len(s.ready.Touched.Paths) == 0 {
		return
	}
	paths := s.ready.Touched.Paths
	p.Blank()
	p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
	p.Head("CHANGED ON DISK", "  load "+words.Is(len(paths), "it", "them")+" again where "+words.Is(len(paths), "it is",
		"they are")+" open")
	p.Blank()
	p.Rows(term.Indent(term.Wrap(term.Text(term.Plain, words.List(words.Some(paths, 12))), w-8), 4))
}

// hostRows draws what became of a row of proposals, and what the host shows.
func (s pushPage) hostRows(p *term.Page, w int) {
	if s.pushedRow != nil {
		p.Blank()
		p.Head("THE ROW", "  "+s.pushedRow.Sentence())
		for i := range s.pushedRow.Items {
			item := &s.pushedRow.Items[i]
			m := term.MarkSettled
			if item.State == proposal.LeftOut {
				m = term.MarkBehind
			}
			p.Rows(term.Indent(term.Wrap(term.Line{}.Mark(m).Add(term.Plain, fmt.Sprintf("%-4s%s", item.Name,
				item.Title)).
				Add(term.Dim, "  by "+words.List(words.Some(item.By, 3))+": "+item.Account()), w-6), 4))
		}
	}
	if s.shown == nil {
		return
	}
	p.Blank()
	p.Head("AT THE HOST", "")
	for i, text := range s.shown.Sentences() {
		m := term.MarkNone
		if i == 0 {
			m = map[hostapi.CheckState]term.Mark{hostapi.Running: {Sign: "·", Hue: term.Dim},
				hostapi.Passed: term.MarkSettled,
				hostapi.Failed: term.MarkFailed}[s.shown.Branch.Check.State]
		}
		p.Rows(term.Indent(term.Wrap(term.Line{}.Mark(m).Linked(term.Plain, text), w-6), 4))
	}
}

// saidRows draws the words of a hook or a server whole, with their web addresses as links.
func saidRows(p *term.Page, said []string, w int) {
	if len(said) == 0 {
		return
	}
	p.Blank()
	p.Head("WHAT WAS SAID", "")
	for _, l := range said {
		p.Rows(term.Indent(term.Wrap(term.Line{}.Linked(term.Plain, l), w-6), 4))
	}
}

// idNow returns the present id of the i-th commit, replayed and signed. same reports that it was not replayed.
func (s pushPage) idNow(i int) (id string, same bool) {
	now := s.job.join.Steps[i].Commit.ID
	if i < len(s.job.built.IDs) && !s.job.built.IDs[i].IsZero() {
		now = s.job.built.IDs[i]
	}
	same = now == s.job.join.Steps[i].Commit.ID
	if same {
		return s.job.s.Planner.Short(now), true
	}
	return s.made(now), false
}

// made returns the id of a new commit as it is now: of the signed or stored one. It is only “new” before a system has
// stored it that gives ids then.
func (s pushPage) made(id object.ID) string {
	to, ok := s.job.signed[id]
	switch {
	case ok:
		id = to
	case s.job.s.Repo.Dialect().LateIDs:
		return "new"
	}
	return s.job.s.Planner.Short(id)
}

// branchRow is a commit of the new branch.
type branchRow struct {
	mark              term.Mark
	prime             bool // the commit was replayed
	id, subject, note string
	who               string
}

func (s pushPage) short(n history.Node) string { return s.job.s.Planner.Short(n.ID) }

// branch lists the commits of the new branch, newest first, down to the common ancestor.
func (s pushPage) branch() (rows []branchRow) {
	again := func(m term.Mark, side merge.Side) {
		for _, group := range slices.Backward(replay.Groups(s.job.join.Steps)) {
			st := &s.job.join.Steps[group[0]]
			var was []string
			for _, k := range group {
				was = append(was, s.job.s.Planner.Short(s.job.join.Steps[k].Commit.ID))
			}
			id, same := s.idNow(group[0])
			note := "unchanged"
			if !same {
				note = "new id, was " + words.List(was)
			}
			if !same && s.job.pos.Branch.Linear {
				note = "on top of what is new"
			}
			switch with := s.withMend(); {
			case with != "" && len(rows) == 0:
				note += with
			case len(st.Edited) > 0:
				note += ", with your edit"
			}
			rows = append(rows, branchRow{m, true, id, s.job.subject(group), note, s.job.name(st.Commit, side)})
		}
	}
	as := ""
	switch {
	case s.job.pos.Trivial() == plan.UpToDate || s.join() == nil:
	case s.job.pos.IsPick():
		again(term.MarkTheirs, merge.Theirs)
		as = "as it is"
	case s.job.join.Route == plan.Rebase:
		again(term.MarkYours, merge.Yours)
	default:
		subject, _, _ := strings.Cut(s.job.join.Message, "\n")
		note := words.If(s.job.pos.BringsIn(), "brings the other line in", "joins both lines") + s.withMend()
		rows = append(rows, branchRow{term.MarkJoined, false, s.made(s.job.built.Tip), subject, note, "you"})
		as = "as it is"
	}
	if s.join() == nil || s.job.join.Route != plan.Rebase {
		for _, n := range s.job.pos.Divergence.Yours {
			who := s.job.first(n, merge.Yours)
			rows = append(rows, branchRow{term.MarkYours, false, s.short(n), n.Subject(), as, who})
		}
	}
	if !s.job.pos.IsPick() && !s.job.exchanging { // otherwise the other branches stay
		from := "on the remote"
		if line := s.job.pos.Line(); line.Remote != s.job.pos.To().Remote || s.job.pos.BringsIn() {
			from = "from " + line.Name
		}
		for _, n := range s.job.pos.Divergence.Theirs {
			rows = append(rows, branchRow{term.MarkTheirs, false, s.short(n), n.Subject(), from,
				s.job.first(n, merge.Theirs)})
		}
	}
	return rows
}

// withMend describes the commit that holds the mends.
func (s pushPage) withMend() string {
	made := slices.ContainsFunc(s.job.join.Regenerations, func(m plan.Regeneration) bool { return m.Made && !m.Same })
	switch {
	case len(s.job.join.Mended) > 0:
		return ", with the mend"
	case made:
		return ", with the regenerated files"
	}
	return ""
}

// becomes draws the new branch.
func (s pushPage) becomes(p *term.Page, w int) {
	const most = 10
	rows, room, who, digits := s.branch(), 24, 12, 0
	for _, r := range rows {
		digits = max(digits, len([]rune(r.id)))
		room = max(room, len([]rune(r.subject)))
		if strings.HasPrefix(r.who, "you") { // readers first ask whose it is
			who = max(who, len([]rune(r.who)))
		}
	}
	room = min(room, max(20, w-44-who))
	if s.job.join != nil {
		for i := range s.job.join.Steps {
			if st := &s.job.join.Steps[i]; s.job.whyLeft(st) != "" {
				digits = max(digits, len([]rune(s.job.s.Planner.Short(st.Commit.ID))))
			}
		}
	}
	id := func(hue term.Hue, id string) term.Line { return term.Text(hue, id).Fit(digits).Add(hue, "  ") }
	for _, r := range rows[:min(most, len(rows))] {
		sign := r.mark.Sign
		if r.prime {
			sign += "′"
		}
		p.Row(term.Text(r.mark.Hue, "    "+sign).Fit(8).Then(id(r.mark.Hue,
			r.id)).Then(term.Text(term.Plain, r.subject).Fit(room)).
			Add(term.Dim, "  "+r.who).Fit(room+digits+12+who).Add(term.Dim, "  "+r.note))
	}
	if len(rows) > most {
		p.Row(term.Text(term.Dim, fmt.Sprintf("    and %s", words.Count(len(rows)-most, "older commit",
			"older commits"))))
	}
	if len(s.job.below) > 0 && s.job.pos.Trivial() == plan.NotTrivial {
		p.Row(term.Text(term.Base, "    "+term.MarkBase.Sign).Fit(8).Then(id(term.Base,
			s.job.s.Planner.Short(s.job.below[0].ID))).
			Add(term.Dim, s.job.below[0].Subject()+"   where the lines part"))
	}
	if s.job.join == nil {
		return
	}
	for i := range s.job.join.Steps {
		st := &s.job.join.Steps[i]
		if why := s.job.whyLeft(st); why != "" {
			p.Row(term.Text(term.Dim, "    ◌").Fit(8).Then(id(term.Dim, s.job.s.Planner.Short(st.Commit.ID))).Add(
				term.Dim, st.Commit.Subject()+"   "+why))
		}
	}
}

func (s pushPage) leftOutRows(p *term.Page, w int) {
	const most = 8
	left := s.ready.Left
	p.Head("LEFT OUT", "  what somebody did and the result does not hold")
	p.Blank()
	if len(left) == 0 {
		p.Row(term.Text(term.Plain, "    ").Then(term.Done("nothing")).Add(term.Dim,
			"   every line, name and deletion of either side is in the result"))
		return
	}
	column := 0
	for _, l := range left[:min(most, len(left))] {
		column = max(column, len([]rune(l.Where())))
	}
	column = min(column, w/3)
	for i, l := range left {
		if i == most {
			p.Row(term.Text(term.Dim, fmt.Sprintf("    and %d more", len(left)-i)))
			break
		}
		m, who := term.MarkYours, "you"
		if l.Side == merge.Theirs {
			m, who = term.MarkTheirs, l.Author
		}
		p.Row(term.Text(term.Plain, "    ").Mark(m).Add(m.Hue, who).Fit(20).Add(term.Dim, "  ").
			Then(term.Text(term.Dim, term.CutPath(l.Where(), column)).Fit(column+3)).Add(m.Hue, l.Says(left)).Cut(w))
	}
}

// madeSure lists what was verified and what was not.
func (s pushPage) madeSure(p *term.Page) {
	d := s.ready
	p.Head("BEFORE IT GOES", "")
	p.Blank()
	row := sureRow(p)
	row(true, "every conflict is settled", s.waysTaken())
	s.marksRow(row)
	switch c := s.checked; {
	case c.passed():
		row(true, "the joined code passes its check", c.line()+"   "+words.Seconds(c.result.Took))
	case c.failed():
		row(false, "the check failed", "you chose to go on")
	case c.ready && c.terms == nil:
		row(false, "the joined code was not checked", "no check was found")
	default:
		row(false, "the joined code was not checked", "you chose to go on")
	}
	if n := s.job.join.Kept(); s.job.join.Route == plan.Rebase && !s.job.plan.Pushed() {
		fresh := words.Count(n, "commit that was never pushed gets a new id",
			"commits that were never pushed get new ids")
		if s.job.s.Repo.Dialect().Linear {
			fresh = words.Count(n, "revision goes", "revisions go") + " on top of what is new"
		}
		row(true, s.job.say("nothing already pushed is rewritten"), fresh)
	} else if s.job.join.Route == plan.Rebase {
		row(false, "commits that are on a remote get new ids",
			words.List(words.Some(s.job.namesOf(s.job.plan.Published), 2)))
	}
	s.madeSureOfFiles(row)
	if t := d.Touched; t != nil && len(t.Open) > 0 && !s.job.accepted() {
		row(false, words.Is(len(t.Open), "a file is open in an editor", "files are open in an editor"),
			words.List(words.Some(t.Open, 3))+"; save or close "+words.Is(len(t.Open), "it", "them")+" first")
	}
	if t := d.Touched; t != nil && len(t.Fresh) > 0 && !s.job.accepted() {
		row(false, words.Is(len(t.Fresh), "a file was written just now", "files were written just now"),
			words.List(words.Some(t.Fresh, 3))+"; close "+words.Is(len(t.Fresh), "it", "them")+" in your editor first")
	}
	if s.job.pos.Resumes() != nil {
		return
	}
	s.madeSureOfRemote(row)
}

// madeSureOfRemote describes what the remote said.
func (s pushPage) madeSureOfRemote(row func(well bool, what, detail string)) {
	d := s.ready
	s.refusedBefore(row)
	switch {
	case d.NoTask:
		row(false, "no commit names a task", "dorvik.referenceWanted asks for one; w writes a message")
	case len(d.Tasks) > 0:
		row(true, "tasks", strings.Join(d.Tasks, ", "))
	}
	s.tagsRow(row)
	switch {
	case d.Silent == nil && d.New:
		row(true, "the remote has no such branch yet", "asked "+words.Ago(s.job.now(), d.Asked))
	case d.Silent == nil:
		row(true, "the remote is where it was",
			s.job.s.Planner.Short(s.job.pos.Upstream().Theirs)+", asked "+words.Ago(s.job.now(),
				d.Asked))
	default:
		row(false, "the remote did not answer", "")
	}
}

// tagsRow describes the tags that go, too, and those that stay.
func (s pushPage) tagsRow(row func(well bool, what, detail string)) {
	t := s.ready.Tags
	goes := t.Chosen(s.tags)
	stay := slices.DeleteFunc(slices.Clone(t.Belong), func(name string) bool { return slices.Contains(goes, name) })
	if len(goes) > 0 {
		row(true, "tags that go, too", words.List(words.Some(goes, 3)))
	}
	if len(stay) > 0 {
		row(true, "tags that stay here", words.List(words.Some(stay, 3))+"; t pushes them, too")
	}
	if len(t.Stay) > 0 {
		row(false, "tags stay at commits as they were", words.List(words.Some(t.Stay, 3))+"; what goes has new ids")
	}
}

// refusedBefore describes what the server refused before, and whether what goes now is as it asked.
func (s pushPage) refusedBefore(row func(well bool, what, detail string)) {
	d := s.ready
	if r := d.Refused; r != nil && (d.Aside || len(d.Breaks)+len(d.Keeps) == 0) {
		said := ""
		if len(r.Words) > 0 {
			said = ": " + r.Words[0]
		}
		row(false, "a push there was refused "+words.Ago(s.job.now(), r.When), r.Why()+said)
	}
	for _, b := range d.Breaks {
		row(false, "the server refused this before", b.What()+": it asked for "+b.Rule.String())
	}
	if len(d.Breaks) > 0 && s.joins() && !s.job.hasRoad() {
		row(false, "the commits can be changed in a rebase", "esc goes back to Choose")
	}
	for _, r := range d.Keeps {
		row(true, "as the server asked before", r.String())
	}
}

// madeSureOfFiles describes what happens to uncommitted work.
func (s pushPage) madeSureOfFiles(row func(well bool, what, detail string)) {
	var paths []string
	for _, d := range s.job.pos.Dirty {
		paths = append(paths, d.Path)
	}
	switch {
	case s.job.accepted():
	case s.job.join.Carried != nil && len(s.job.join.Carried.Paths) > 0:
		row(true, "uncommitted work is carried along", words.List(words.Some(s.job.join.Carried.Names(), 3)))
	case s.job.inWay != nil && s.job.aside:
		row(true, "what is in the way is moved aside", words.List(words.Some(s.job.inWay.Paths, 3)))
	case s.job.inWay != nil:
		row(false, "uncommitted work is in the way", words.List(words.Some(s.job.inWay.Paths, 3)))
	case s.job.pos.Stuck != nil: // files that git wrote become part of the result
	case len(paths) > 0:
		row(true, "uncommitted work stays as it is", words.List(words.Some(paths, 3)))
	}
}

// waysTaken counts the ways by which conflicts were settled.
func (s pushPage) waysTaken() string {
	count := map[string]int{}
	var order []string
	for _, q := range s.job.questions {
		if q.Decision == nil {
			continue
		}
		if count[q.Decision.Way.Label()]++; count[q.Decision.Way.Label()] == 1 {
			order = append(order, q.Decision.Way.Label())
		}
	}
	if len(order) == 0 {
		return "there were none"
	}
	for i, name := range order {
		order[i] = fmt.Sprintf("%d × %s", count[name], name)
	}
	return strings.Join(order, ";  ")
}

// othersRows describes in a few rows what the result means for others.
func (s pushPage) othersRows(p *term.Page, w int) {
	if s.ready == nil || len(s.ready.Others) == 0 {
		return
	}
	const most = 4
	p.Blank()
	p.Row(term.Text(term.Plain, "  ").Then(term.Rule(w - 4)))
	p.Head("WHAT THE OTHERS GET", s.job.say("  with their next pull")+"; e shows it line by line")
	p.Blank()
	for i, o := range s.ready.Others {
		if i == most {
			p.Row(term.Text(term.Dim, "    and "+words.Count(len(s.ready.Others)-i, "more person", "more people")))
			break
		}
		l := term.Text(term.Plain, "    ").Mark(term.MarkTheirs).Then(term.Text(term.Theirs, o.Name).Fit(20))
		n := o.Kept + len(o.Files)
		if len(o.Files) == 0 {
			l = l.Add(term.Plain, fmt.Sprintf("%s of theirs, as they left %s", words.Count(n, "file", "files"),
				words.Is(n, "it", "them")))
		} else {
			var names []string
			for _, f := range o.Files {
				names = append(names, f.Path)
			}
			l = l.Add(term.Plain, fmt.Sprintf("%d of %s of theirs with your changes in: ", len(o.Files),
				words.Count(n, "file", "files"))).
				Add(term.Dim, words.List(words.Some(names, 3)))
		}
		p.Row(l.Cut(w))
	}
}
