package words

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
)

// Taking says what it means to take a way of a conflict.
func Taking(c *settle.Question, o settle.Option) string {
	n, naming := c.Subject.(*merge.Naming)
	switch {
	case naming && n.Yours.Name != "" && n.Theirs.Name != "":
		return "What is in the file is kept whatever you take. Only the name is decided."
	case o.Way == settle.Both:
		return "Both are kept, one of them under another name."
	case c.Whole():
		return "One side of this is kept as it is. What the other did is listed before the push."
	case o.Moved != nil:
		return "The lines are where they were moved to, with the edit of the other side made there."
	}
	switch o.Way {
	case settle.AsBefore:
		return "Settles it as the very same conflict was settled before."
	case settle.Anew:
		return "The program that makes this file makes it again from the joined files, before the check. You are " +
			"asked first."
	case settle.Sorted:
		return "Puts what both added in the order of the lines around."
	case settle.Weave:
		return "Weave keeps every word either side added and drops every word either removed."
	case settle.Yours:
		return "Takes your text. What they changed here is left out, and listed before the push."
	case settle.Theirs:
		return "Takes their text. What you changed here is left out, and listed before the push."
	case settle.Base:
		return "Takes the text both of you started from; neither edit is kept."
	}
	return "Keeps both texts whole, one after the other. Read how they follow each other first."
}

// Costs tells what a way leaves out and what it keeps against a side's will; whose is the
// other side in the genitive, as "Ilka's".
func Costs(v settle.Verdict, whose, who string) string {
	out := count(v.LeavesOut, "leaves out ", "your #", whose+" #")
	if out == "" {
		out = count(v.Keeps, "keeps ", "# you removed", "# "+who+" removed")
	}
	return out
}

// count tells how much of each side some pieces are; # in the phrases is that.
func count(pieces []settle.Piece, verb, yours, theirs string) string {
	var parts []string
	for _, s := range []struct {
		side   merge.Side
		phrase string
	}{{merge.Yours, yours}, {merge.Theirs, theirs}} {
		if n := Amount(settle.Count(pieces, s.side)); n != "" {
			parts = append(parts, strings.Replace(s.phrase, "#", n, 1))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	if len(parts) == 2 { // "your 2 and Ilka's 3 words"
		first, unit, _ := cutLast(parts[0])
		if _, other, ok := cutLast(parts[1]); ok && !strings.Contains(first, " and ") && strings.TrimSuffix(unit,
			"s") ==
			strings.TrimSuffix(other, "s") {
			parts[0] = first
		}
	}
	return verb + List(parts)
}

// cutLast cuts the last word off, where that is a unit.
func cutLast(s string) (before, last string, ok bool) {
	i := strings.LastIndexByte(s, ' ')
	if i < 0 {
		return s, "", false
	}
	last = s[i+1:]
	return s[:i], last, last == "word" || last == "words" || last == "line" || last == "lines"
}

// Amount tells whole lines, and words of others, as a person counts them; empty for none.
func Amount(lines, words int) string {
	var out []string
	if lines > 0 {
		out = append(out, Count(lines, "line", "lines"))
	}
	if words > 0 {
		out = append(out, Count(words, "word", "words"))
	}
	return strings.Join(out, " and ")
}

// Decided names what was taken in a merge that was made already, whoever made it: its sides are
// the branch it was made on, the first, and what was merged, the other.
func Decided(way settle.Way) string {
	switch way {
	case settle.Yours:
		return "the first side's"
	case settle.Theirs:
		return "the other side's"
	case settle.YoursTheirs:
		return "the first side's, then the other's"
	case settle.TheirsYours:
		return "the other side's, then the first's"
	case settle.Base:
		return "as it was before either"
	case settle.Both:
		return "both, under two names"
	case settle.Written:
		return "written by hand"
	}
	return way.Label()
}
