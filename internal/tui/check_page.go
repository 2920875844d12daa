package tui

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/tui/keys"
	"dorvik.dev/dorvik/internal/tui/term"
	"dorvik.dev/dorvik/internal/words"
)

func (s *checkScreen) view(w, h int) term.Page {
	p := term.Page{nil}
	switch {
	case !s.ready:
		return p
	case s.making:
		return s.page().regenerationPage(p, w, h)
	case s.terms == nil:
		p.Say(w, term.Line{}.Bold(term.Bright, "No check was found. ").
			Add(term.Plain, "Nothing in this project tells how it is built or tested."))
		p.Say(w, term.Line{}.Add(term.Dim, "Press ").Bold(term.Bright, keys.Write.Help().Key).Add(term.Dim,
			" to type one, such as make test. Or go on without; then nothing proves that the joined code works."))
		p.Blank()
		p.Say(w, term.Text(term.Dim, "Looked for: "+check.LookedFor+"."))
		s.page().misfitNote(&p, w, 4)
		return p
	case s.failed():
		return s.page().failedPage(p, w, h)
	case s.running():
		last := ""
		if d := s.job.st.LastCheck; d > 0 {
			last = " of about " + words.Seconds(d) + ", as the last run"
		}
		p.Say(w, term.Line{}.Bold(term.Bright, "Checking the joined code. ").Add(term.Dim,
			words.Seconds(s.job.now().Sub(s.started))+last))
		if s.eaching {
			p.Rows(s.page().eachRows(w))
		} else if steps, _ := s.output.begun(); max(len(steps), len(s.terms.Command.Steps)) > 1 {
			p.Rows(s.page().stepRows(w))
		}
	case s.passed():
		p.Say(w, term.Line{}.Bold(term.Joined, "✓ The joined code passes. ").
			Add(term.Plain, s.line()+" ended well after "+words.Seconds(s.result.Took)+"."))
		p.Say(w, term.Text(term.Dim, s.job.say("Exactly this tree will be pushed.")))
		p.Rows(s.page().eachRows(w))
	default:
		p.Say(w, term.Line{}.Bold(term.Bright, "Does the joined code build? ").
			Add(term.Plain, "The texts join; that does not prove that they work together. This project is checked by:"))
		p.Blank()
		p.Rows(s.page().stepRows(w))
		p.Row(term.Text(term.Dim, "      "+words.If(s.terms.Command.Configured, "set by ",
			"found from ")+s.terms.Command.Source))
		p.Blank()
		s.page().consentNote(&p, w, h)
		s.page().mendedNote(&p, w)
		if h-len(p) > 3 || len(s.terms.Asks) == 0 { // otherwise only its heading would fit
			s.page().misfitNote(&p, w, 4)
		}
		return p
	}
	s.page().mendedNote(&p, w)
	if s.output != nil {
		p.Blank()
		p.Rows(s.page().outputPage(w-2, h-len(p)))
	}
	return p
}

// regenerationPage lists the files that must be made again before the check.
func (s checkPage) regenerationPage(p term.Page, w, h int) term.Page {
	todo := s.job.join.Unmade()
	if len(todo) == 0 {
		return p
	}
	switch one := todo[0]; {
	case s.running():
		p.Say(w, term.Line{}.Bold(term.Bright, "Making "+one.Path+" anew. ").Add(term.Dim,
			words.Seconds(s.job.now().Sub(s.started))))
	case s.unmade:
		p.Say(w, term.Line{}.Bold(term.Trouble, "✗ "+one.Path+" could not be regenerated. ").Add(term.Plain,
			"Nothing has been changed or pushed. Try again, or go back and take a side. Going on without leaves "+
				"yours in it where both changed it."))
	default:
		p.Say(w, term.Line{}.Bold(term.Bright, "A program makes "+one.Path+". ").Add(term.Plain,
			"All else is settled, so it can be regenerated from the joined files:"))
		p.Blank()
		for _, m := range todo {
			p.Row(term.Text(term.Plain, "    ").Bold(term.Bright, "$ "+m.Command))
			p.Row(term.Text(term.Dim, "      makes "+m.Path))
		}
		p.Blank()
		p.Say(w, term.Text(term.Plain,
			"It runs with your rights in a checkout of its own outside your project, and may use "+
				"the network. Your working tree is not used, and nothing else that it changes is taken. Dorvik "+
				"asks this "+
				"once in a repository, and again when others change what it can run."))
		s.asksNote(&p, s.makes, w, h)
	}
	if s.output != nil {
		p.Blank()
		p.Rows(s.outputPage(w-2, h-len(p)))
	}
	return p
}

