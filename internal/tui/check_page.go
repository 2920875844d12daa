package tui

import (
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/words"
)

func (s *checkScreen) view(w, h int) page {
	p := page{nil}
	switch {
	case !s.ready:
		return p
	case s.making:
		return s.makingPage(p, w, h)
	case s.terms == nil:
		p.say(w, line{}.bold(bright, "No check was found. ").
			add(plain, "Nothing in this project tells how it is built or tested."))
		p.say(w, line{}.add(dim, "Press ").bold(bright, keys.write.Help().Key).add(dim,
			" to type one, such as make test. Or go on without; then nothing proves that the joined code works."))
		p.blank()
		p.say(w, txt(dim, "Looked for: "+check.LookedFor+"."))
		s.misfitNote(&p, w, 4)
		return p
	case s.failed():
		return s.failedPage(p, w, h)
	case s.running():
		last := ""
		if d := s.st.LastCheck; d > 0 {
			last = " of about " + words.Seconds(d) + ", as the last run"
		}
		p.say(w, line{}.bold(bright, "Checking the joined code. ").add(dim, words.Seconds(s.now().Sub(s.started))+last))
		if s.eaching {
			p.rows(s.eachRows(w))
		} else if steps, _ := s.output.begun(); max(len(steps), len(s.terms.Command.Steps)) > 1 {
			p.rows(s.stepRows(w))
		}
	case s.passed():
		p.say(w, line{}.bold(joined, "✓ The joined code passes. ").
			add(plain, s.line()+" ended well after "+words.Seconds(s.result.Took)+"."))
		p.say(w, txt(dim, "That is the very tree that will be pushed."))
		p.rows(s.eachRows(w))
	default:
		p.say(w, line{}.bold(bright, "Does the joined code build? ").
			add(plain, "The texts join; that does not prove that they work together. This project is checked by:"))
		p.blank()
		p.rows(s.stepRows(w))
		p.row(txt(dim, "      "+words.If(s.terms.Command.Configured, "set by ", "found from ")+s.terms.Command.Source))
		p.blank()
		s.consentNote(&p, w, h)
		s.mendedNote(&p, w)
		if h-len(p) > 3 || len(s.terms.Asks) == 0 { // else its heading would stand alone
			s.misfitNote(&p, w, 4)
		}
		return p
	}
	s.mendedNote(&p, w)
	if s.output != nil {
		p.blank()
		p.rows(s.outputPage(w-2, h-len(p)))
	}
	return p
}

// makingPage tells of files that are to be made anew before the check.
func (s *checkScreen) makingPage(p page, w, h int) page {
	todo := s.join.Unmade()
	if len(todo) == 0 {
		return p
	}
	switch one := todo[0]; {
	case s.running():
		p.say(w, line{}.bold(bright, "Making "+one.Path+" anew. ").add(dim, words.Seconds(s.now().Sub(s.started))))
	case s.unmade:
		p.say(w, line{}.bold(trouble, "✗ "+one.Path+" could not be made anew. ").add(plain,
			"Nothing has been changed or pushed. Try again, or go back and take a side. Going on without leaves "+
				"yours in it where both changed it."))
	default:
		p.say(w, line{}.bold(bright, "A program makes "+one.Path+". ").add(plain,
			"All else is settled, so it can be made anew from the joined files:"))
		p.blank()
		for _, m := range todo {
			p.row(txt(plain, "    ").bold(bright, "$ "+m.Command))
			p.row(txt(dim, "      makes "+m.Path))
		}
		p.blank()
		p.say(w, txt(plain, "It runs with your rights in a checkout of its own inside the git directory, and may use "+
			"the network. Your working tree is not used, and nothing else that it changes is taken. Dorvik asks this "+
			"once in a repository, and again when others change what it can run."))
		s.asksNote(&p, s.makes, w, h)
	}
	if s.output != nil {
		p.blank()
		p.rows(s.outputPage(w-2, h-len(p)))
	}
	return p
}

// misfitNote tells what was found not to fit before anything was built.
func (s *checkScreen) misfitNote(p *page, w, most int) {
	if len(s.unfit) > 0 {
		p.blank()
		p.head("MAY NOT WORK TOGETHER", "  found in both sides’ edits, before anything is built")
		p.rows(indent(s.misfitRows(s.unfit, s.offered, w-4, most), 2))
		if s.canTake() {
			p.row(line{}.add(plain, "  ").bold(bright, keys.take.Help().Key).add(plain, "  "+words.Is(len(s.offered),
				"takes this mend", "takes these mends")).add(dim, "; "+words.Is(len(s.offered), "it becomes",
				"they become")+" part of "+s.holderNames()+words.If(len(s.mayHold) > 1, "; tab: of another commit",
				"")).cut(w))
		}
	}
}

