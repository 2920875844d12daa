package settle

import (
	"slices"
	"strings"
	"unicode/utf8"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// extracted puts what one side changed where the other moved it to: within the place, or to lines that it added
// elsewhere in the file, such as a number that became a constant. Whether it means the same there is for a person to
// say.
func (m *mover) extracted(q *Question, at place) (Option, bool) {
	sides := at.atoms.sides()
	for i, changer := range sides {
		extractor := sides[1-i]
		if len(changer.list) != 1 {
			continue
		}
		e := changer.list[0]
		was, is := strings.Join(at.atoms.base[e.A0:e.A1], ""), strings.Join(changer.atoms[e.B0:e.B1], "")
		if !slices.ContainsFunc(at.atoms.base[e.A0:e.A1], diff.IsWord) || strings.Count(q.Base, was) != 1 ||
			strings.Contains(is, "\n") || is == "" {
			continue
		}
		o := Option{Way: Weave, Text: strings.Join(extractor.atoms, ""), doubt: "one side moved what the other changed",
			Reason: "“" + short(is) + "” is put where “" + short(was) + "” was moved to"}
		if text, ok := exchanged(o.Text, was, is); ok {
			o.Text = text
			return o, true
		}
		side := merge.Theirs
		if i == 1 {
			side = merge.Yours
		}
		if hunk, text, ok := m.addedWith(side, extractor, was, is); ok {
			m.taken[hunk] = true
			o.Moved = &Relocation{hunk, side, text}
			return o, true
		}
	}
	return Option{}, false
}

// addedWith finds the region that a side changed elsewhere to have a text, and a name that it uses in the place now.
func (m *mover) addedWith(side merge.Side, in edits, was, is string) (hunk int, text string, ok bool) {
	var names []string
	for _, e := range in.list {
		for _, w := range in.atoms[e.B0:e.B1] {
			if isName(w) && len(w) > 2 {
				names = append(names, w)
			}
		}
	}
	origin := merge.FromYours
	if side == merge.Theirs {
		origin = merge.FromTheirs
	}
	t := m.f.Text
	for i, h := range t.Hunks {
		if h.Origin != origin || m.taken[i] {
			continue
		}
		now := strings.Join(t.Lines(h), "")
		put, once := exchanged(now, was, is)
		if !once || strings.Contains(strings.Join(t.Base[h.Base.Lo:h.Base.Hi], ""), was) ||
			!slices.ContainsFunc(names, func(n string) bool { return strings.Contains(now, n) }) {
			continue
		}
		if ok {
			return 0, "", false // there are two
		}
		hunk, text, ok = i, put, true
	}
	return hunk, text, ok
}

// exchanged puts a text for another that a text has once, and not within a word.
func exchanged(text, was, is string) (string, bool) {
	if strings.Count(text, was) != 1 {
		return "", false
	}
	before, after, _ := strings.Cut(text, was)
	if before != "" && endsInWord(before) && diff.IsWord(was) || after != "" && diff.IsWord(after) && endsInWord(was) {
		return "", false
	}
	return before + is + after, true
}

func endsInWord(text string) bool {
	r, _ := utf8.DecodeLastRuneInString(text)
	return diff.IsWord(string(r))
}
