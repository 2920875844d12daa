package settle

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
)

// problem says why the joined file would not parse; empty where it does, or
// where nothing here can read its language.
func (f *File) problem(choose func(c *Question) Option) string {
	if !f.Readable() {
		return ""
	}
	return Problem(f.Path, f.Join(choose))
}

// Readable reports whether a verdict can be given: there is a reader for the
// file's language, and it finds both sides in order.
func (f *File) Readable() bool { return f.readable() }

func (f *File) findReadable() bool {
	if f.Text == nil || !HasReader(f.Path) {
		return false
	}
	for _, lines := range [][]string{f.Text.Yours, f.Text.Theirs} {
		if text := strings.Join(lines, ""); !tame(text) || Problem(f.Path, text) != "" {
			return false
		}
	}
	return true
}

// Verdict is what a way would do.
type Verdict struct {
	Parses    *bool  // nil where nothing here can read the file's language
	Problem   string // why it does not parse
	Twice     string // what it leaves there twice, where nothing says that it is wrong; empty for nothing
	LeavesOut []Piece
	Keeps     []Piece // what a side removed and the result still holds
}

// Judge tells what settling a conflict by an option would do, the other conflicts
// of the file being as choose says.
func (f *File) Judge(c *Question, o Option, choose func(c *Question) Option) Verdict {
	var v Verdict
	if c.Whole() {
		return v
	}
	if o.Way == Both { // each is as its side has it
		if f.Readable() {
			parses := true
			v.Parses = &parses
		}
		return v
	}
	if f.Readable() {
		v.Problem = f.problem(func(other *Question) Option {
			if other == c {
				return o
			}
			return choose(other)
		})
		ok := v.Problem == ""
		v.Parses = &ok
	}
	if v.Problem == "" {
		v.Twice = c.twice(o)
	}
	v.LeavesOut, v.Keeps = f.LeftOut(c, o)
	return v
}

// JudgeSuggested is Judge with the suggested ways in the other places.
func (f *File) JudgeSuggested(c *Question, o Option) Verdict { return f.Judge(c, o, f.standIn) }

// WithSuggested is the whole joined file with an option in one place, and the suggested ways in the others.
func (f *File) WithSuggested(c *Question, o Option) string {
	return f.Join(func(other *Question) Option {
		if other == c {
			return o
		}
		return f.standIn(other)
	})
}

// Sides gives the texts that an option of a conflict brings together: those of the
// place, and where it follows moved lines those of where they went, too.
func (f *File) Sides(c *Question, o Option) (yours, theirs, result string) {
	yours, theirs, result = c.Yours, c.Theirs, o.Text
	if m := o.Moved; m != nil {
		put := strings.Join(f.Text.Lines(f.Text.Hunks[m.Hunk]), "")
		if m.Side == merge.Yours {
			yours = concat(yours, put)
		} else {
			theirs = concat(theirs, put)
		}
		result = concat(result, m.Text)
	}
	return yours, theirs, result
}

// LeftOut lists what an option of a conflict does without, as the function LeftOut
// does for texts.
func (f *File) LeftOut(c *Question, o Option) (out, kept []Piece) {
	yours, theirs, result := f.Sides(c, o)
	return LeftOut(c.Base, yours, theirs, result)
}

// Where gives the line, from 1, that a piece of LeftOut begins in, and that line's
// text.
func (f *File) Where(c *Question, o Option, p Piece) (line int, text string) {
	lines, span := f.Text.Yours, func(r merge.Hunk) merge.Span { return r.Yours }
	if p.Side == merge.Theirs {
		lines, span = f.Text.Theirs, func(r merge.Hunk) merge.Span { return r.Theirs }
	}
	at := span(c.Place)
	line = at.Lo + p.Line
	if m := o.Moved; m != nil && m.Side == p.Side && line >= at.Hi {
		line = span(f.Text.Hunks[m.Hunk]).Lo + line - at.Hi
	}
	line = min(line, len(lines)-1)
	return line + 1, lines[line]
}