// misfitNote describes the misfits that were found without a build.
func (s checkPage) misfitNote(p *term.Page, w, most int) {
	if len(s.unfit) > 0 {
		p.Blank()
		p.Head("MAY NOT WORK TOGETHER", "  found in both sides’ edits, before anything is built")
		p.Rows(term.Indent(misfitRows(s.job, s.unfit, s.offered, w-4, most), 2))
		if s.mending().canTake() {
			p.Row(term.Line{}.Add(term.Plain, "  ").Bold(term.Bright, keys.Take.Help().Key).Add(term.Plain,
				"  "+words.Is(len(s.offered),
					"takes this mend", "takes these mends")).Add(term.Dim, "; "+words.Is(len(s.offered), "it becomes",
				"they become")+" part of "+s.mending().holderNames()+words.If(len(s.mayHold) > 1, "; tab: of "+
				"another commit",
				"")).Cut(w))
		}
	}
}

// stepRows lists the steps of the check with their states.
func (s checkPage) stepRows(w int) (p term.Page) {
	steps, at := s.terms.Command.StepsOf(), -1
	switch begun, which := s.output.begun(); {
	case s.result != nil && len(s.result.Steps) > 0:
		steps = s.result.Steps
	case s.running() && begun != nil:
		steps, at = begun, which
	}
	for i, step := range steps {
		l, line := term.Text(term.Plain, "    "), firstWords(step.Line, w-30)
		switch {
		case i == at:
			l = l.Add(term.Bright, "▶ ").Bold(term.Bright, line)
		case step.Passed:
			l = l.Add(term.Joined, "✓ ").Add(term.Plain, line)
		case step.Ran:
			l = l.Add(term.Trouble, "✗ ").Bold(term.Bright, line)
		case s.result != nil:
			l = l.Add(term.Dim, "· "+line+"  not run")
		default:
			l = l.Bold(term.Bright, "$ "+line)
		}
		if step.Ran && len(steps) > 1 {
			l = l.Add(term.Dim, "   "+words.Seconds(step.Took))
		}
		switch {
		case step.Known != "":
			l = l.Add(term.Dim, "   "+step.Known)
		case step.First != "":
			l = l.Add(term.Dim, "   first: "+step.First+"; all of it follows")
		}
		p.Row(l.Cut(w))
	}
	return p
}

// firstWords returns the words of a line that fit in a width, and the number of the others.
func firstWords(l string, w int) string {
	words := strings.Fields(l)
	if len(l) <= w || len(words) < 2 {
		return l
	}
	n, length := 0, 0
	for n < len(words) && length+len(words[n])+1 <= w-5 {
		length += len(words[n]) + 1
		n++
	}
	return strings.Join(words[:max(1, n)], " ") + fmt.Sprintf(" +%d", len(words)-max(1, n))
}

// consentNote describes what the person agrees to, and what others changed of it.
func (s checkPage) consentNote(p *term.Page, w, h int) {
	for _, f := range s.terms.Filters {
		p.Say(w, term.Line{}.Mark(term.MarkWarning).Add(term.Plain,
			"The repository’s own configuration runs a filter as files are "+
				"laid out: "+f))
	}
	if !s.terms.Before || len(s.terms.Asks) == 0 {
		p.Say(w, term.Text(term.Plain,
			"It runs the joined code with your rights, in a checkout of its own outside your "+
				"project. Your working tree is not used. Dorvik asks this once, and again when others change "+
				"what it "+
				"can run."))
	}
	s.asksNote(p, []*prove.Terms{s.terms}, w, h)
}