// stepRows lists the steps of the check, each with how it stands.
func (s *checkScreen) stepRows(w int) (p page) {
	steps, at := s.terms.Command.StepsOf(), -1
	switch begun, which := s.output.begun(); {
	case s.result != nil && len(s.result.Steps) > 0:
		steps = s.result.Steps
	case s.running() && begun != nil:
		steps, at = begun, which
	}
	for i, step := range steps {
		l, line := txt(plain, "    "), firstWords(step.Line, w-30)
		switch {
		case i == at:
			l = l.add(bright, "▶ ").bold(bright, line)
		case step.Passed:
			l = l.add(joined, "✓ ").add(plain, line)
		case step.Ran:
			l = l.add(trouble, "✗ ").bold(bright, line)
		case s.result != nil:
			l = l.add(dim, "· "+line+"  not run")
		default:
			l = l.bold(bright, "$ "+line)
		}
		if step.Ran && len(steps) > 1 {
			l = l.add(dim, "   "+words.Seconds(step.Took))
		}
		switch {
		case step.Known:
			l = l.add(dim, "   passed before, on this very tree")
		case step.First != "":
			l = l.add(dim, "   first: "+step.First+"; all of it follows")
		}
		p.row(l.cut(w))
	}
	return p
}

// firstWords are those of a line that fit in a width, and how many more there are.
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

// consentNote says what is agreed to, and what others changed of it.
func (s *checkScreen) consentNote(p *page, w, h int) {
	for _, f := range s.terms.Filters {
		p.say(w, line{}.mark(markWarning).add(plain, "The repository’s own configuration runs a filter as files are "+
			"laid out: "+f))
	}
	if !s.terms.Before || len(s.terms.Asks) == 0 {
		p.say(w, txt(plain, "It runs the joined code with your rights, in a checkout of its own inside the git "+
			"directory. Your working tree is not used. Dorvik asks this once, and again when others change what it "+
			"can run."))
	}
	s.asksNote(p, []*prove.Terms{s.terms}, w, h)
}

func (s *checkScreen) mendedNote(p *page, w int) {
	if s.join != nil {
		for _, m := range s.join.Makings {
			p.say(w, txt(plain, m.Sentence()))
		}
	}
	if s.join == nil {
		return
	}
	for i := range s.join.Steps {
		if st := &s.join.Steps[i]; len(st.Edited) > 0 {
			p.say(w, line{}.mark(markJoined).add(plain, "Mended: "+words.List(st.Edited)+". ").
				add(dim, "The edit is part of “"+st.Commit.Subject()+"”."))
		}
	}
	if len(s.join.Mended) == 0 {
		return
	}
	paths := map[string]bool{}
	var names []string
	for _, mend := range s.join.Mended {
		if !paths[mend.Path] {
			paths[mend.Path] = true
			names = append(names, mend.Path)
		}
	}
	p.say(w, line{}.mark(markJoined).add(plain, "Mended: "+words.List(names)+". ").
		add(dim, "The edit becomes part of "+s.holder+"."))
}

// small is the height in rows below which a page says less.
const small = 24

