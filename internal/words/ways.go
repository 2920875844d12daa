package words

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
)

// Taking describes what taking a way does.
func Taking(c *settle.Question, o settle.Option) string {
	n, naming := c.Subject.(*merge.Naming)
	switch {
	case naming && n.Yours.Name != "" && n.Theirs.Name != "":
		return "What is in the file is kept whatever you take. Only the name is decided."
	case c.Whole() && o.Way != settle.Both:
		return "One side of this is kept as it is. What the other did is listed before the push."
	case o.Moved != nil:
		return "The lines are where they were moved to, with the edit of the other side made there."
	}
	return o.Way.Taking()
}

// Costs describes what a way leaves out or, if nothing, what it keeps against a side's will. who is the other side's
// name, or empty for "they".
func Costs(v settle.Verdict, who string) string {
	whose, of, they := who+"'s", who+"'s", who
	if who == "" {
		whose, of, they = "their", "theirs", "they"
	}
	yours, theirs := amountOf(v.LeavesOut, merge.Yours), amountOf(v.LeavesOut, merge.Theirs)
	switch {
	case yours != "" && theirs != "":
		return "leaves out your " + shortened(yours, theirs) + " and " + whose + " " + theirs
	case yours != "":
		return "leaves out " + yours + " of yours"
	case theirs != "":
		return "leaves out " + theirs + " of " + of
	}
	var kept []string
	if n := amountOf(v.Keeps, merge.Yours); n != "" {
		kept = append(kept, n+" you removed")
	}
	if n := amountOf(v.Keeps, merge.Theirs); n != "" {
		kept = append(kept, n+" "+they+" removed")
	}
	if len(kept) == 0 {
		return ""
	}
	return "keeps " + List(kept)
}

// amountOf describes how much of a side some pieces are, or returns "".
func amountOf(pieces []settle.Piece, side merge.Side) string {
	return amount(settle.Count(pieces, side))
}

// shortened drops the unit of an amount if the next has the same: "your 2 and Ilka's 3 words".
func shortened(amount, next string) string {
	n, unit, _ := strings.Cut(amount, " ")
	_, other, _ := strings.Cut(next, " ")
	if strings.TrimSuffix(unit, "s") == strings.TrimSuffix(other, "s") {
		return n
	}
	return amount
}

// amount describes whole lines and other words, or returns "".
func amount(lines, words int) string {
	var out []string
	if lines > 0 {
		out = append(out, Count(lines, "line", "lines"))
	}
	if words > 0 {
		out = append(out, Count(words, "word", "words"))
	}
	return strings.Join(out, " and ")
}
