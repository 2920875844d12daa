package settle

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// Part is a region of the joined text with its lines.
type Part struct {
	merge.Hunk
	Lines []string
	Of    *Question // the question that decided these lines; nil if they were not in conflict
}

// Parts returns the joined text region by region, with the option that choose returns for each question.
func (f *File) Parts(choose func(c *Question) Option) []Part {
	parts := make([]Part, len(f.Text.Hunks))
	n, whole := 0, f.wholeBy(choose)
	for i, r := range f.Text.Hunks {
		parts[i].Hunk = r
		if r.Origin != merge.Contested {
			switch {
			case whole != "":
				parts[i].Lines = f.Text.Of(r, whole.Whose())
			case parts[i].Of == nil:
				parts[i].Lines = f.Text.Lines(r)
			}
			continue
		}
		c := f.Questions[n]
		n++
		o := choose(c)
		parts[i].Lines, parts[i].Of = diff.Lines(o.Text), c
		if m := o.Moved; m != nil {
			parts[m.Hunk].Lines, parts[m.Hunk].Of = diff.Lines(m.Text), c
		}
	}
	return parts
}

// wholeBy returns the way that takes the whole file from one version, or an empty one. It is such a way only while all
// places of the text have it: one that is settled otherwise leaves the rest joined.
func (f *File) wholeBy(choose func(c *Question) Option) (way Way) {
	for _, c := range f.Questions {
		if c.Whole() {
			continue
		}
		w := choose(c).Way
		if !w.OfFile() || way != "" && w != way {
			return ""
		}
		way = w
	}
	return way
}

// offerWholly adds the ways that take the whole file from one version, where that is more than the same version of its
// places: something else joined by itself.
func (f *File) offerWholly() {
	alone := map[merge.Origin]bool{}
	for _, h := range f.Text.Hunks {
		alone[h.Origin] = true
	}
	for _, c := range f.Questions {
		if c.Whole() || strings.Contains(c.Base, merge.OneAncestor) {
			continue
		}
		if alone[merge.FromTheirs] {
			c.wholly = append(c.wholly, Option{Way: YoursFile, Text: c.Yours})
		}
		if alone[merge.FromYours] {
			c.wholly = append(c.wholly, Option{Way: TheirsFile, Text: c.Theirs})
		}
		if len(f.Text.Base) > 0 && (alone[merge.FromYours] || alone[merge.FromTheirs] || alone[merge.FromBoth]) {
			c.wholly = append(c.wholly, Option{Way: BaseFile, Text: c.Base})
		}
	}
}

// Wholly lists the ways that take the whole file from one version; none if the file is no text, or if that is no more
// than the same version of its contested places.
func (f *File) Wholly() (out []Option) {
	for _, c := range f.Questions {
		if !c.Whole() {
			return c.wholly
		}
	}
	return nil
}

// LeftOutWholly is LeftOut for a way that takes the whole file.
func (f *File) LeftOutWholly(o Option) (out, kept []Piece) {
	version := map[merge.Origin][]string{merge.FromYours: f.Text.Yours, merge.FromTheirs: f.Text.Theirs,
		merge.FromBase: f.Text.Base}[o.Way.Whose()]
	text := func(lines []string) string { return strings.Join(lines, "") }
	return leftOut(text(f.Text.Base), text(f.Text.Yours), text(f.Text.Theirs), text(version))
}

// Join returns the text of the file, with the option that choose returns for each question.
func (f *File) Join(choose func(c *Question) Option) string { return string(f.joinBytes(choose)) }

// joinBytes is Join in the encoding in which the file is stored.
func (f *File) joinBytes(choose func(c *Question) Option) []byte {
	return textOf(f.Parts(choose))
}

// textOf joins the lines of parts.
func textOf(parts []Part) []byte {
	size := 0
	for _, p := range parts {
		for _, l := range p.Lines {
			size += len(l)
		}
	}
	text := make([]byte, 0, size)
	for _, p := range parts {
		for _, l := range p.Lines {
			text = append(text, l...)
		}
	}
	return text
}