// failedPage lists the errors, the place of the marked one, and the output.
func (s *checkScreen) failedPage(p page, w, h int) page {
	next := "Nothing has been changed or pushed."
	switch {
	case s.holder == "":
		next += " None of your commits is left to hold an edit: all of them are on their side already."
	case len(s.places) > 0 && h < small:
		next += " Mend it here and check again."
	case len(s.places) > 0:
		next += " Mend it here and check again: the edit becomes part of " + s.mendedInto() + "."
	}
	if s.unchecked != "" {
		p.say(w, line{}.bold(trouble, "▲ "+s.unchecked+" ").add(plain, "Press w to type another command, or to clear "+
			"it."))
		p.blank()
		return append(p, s.outputPage(w-2, h-len(p))...)
	}
	p.say(w, line{}.bold(trouble, "✗ The joined code does not pass. ").add(plain, next))
	for _, l := range s.lacks {
		p.say(w, line{}.mark(markWarning).add(plain, "It may fail for what the checkout lacks: "+l+"."))
	}
	if len(s.lacks) > 0 {
		p.say(w, txt(dim, "So it was not asked who builds: that would blame somebody on a guess."))
	}
	p.rows(s.whoRow(w))
	p.rows(s.eachRows(w))
	p.rows(s.pairRows(w, h))
	s.mendedNote(&p, w)
	if h >= small {
		s.misfitNote(&p, w, 2)
	} else if s.canTake() {
		p.rows(s.offeredRows(w))
	}
	if len(s.result.Steps) > 1 && h >= 20 {
		p.blank()
		p.rows(s.stepRows(w))
	}
	if len(s.places) == 0 {
		p.row(txt(dim, "  The output names no place in a file of this project."))
		p.blank()
		return append(p, s.outputPage(w-2, h-len(p))...)
	}
	p.blank()
	most := max(1, h/4)
	if h < small {
		most = 2
	}
	p.rows(s.errorRows(w, most))
	if c := s.cause(); c != nil {
		p.row(txt(plain, "     "+c.Sentence()+" ").bold(bright, keys.origin.Help().Key).add(plain,
			" goes back to that conflict.").cut(w))
	}
	p.row(txt(plain, " ").then(rule(w - 2)))
	rest := h - len(p)
	if w < wide {
		return append(p, s.placePage(w, rest)...)
	}
	left := w / 2
	return append(p, beside(s.placePage(left-1, rest), s.outputPage(w-left-4, rest), left, w, rest)...)
}

// offeredRows shows the first mends that can be taken, a row each.
func (s *checkScreen) offeredRows(w int) (rows page) {
	for _, m := range s.offered[:min(2, len(s.offered))] {
		rows.row(txt(plain, "  ").bold(bright, keys.take.Help().Key).add(plain, fmt.Sprintf("  mends %s:%d ", m.Path,
			m.Line)).add(joined, strings.TrimSpace(strings.Join(m.After, ""))).cut(w))
	}
	return rows
}

// mendedInto says what an edit by hand becomes part of.
func (s *checkScreen) mendedInto() string {
	if s.join.Route == plan.Rebase {
		return "the commit of yours that it mends, or else of " + s.holder
	}
	return s.holder
}

// clickedError is a click on an error.
type clickedError int

// errorRows lists the errors around the marked one.
func (s *checkScreen) errorRows(w, most int) page {
	p := page{txt(plain, "  ").then(heading("ERRORS")).add(dim, fmt.Sprintf("  %d of %d", s.at+1, len(s.places)))}
	shown := min(len(s.places), most)
	s.errors.size(len(s.places), shown)
	s.errors.show(s.at)
	from := s.errors.at()
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
		l := txt(trouble, mark).bold(bright, where).add(plain, "   "+e.Text)
		if i == s.at {
			l = l.fit(w).on(onRow)
		}
		p.row(l.clicks(clickedError(i)))
	}
	return p
}

func (s *checkScreen) placePage(w, h int) page {
	e := s.places[s.at]
	p := page{txt(plain, "  ").then(heading("THE PLACE")).add(dim, "  "+e.Path), nil}
	lines := s.texts[e.Path]
	s.place.size(len(lines), h-len(p))
	s.place.around(e.Line - 1)
	for i := s.place.at(); i < len(lines) && len(p) < h; i++ {
		l := txt(faint, fmt.Sprintf("%6d ", i+1)).mark(gutter(lines[i].Origin)).add(plain, lines[i].Text)
		if i == e.Line-1 {
			l = l.fit(w).on(onTrouble)
		}
		p.row(l.cut(w))
	}
	return p
}

// outputPage is the end of the check's output.
func (s *checkScreen) outputPage(w, h int) page {
	p := page{txt(plain, "  ").then(heading("OUTPUT")), nil}
	if !s.making {
		p.row(txt(dim, "  $ "+s.line()))
	}
	last := 2
	if s.running() {
		last = 0
	}
	for _, l := range s.output.last(max(0, h-len(p)-last)) {
		p.row(txt(dim, "  "+strings.TrimRight(l, " ")).cut(w))
	}
	if s.failed() {
		p.blank()
		p.row(txt(trouble, fmt.Sprintf("  stopped after %s, exit %d", words.Seconds(s.result.Took), s.result.Exit)))
	}
	return p
}
