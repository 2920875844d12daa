package settle

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// Divide tells apart what a person wrote in a whole file, which choose chose the options of: texts has the places that
// hold something else now, and before is the file with these texts and nothing else changed. So the difference between
// before and edited is what was written outside of the places. Lines at the edge of a place count as the place's.
func (f *File) Divide(choose func(c *Question) Option, edited string) (texts map[*Question]string, before string) {
	parts := f.Parts(choose)
	var whole []string
	places := map[*Question]merge.Span{}
	for _, p := range parts {
		if p.Origin == merge.Contested {
			places[p.Of] = merge.Span{Lo: len(whole), Hi: len(whole) + len(p.Lines)}
		}
		whole = append(whole, p.Lines...)
	}
	lines := diff.Lines(edited)
	edits := diff.Histogram(whole, lines)
	texts = map[*Question]string{}
	taken := make([]bool, len(edits)) // by a place; an edit between two belongs to the first
	for _, p := range parts {
		if p.Origin != merge.Contested {
			continue
		}
		at := places[p.Of]
		var text strings.Builder
		from := at.Lo
		for i, e := range edits {
			if taken[i] || e.A1 < at.Lo || e.A0 > at.Hi || e.A0 < e.A1 && (e.A1 == at.Lo || e.A0 == at.Hi) {
				continue
			}
			taken[i] = true
			text.WriteString(strings.Join(whole[from:max(from, e.A0)], ""))
			text.WriteString(strings.Join(lines[e.B0:e.B1], ""))
			from = max(from, min(e.A1, at.Hi))
		}
		text.WriteString(strings.Join(whole[from:at.Hi], ""))
		is := text.String()
		if is != "" && !strings.HasSuffix(is, "\n") && at.Hi < len(whole) {
			is += "\n" // what follows stays a line of its own
		}
		if is != strings.Join(p.Lines, "") {
			texts[p.Of] = is
		}
	}
	return texts, f.Join(func(c *Question) Option {
		if text, ok := texts[c]; ok {
			return Option{Way: Written, Text: text}
		}
		return choose(c)
	})
}

// Places lists the questions about places of the text that texts has, in their order.
func (f *File) Places(texts map[*Question]string) (out []*Question) {
	return slices.DeleteFunc(slices.Clone(f.Questions), func(c *Question) bool { _, ok := texts[c]; return !ok })
}
