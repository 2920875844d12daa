// Package words has the sentences about conflicts and their outcomes, for screens, commands and reports. Callers pass
// the facts and the names of people.
package words

import (
	"fmt"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
)

// thing describes an entry in plain words with its size in bytes; a negative size is unknown. target is the target of
// a symbolic link.
func thing(e object.Entry, size int, target string) string {
	switch {
	case e.Absent():
		return "nothing"
	case e.IsTree():
		return e.Mode.Describe()
	case target != "":
		return "a link to " + target
	case e.Mode == object.ModeSubmodule:
		return e.Mode.Describe() + " at the commit " + e.ID.Prefix(12)
	case size < 0:
		return e.Mode.Describe() + " (" + e.ID.Prefix(12) + ")"
	}
	return e.Mode.Describe() + " of " + bytesOf(size)
}

// bytesOf formats a number of bytes.
func bytesOf(n int) string {
	switch {
	case n == 1:
		return "1 byte"
	case n < 1000:
		return fmt.Sprintf("%d bytes", n)
	case n < 1000*1000:
		return fmt.Sprintf("%.1f kB", float64(n)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1e6)
}

// Why returns the reason for the suggested way of a conflict.
func Why(c *settle.Question) string {
	switch n, naming := c.Subject.(*merge.Naming); {
	case !c.Whole() || c.Suggested == "":
		return c.Why
	case naming && n.Also != "":
		return "its directory is there now"
	case naming:
		return "it cannot follow its directory: the new place is taken, or there is more than one"
	}
	return "keeps the file; it can be deleted later"
}

// Has describes what the base and each side have where a conflict is.
func Has(c *settle.Question) (base, yours, theirs string) {
	if n, ok := c.Subject.(*merge.Naming); ok {
		base = "nothing"
		if n.From != "" {
			base = "the name " + n.From
		}
		return base, placed(n.Yours), placed(n.Theirs)
	}
	b, y, t := c.Subject.Sides()
	if c.Kind == merge.ModeBits {
		return b.Mode.Describe(), y.Mode.Describe(), t.Mode.Describe()
	}
	return thing(b, c.Sizes.Base, c.Targets.Base), thing(y, c.Sizes.Yours, c.Targets.Yours),
		thing(t, c.Sizes.Theirs, c.Targets.Theirs)
}

func placed(p merge.Placing) string {
	if p.Name == "" {
		return "nothing"
	}
	return "the name " + p.Name
}

// Outcome describes what taking a way does, where the conflict is no place in a text.
func Outcome(c *settle.Question, w settle.Way) string {
	side := merge.Yours
	if w == settle.Theirs {
		side = merge.Theirs
	}
	switch s := c.Subject.(type) {
	case *merge.Naming:
		p := s.Of(side)
		if p.Name == "" {
			return "the file is left out"
		}
		out := "the file is " + p.Name
		for _, m := range p.Moves {
			if m.From != s.At {
				out += "; what is there becomes " + m.To
			}
		}
		return out
	case *merge.Clash:
		switch {
		case w == settle.Both:
			return "the directory; the file becomes " + s.Beside
		case side == s.File():
			return "the file; the directory is left out"
		}
		return "the directory; the file is left out"
	case *merge.Versions:
		is, size, target := s.Yours, c.Sizes.Yours, c.Targets.Yours
		switch {
		case w == settle.Both:
			return "theirs; yours becomes " + s.Beside
		case side == merge.Theirs:
			is, size, target = s.Theirs, c.Sizes.Theirs, c.Targets.Theirs
		}
		switch {
		case c.Kind == merge.ModeBits:
			return is.Mode.Describe()
		case is.Absent():
			return "the file is deleted"
		}
		return "it is " + thing(is, size, target)
	}
	return ""
}

// Credits is who did what in a conflict that is no place in a text.
type Credits struct {
	Who           string // author on the other side
	Yours, Theirs string // commits of both sides; empty if unknown
	Lines         int    // lines that one side changed in a file that the other deleted; 0 if unknown
}

// in names a commit at the end of a sentence.
func in(commit string) string { return If(commit == "", "", " in "+commit) }

// About describes in one or two sentences a conflict that is no place in a text. It is empty for a place in a text.
func About(c *settle.Question, d Credits) string {
	if !c.Whole() {
		return ""
	}
	return rowOf(c.Kind).about(c, d)
}

// kindRow is everything that the program says about a kind of conflict, where that is no place in a text. Rows are
// written without field names, so a row that lacks a field does not compile.
type kindRow struct {
	hint  string // a few words; empty for a place in a text
	about func(*settle.Question, Credits) string
}

// kinds returns the table of the kinds of conflict.
func kinds() map[merge.ConflictKind]kindRow {
	return map[merge.ConflictKind]kindRow{
		merge.Content:         {"", bothChanged},
		merge.AddAdd:          {"both added it", bothChanged},
		merge.Binary:          {"both changed it", bothChanged},
		merge.ModifyDelete:    {"changed and deleted", deleted},
		merge.RenameDelete:    {"renamed and deleted", renamedDeleted},
		merge.ModeBits:        {"to be run or not", both("disagree on whether this file is a program that can be run")},
		merge.Type:            {"different things", both("have different kinds of thing here")},
		merge.Symlink:         {"where it points", both("both pointed this link elsewhere")},
		merge.Submodule:       {"which commit", both("both moved this submodule to another commit")},
		merge.FileDirectory:   {"a file, a directory", fileDirectory},
		merge.RenameRename:    {"two names", renamed},
		merge.RenameAdd:       {"two files, one name", renamed},
		merge.DirectoryRename: {"its directory moved", directoryMoved},
	}
}

// rowOf returns the row of a kind. It panics for a kind that has none.
func rowOf(k merge.ConflictKind) kindRow {
	r, ok := kinds()[k]
	if !ok {
		panic(fmt.Sprintf("no kind of conflict %q", string(k)))
	}
	return r
}

// both returns a sentence about you and the other person.
func both(did string) func(*settle.Question, Credits) string {
	return func(_ *settle.Question, d Credits) string { return "You and " + d.Who + " " + did + "." }
}

// deleted describes a file that one side deleted and the other changed.
func deleted(c *settle.Question, d Credits) string {
	_, yours, _ := c.Subject.Sides()
	changed := " changed it" + in(If(yours.Absent(), d.Theirs, d.Yours)) + "."
	if d.Lines > 0 {
		changed = " changed " + Count(d.Lines, "line", "lines") + " of it" + changed[len(" changed it"):]
	}
	return If(yours.Absent(), "You deleted this file"+in(d.Yours)+", and "+d.Who+changed,
		Sentence(d.Who+" deleted this file"+in(d.Theirs)+", and you"+changed))
}

// renamedDeleted describes a file that one side renamed and the other deleted.
func renamedDeleted(c *settle.Question, d Credits) string {
	v := c.Subject.(*merge.Versions)
	return If(v.Yours.Absent(), d.Who+" renamed "+v.From+" to this, and you deleted it.",
		"You renamed "+v.From+" to this, and "+d.Who+" deleted it.")
}

// bothChanged describes a file with a version of each side that is not joined line by line.
func bothChanged(c *settle.Question, d Credits) string {
	v := c.Subject.(*merge.Versions)
	did := "both changed this file."
	if c.Kind == merge.AddAdd {
		did = If(v.Base.Absent(), "both added a file of this name.", "have this file differently.")
	}
	why := "It is not text, so one version has to be taken whole, or both kept."
	if v.Why != "" {
		why = "It is not joined line by line: " + v.Why + ". One version has to be taken whole, or both kept."
	}
	return "You and " + d.Who + " " + did + " " + why
}

// fileDirectory describes a file and a directory of one name.
func fileDirectory(c *settle.Question, d Credits) string {
	s, ok := c.Subject.(*merge.Clash)
	if !ok {
		return renamed(c, d)
	}
	file, directory := "You have", d.Who+" has"
	if s.File() == merge.Theirs {
		file, directory = d.Who+" has", "you have"
	}
	return fmt.Sprintf("%s a file of this name, and %s a directory. One of them can have the name.", file, directory)
}

// directoryMoved describes a file that one side put into a directory that the other moved.
func directoryMoved(c *settle.Question, d Credits) string {
	n := c.Subject.(*merge.Naming)
	put, moved := "You put this file at "+n.At, d.Who+" moved that directory"
	if n.Placer == merge.Theirs {
		put, moved = d.Who+" put this file at "+n.At, "you moved that directory"
	}
	if n.Also == "" {
		return put + ", and " + moved + ". It cannot follow: the new place is taken, or there is more than one."
	}
	return put + ", and " + moved + ". Neither could know of the other. What is in the file is joined wherever " +
		"it goes."
}

// renamed describes a file with two new names, or a new name that something else has.
func renamed(c *settle.Question, d Credits) string {
	n := c.Subject.(*merge.Naming)
	if n.Also != "" {
		return "You and " + d.Who + " both renamed " + n.From +
			", to different names. What is in it is joined under the name you take."
	}
	thing := "another file of this name."
	if c.Kind == merge.FileDirectory {
		thing = "a directory of this name, or a file where its directory would be."
	}
	const kept = " Both are kept under two names. Choose which gets this one."
	if len(n.Yours.Moves) == 0 {
		return d.Who + " renamed " + n.From + " to this, and you have " + thing + kept
	}
	return "You renamed " + n.From + " to this, and " + d.Who + " has " + thing + kept
}

// LeftOut describes an entry of the account of what is left out.
func LeftOut(text, kept string, mend bool) string {
	if kept != "" {
		text = "deleted, but kept: " + kept
	} else if text == "deleted" {
		text = "deleted, but still there"
	}
	if mend {
		text += "   (changed by your mend)"
	}
	return text
}

// Remark returns a remark as a sentence, its path first.
func Remark(r merge.Remark) string {
	if r.Path == "" {
		return Sentence(r.Words)
	}
	return r.Path + ": " + r.Words + "."
}

// Hint returns a few words about a conflict that is no place in a text.
func Hint(c *settle.Question) string {
	n, ok := c.Subject.(*merge.Naming)
	return HintOf(c.Kind, ok && n.Also == "")
}

// HintOf is Hint for a kind of conflict. clash reports that two files want one name. It is empty for places in a text.
func HintOf(k merge.ConflictKind, clash bool) string {
	if clash && k == merge.RenameRename {
		return "two files, one name"
	}
	return rowOf(k).hint
}

// Given describes what a decision gives up of a side's work.
func Given(side merge.Side, what string) string {
	if side == merge.Yours {
		return "your " + what
	}
	return "their " + what
}
