package settle

import (
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
	n := 0
	for i, r := range f.Text.Hunks {
		parts[i].Hunk = r
		if r.Origin != merge.Contested {
			if parts[i].Of == nil {
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
