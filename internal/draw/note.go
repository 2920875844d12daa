package draw

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/words"
)

// Matter is a conflict that a colleague is asked about, and the intended solution.
type Matter struct {
	About *plan.Attributed
	Place string         // place in the file; empty for the whole file
	Mean  *settle.Option // the way that the note means; nil if undecided
}

// Note returns a question to a colleague in Markdown: who changed what, where, and the intended solution. p is the
// position.
func Note(p *plan.Position, list []Matter) string {
	var b strings.Builder
	m := &marked{w: &b}
	m.print("# How do our changes go together?\n\nI am joining %s with %s. Both of us changed %s.\n\n",
		code(p.Branch.Name),
		code(p.Line().Name), words.Count(len(list), "place", "places"))
	for _, a := range list {
		c := a.About.Question
		m.print("## %s\n\n", plainText(c.Path+words.If(a.Place == "", "", ", "+a.Place)))
		m.who("◐ I", a.About.Yours)
		m.who("◑ "+nameOf(a.About.Theirs), a.About.Theirs)
		m.print("\n")
		if c.Whole() {
			base, yours, theirs := words.Has(c)
			m.print("%s\n\nAt first it was %s; I have %s, %s has %s.\n\n", plainText(words.About(c,
				words.Credits{Who: nameOf(a.About.Theirs)})),
				plainText(base), plainText(yours), plainText(nameOf(a.About.Theirs)), plainText(theirs))
		} else {
			m.text("Both started from", c.Base)
			m.text("I made of it", c.Yours)
			m.text(nameOf(a.About.Theirs)+" made of it", c.Theirs)
		}
		switch {
		case a.Mean == nil:
			m.print("I have not decided. What is right here?\n\n")
		case c.Whole():
			m.print("I want to take *%s*: %s. Is that right?\n\n", plainText(a.Mean.Way.Label()),
				plainText(words.Outcome(c, a.Mean.Way)))
		default:
			m.text("I want to settle it like this ("+a.Mean.Way.Label()+")", a.Mean.Text)
			m.print("Is that right?\n\n")
		}
	}
	return strings.TrimRight(b.String(), "\n") + "\n"
}

func nameOf(n history.Node) string {
	if n.Commit == nil {
		return "somebody"
	}
	return n.Author().Name
}

// code returns a name as Markdown code.
func code(s string) string { return "`" + strings.ReplaceAll(words.OneLine(s), "`", "'") + "`" }

func (m *marked) who(who string, n history.Node) {
	if n.Commit == nil {
		return
	}
	m.print("- %s: “%s” (%s, %s)\n", plainText(who), plainText(n.Subject()), code(n.ID.Prefix(12)),
		date(n.Author().Time()))
}

// text writes the text of a place under a heading.
func (m *marked) text(what, text string) {
	if text == "" {
		m.print("%s: nothing.\n\n", plainText(what))
		return
	}
	m.print("%s:\n\n", plainText(what))
	m.fenced(text)
}

// PairNote returns a message to a colleague about two commits that do not work together, in Markdown. failed is the
// evidence.
func PairNote(p *plan.Position, pair prove.Pair, unfit []plan.Misfit, failed string) string {
	var b strings.Builder
	m := &marked{w: &b}
	m.print("# Our changes do not go together\n\nI am joining %s with %s. Each of our sides passes %s; together they "+
		"do not.\n\n",
		code(p.Branch.Name), code(p.Line().Name), code(failed))
	m.who("◐ I", pair.Yours)
	m.who("◑ "+nameOf(pair.Theirs), pair.Theirs)
	m.print("\n")
	for i := range unfit {
		u := &unfit[i]
		m.print("%s, in %s:\n\n", plainText(words.Misfit(u.Misfit, nameOf(u.ChangedIn), nameOf(u.UsedIn))),
			code(u.Used.Path))
		m.text("The line", u.Used.Text)
	}
	m.print("How do you want it?\n")
	return b.String()
}

// LockNote returns a question to the holder of locks in Markdown: which files, since when, and what is wanted of them.
// Those of the files that you changed are told.
func LockNote(locks []vcs.Lock, changed map[string]bool) string {
	var b strings.Builder
	m := &marked{w: &b}
	m.print("# May I change %s?\n\n", words.Is(len(locks), "this file", "these files"))
	m.print("You hold the %s:\n\n", words.Is(len(locks), "lock", "locks"))
	mine := 0
	for _, l := range locks {
		m.print("- %s, since %s%s\n", code(l.Path), l.Since.Format("2 Jan 2006, 15:04"), words.If(l.Why == "", "",
			": “"+plainText(l.Why)+"”"))
		if changed[l.Path] {
			mine++
		}
	}
	switch {
	case mine > 0:
		m.print("\nI changed %s, too, and cannot send that before you give the lock back. When will that be? Or do we "+
			"talk about who goes on?\n", words.Is(mine, words.Is(len(locks), "it", "one of them"), "some of them"))
	default:
		m.print("\nI need to change %s. When do you give the lock back?\n", words.Is(len(locks), "it", "them"))
	}
	return b.String()
}
