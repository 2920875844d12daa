package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/format"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/outline"
)

// problem returns why the joined file would not parse, or "" if it does or cannot be read here.
func (f *File) problem(choose func(c *Question) Option) string {
	if !f.Readable() {
		return ""
	}
	var changed []merge.Span
	n := 0
	parts := f.Parts(choose)
	for _, p := range parts {
		if p.Origin != merge.FromBase {
			changed = append(changed, merge.Span{Lo: n, Hi: n + len(p.Lines)})
		}
		n += len(p.Lines)
	}
	return f.problemOf(string(textOf(parts)), changed)
}

// problemOf is format.Problem for a version of the file's text that differs from both sides in the changed lines only.
// In Go it first reads only the functions of these lines.
func (f *File) problemOf(text string, changed []merge.Span) string {
	if format.Scans(f.Path) {
		return format.ProblemOfBrackets(f.Path, text)
	}
	if strings.HasSuffix(f.Path, ".go") {
		thin := outline.Thin(text, func(lo, hi int) bool {
			return slices.ContainsFunc(changed, func(s merge.Span) bool { return s.Lo < hi && s.Hi >= lo })
		})
		if format.Problem(f.Path, thin) == "" {
			return ""
		}
	}
	return format.Problem(f.Path, text)
}

// Readable reports whether a verdict is possible: there is a reader for the language, and both sides parse.
func (f *File) Readable() bool { return f.readable() }

func (f *File) findReadable() bool {
	if f.Text == nil || !format.HasReader(f.Path) && !format.Scans(f.Path) || f.wild {
		return false
	}
	var changed [2][]merge.Span
	for _, r := range f.Text.Hunks {
		if r.Origin != merge.FromBase {
			changed[0], changed[1] = append(changed[0], r.Yours), append(changed[1], r.Theirs)
		}
	}
	for i, lines := range [][]string{f.Text.Yours, f.Text.Theirs} {
		if f.problemOf(strings.Join(lines, ""), changed[i]) != "" {
			return false
		}
	}
	return true
}

// Verdict describes the consequences of an option.
type Verdict struct {
	Parses    *bool  // nil if no parser knows the file's language
	Closes    *bool  // whether brackets and quotes match, in a language of which no more is read; else nil
	Problem   string // the parser's message
	Twice     string // a line that is in the result twice, perhaps rightly; empty if none
	LeavesOut []Piece
	Keeps     []Piece // text that a side removed and the result still holds
}

// Judge returns the consequences of settling a question by an option if choose settles the other questions.
func (f *File) Judge(c *Question, o Option, choose func(c *Question) Option) Verdict {
	var v Verdict
	if c.Whole() {
		return v
	}
	if o.Way == Both { // each file is its side's version
		if f.Readable() {
			ok := true
			v.judged(f.Path, &ok)
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
		v.judged(f.Path, &ok)
	}
	if v.Problem == "" {
		v.Twice = c.twice(o)
	}
	v.LeavesOut, v.Keeps = f.LeftOut(c, o)
	return v
}

// judged records whether the result can be read.
func (v *Verdict) judged(path string, ok *bool) {
	if format.Scans(path) {
		v.Closes = ok
	} else {
		v.Parses = ok
	}
}

// JudgeSuggested is Judge with the suggested ways in the other places.
func (f *File) JudgeSuggested(c *Question, o Option) Verdict { return f.Judge(c, o, f.placeholder) }

// WithSuggested returns the joined file with an option in one place and the suggested ways in the others.
func (f *File) WithSuggested(c *Question, o Option) string {
	return f.Join(func(other *Question) Option {
		if other == c {
			return o
		}
		return f.placeholder(other)
	})
}

// Sides returns the texts that an option brings together: those of the place and, if it follows moved lines, those of
// their new place.
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

// LeftOut lists what an option leaves out and what it keeps against a side's removal.
func (f *File) LeftOut(c *Question, o Option) (out, kept []Piece) {
	yours, theirs, result := f.Sides(c, o)
	return leftOut(c.Base, yours, theirs, result)
}

// Where returns the line, from 1, in which a piece of LeftOut begins, and its text.
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
