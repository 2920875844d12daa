package proposal

import (
	"cmp"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// The sentences about proposals, for the screen and the command alike.

// Wish says what is to be joined into what.
func (p *Proposal) Wish() string {
	return cmp.Or(p.From, "a fork") + " → " + p.Into.Branch()
}

// Sentence says who put what forward.
func (p *Proposal) Sentence() string {
	who := words.If(p.Own != "", "You", p.Last.Author().Name)
	return fmt.Sprintf("%s put %s forward, to be joined into %s.", who, cmp.Or(p.From, "a branch of a fork"),
		p.Into.Branch())
}

// Outcome says in a few words what joining asks.
func (f *Forecast) Outcome() string {
	switch {
	case f.Err != "":
		return "cannot be joined"
	case f.Asks > 0 && len(f.Misfits) > 0:
		return words.Count(f.Asks, "decision", "decisions") + ", " + words.Count(len(f.Misfits), "misfit", "misfits")
	case f.Asks > 0:
		return words.Count(f.Asks, "decision", "decisions")
	case len(f.Misfits) > 0:
		return "joins, " + words.Count(len(f.Misfits), "misfit", "misfits")
	}
	return "joins by itself"
}

// Checked says what the host's check says of a proposal, or is empty.
func (p *Proposal) Checked() string {
	switch p.Check {
	case hostapi.Running:
		return "Its check is running at the host."
	case hostapi.Passed:
		return "It passes the check at the host, before it is joined."
	case hostapi.Failed:
		return "It fails the check at the host."
	}
	return ""
}

// Sentences describes a forecast in full: what the proposal brings, what it asks, and what will not work together.
func (f *Forecast) Sentences(p *Proposal) []string {
	into := p.Into.Branch()
	if f.Err != "" {
		return []string{"It cannot be joined: " + strings.TrimSuffix(f.Err, ".") + "."}
	}
	text := fmt.Sprintf("It brings %s by %s", words.Count(f.Commits, "commit", "commits"), words.List(words.Some(f.By,
		3)))
	switch {
	case f.Asks > 0:
		text += fmt.Sprintf(", and asks %s in %s.", words.Count(f.Asks, "decision", "decisions"),
			words.List(words.Some(f.Clashes, 3)))
	default:
		text += " and joins into " + into + " by itself."
	}
	out := append([]string{text}, f.Misfits...)
	if f.Unsure {
		out = append(out, "Whether all of it works together could not be looked at in full.")
	}
	return out
}

// Beside says what the list leaves out, or is empty.
func (l *Listed) Beside() string {
	var parts []string
	if l.In > 0 {
		parts = append(parts, words.Count(l.In, "other is in its branch already",
			"others are in their branches already"))
	}
	if l.More > 0 {
		parts = append(parts, words.Count(l.More, "older one was not looked at", "older ones were not looked at"))
	}
	if len(l.Unknown) > 0 {
		parts = append(parts, fmt.Sprintf("%s %s for a branch that %s does not have", words.List(words.Some(l.Unknown,
			3)),
			words.Is(len(l.Unknown), "is", "are"), l.Remote))
	}
	if len(parts) == 0 {
		return ""
	}
	return words.Upper(strings.Join(parts, "; ")) + "."
}

// None explains an empty list. pattern is where proposals were sought.
func (l *Listed) None(pattern Pattern) string {
	return fmt.Sprintf("%s shows no proposals that wait, as far as its refs tell (%s). If it keeps them elsewhere, "+
		"name the pattern in dorvik.proposals.", l.Remote, pattern)
}

// SendBack returns a note to the author of a proposal: what keeps it from being joined, and with whose work it
// collides.
func SendBack(p *Proposal, f *Forecast, questions []plan.Attributed) string {
	into := p.Into.Branch()
	text := fmt.Sprintf("Proposal %s, “%s”, does not join into %s as it is.\n", p.Name, p.Title(), into)
	if f.Err != "" {
		return text + "\n" + words.Sentence(f.Err) + "\n"
	}
	for _, q := range questions {
		text += "\n- " + q.Question.Path
		if hint := words.Hint(q.Question); hint != "" {
			text += ": " + hint
		}
		if n := q.Yours; n.Commit != nil {
			text += fmt.Sprintf("\n  %s changed it in %s, “%s”", n.Author().Name, n.ID.Prefix(7), n.Subject())
		}
		if n := q.Theirs; n.Commit != nil {
			text += fmt.Sprintf("\n  you changed it in %s, “%s”", n.ID.Prefix(7), n.Subject())
		}
	}
	for _, m := range f.Misfits {
		text += "\n- " + m
	}
	return text + fmt.Sprintf(
		"\n\nBring %s into your branch, settle this there, and push: then it joins. Nobody else has to "+
			"decide it for you.\n", into)
}

// Account describes what became of an item, in a clause.
func (i *Item) Account() string {
	switch i.State {
	case LeftOut:
		return "left out: " + i.Why
	case Waiting:
		return "to go"
	}
	text := "joined"
	if i.Decided > 0 {
		text += ", " + words.Count(i.Decided, "decision", "decisions")
	}
	if n := len(i.Again); n > 0 {
		text += ", " + words.Count(n, "decision", "decisions") + " as before"
	}
	return text
}
