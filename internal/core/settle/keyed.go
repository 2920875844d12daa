package settle

import (
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// byKey joins a place of a structured text entry by entry.
func byKey(c *Question, at place) (Option, bool) {
	text, ok := at.entries.Join(c.Place)
	if text == c.Theirs+c.Yours && at.ascend(diff.Lines(c.Yours), diff.Lines(c.Theirs)) {
		text = c.Yours + c.Theirs
	}
	return Option{Way: Weave, Text: text, Reason: "joined by key, what either did under each"}, ok
}

// wholeEntries merges consecutive additions of both sides into one region if they are entries that can be joined by
// key. Divided at lines that they share they would be no entries.
func wholeEntries(t *merge.Text, at place) *merge.Text {
	if at.entries == nil {
		return t
	}
	out := *t
	out.Hunks = nil
	for i := 0; i < len(t.Hunks); {
		r, n := t.Hunks[i], i
		for n < len(t.Hunks) && t.Hunks[n].Base.Empty() && t.Hunks[n].Origin >= merge.FromBoth {
			r.Yours.Hi, r.Theirs.Hi = t.Hunks[n].Yours.Hi, t.Hunks[n].Theirs.Hi
			n++
		}
		r.Origin = merge.Contested
		contested := slices.ContainsFunc(t.Hunks[i:n], func(r merge.Hunk) bool { return r.Origin == merge.Contested })
		if n > i+1 && contested {
			if _, ok := byKey(&Question{Place: r}, at); ok {
				out.Hunks = append(out.Hunks, r)
				i = n
				continue
			}
		}
		n = max(n, i+1)
		out.Hunks = append(out.Hunks, t.Hunks[i:n]...)
		i = n
	}
	return &out
}