func (s checkPage) mendedNote(p *term.Page, w int) {
	if s.job.join != nil {
		for _, m := range s.job.join.Regenerations {
			p.Say(w, term.Text(term.Plain, m.Sentence()))
		}
	}
	if s.job.join == nil {
		return
	}
	for i := range s.job.join.Steps {
		if st := &s.job.join.Steps[i]; len(st.Edited) > 0 {
			p.Say(w, term.Line{}.Mark(term.MarkJoined).Add(term.Plain, "Mended: "+words.List(st.Edited)+". ").
				Add(term.Dim, "The edit is part of “"+st.Commit.Subject()+"”."))
		}
	}
	if len(s.job.join.Mended) == 0 {
		return
	}
	paths := map[string]bool{}
	var names []string
	for _, mend := range s.job.join.Mended {
		if !paths[mend.Path] {
			paths[mend.Path] = true
			names = append(names, mend.Path)
		}
	}
	p.Say(w, term.Line{}.Mark(term.MarkJoined).Add(term.Plain, "Mended: "+words.List(names)+". ").
		Add(term.Dim, "The edit becomes part of "+s.holder+"."))
}

// small is the height in rows below which a page shows less.
const small = 24

// failedPage lists the errors, the place of the marked one, and the output.
func (s checkPage) failedPage(p term.Page, w, h int) term.Page {
	next := s.job.say("Nothing has been changed or pushed.")
	switch {
	case s.holder == "":
		next += " None of your commits can hold an edit: all of them are on their side already."
	case len(s.places) > 0 && h < small:
		next += " Mend it here and check again."
	case len(s.places) > 0:
		next += " Mend it here and check again: the edit becomes part of " + s.mendedInto() + "."
	}
	if s.unchecked != "" {
		p.Say(w, term.Line{}.Bold(term.Trouble, "▲ "+s.unchecked+" ").Add(term.Plain,
			"Press w to type another command, or to clear it."))
		p.Blank()
		return append(p, s.outputPage(w-2, h-len(p))...)
	}
	p.Say(w, term.Line{}.Bold(term.Trouble, words.If(len(s.lacks) > 0, "✗ The check does not pass. ",
		"✗ The joined code does not pass. ")).Add(term.Plain, next))
	for _, l := range s.lacks {
		p.Say(w, term.Line{}.Mark(term.MarkWarning).Add(term.Plain, "It may fail for what the checkout lacks: "+l+"."))
	}
	if len(s.lacks) > 0 {
		p.Say(w, term.Text(term.Dim, "So base, yours and theirs were not checked: that could blame the wrong person."))
	}
	p.Rows(s.whoRow(w))
	p.Rows(s.eachRows(w))
	p.Rows(s.pairRows(w, h))
	s.mendedNote(&p, w)
	if h >= small {
		s.misfitNote(&p, w, 2)
	} else if s.mending().canTake() {
		p.Rows(s.offeredRows(w))
	}
	if len(s.result.Steps) > 1 && h >= 20 {
		p.Blank()
		p.Rows(s.stepRows(w))
	}
	if len(s.places) == 0 {
		p.Row(term.Text(term.Dim, "  The output names no place in a file of this project."))
		p.Blank()
		return append(p, s.outputPage(w-2, h-len(p))...)
	}
	p.Blank()
	most := max(1, h/4)
	if h < small {
		most = 2
	}
	p.Rows(s.errorRows(w, most))
	if c := s.cause(); c != nil {
		p.Row(term.Text(term.Plain, "     "+c.Sentence()+" ").Bold(term.Bright, keys.Origin.Help().Key).Add(term.Plain,
			" goes back to that conflict.").Cut(w))
	}
	p.Row(term.Text(term.Plain, " ").Then(term.Rule(w - 2)))
	rest := h - len(p)
	if w < wide {
		return append(p, s.placePage(w, rest)...)
	}
	left := w / 2
	return append(p, term.Beside(s.placePage(left-1, rest), s.outputPage(w-left-4, rest), left, w, rest)...)
}

// offeredRows shows the first offered mends, one row each.
func (s checkPage) offeredRows(w int) (rows term.Page) {
	for _, m := range s.offered[:min(2, len(s.offered))] {
		rows.Row(term.Text(term.Plain, "  ").Bold(term.Bright, keys.Take.Help().Key).Add(term.Plain,
			fmt.Sprintf("  mends %s:%d ", m.Path,
				m.Line)).Add(term.Joined, strings.TrimSpace(strings.Join(m.After, ""))).Cut(w))
	}
	return rows
}

// mendedInto describes what an edit by hand becomes part of.
func (s checkPage) mendedInto() string {
	if s.job.join.Route == plan.Rebase {
		return "the commit of yours that it mends, or else of " + s.holder
	}
	return s.holder
}

// clickedError is a click on an error.
type clickedError int

// errorRows lists the errors around the marked one.
func (s checkPage) errorRows(w, most int) term.Page {
	p := term.Page{term.Text(term.Plain, "  ").Then(term.Heading("ERRORS")).Add(term.Dim,
		fmt.Sprintf("  %d of %d", s.at+1, len(s.places)))}
	shown := min(len(s.places), most)
	s.errors.Size(len(s.places), shown)
	s.errors.Show(s.at)
	from := s.errors.At()
	for i := from; i < from+shown; i++ {
		e := s.places[i]
		mark := "   ✗ "
		if i == s.at {
			mark = " ▶ ✗ "
		}
		where := fmt.Sprintf("%s:%d", e.Path, e.Line)
		if e.Col > 0 {
			where += fmt.Sprintf(":%d", e.Col)
		}
		l := term.Text(term.Trouble, mark).Bold(term.Bright, where).Add(term.Plain, "   "+e.Text)
		if i == s.at {
			l = l.Fit(w).On(term.OnRow)
		}
		p.Row(l.Clicks(clickedError(i)))
	}
	return p
}

func (s checkPage) placePage(w, h int) term.Page {
	e := s.places[s.at]
	p := term.Page{term.Text(term.Plain, "  ").Then(term.Heading("THE PLACE")).Add(term.Dim, "  "+e.Path), nil}
	lines := s.texts[e.Path]
	s.place.Size(len(lines), h-len(p))
	s.place.Around(e.Line - 1)
	for i := s.place.At(); i < len(lines) && len(p) < h; i++ {
		l := term.Text(term.Faint, fmt.Sprintf("%6d ", i+1)).Mark(gutter(lines[i].Origin)).Add(term.Plain,
			lines[i].Text)
		if i == e.Line-1 {
			l = l.Fit(w).On(term.OnTrouble)
		}
		p.Row(l.Cut(w))
	}
	return p
}

// outputPage returns the end of the check's output.
func (s checkPage) outputPage(w, h int) term.Page {
	p := term.Page{term.Text(term.Plain, "  ").Then(term.Heading("OUTPUT")), nil}
	if !s.making {
		p.Row(term.Text(term.Dim, "  $ "+s.line()))
	}
	last := 2
	if s.running() {
		last = 0
	}
	for _, l := range s.output.last(max(0, h-len(p)-last)) {
		p.Row(term.Text(term.Dim, "  "+strings.TrimRight(l, " ")).Cut(w))
	}
	if s.failed() {
		p.Blank()
		p.Row(term.Text(term.Trouble, fmt.Sprintf("  stopped after %s, exit %d", words.Seconds(s.result.Took),
			s.result.Exit)))
	}
	return p
}

// asksNote shows what fits of what others changed, and the key that shows the rest.
func (s checkPage) asksNote(p *term.Page, all []*prove.Terms, w, h int) {
	for _, t := range all {
		if len(t.Asks) == 0 {
			continue
		}
		p.Blank()
		p.Say(w, term.Line{}.Bold(term.Bright, words.If(t.Before,
			"You agreed to it before. Since then others changed what it "+
				"can run:", "Others changed what it can run:")))
		rows, room := asksRows(s.job, t, w-4), max(4, h-len(*p)-2)
		if len(rows) <= room {
			p.Rows(term.Indent(rows, 2))
			continue
		}
		p.Rows(term.Indent(rows[:room-1], 2))
		p.Row(term.Line{}.Add(term.Plain, "  ").Bold(term.Bright, keys.Views.Help().Key).Add(term.Plain,
			" shows all of it: ").Add(term.Dim,
			words.Count(len(t.Asks), "file", "files")+", "+words.Count(len(rows)-room+1, "more line", "more lines")))
	}
}

// checkPage draws Check. It changes only the scroll position.
type checkPage struct{ *checkScreen }

// page returns the drawing of the screen.
func (s *checkScreen) page() checkPage { return checkPage{s} }
