package merge

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
)

// Union returns the joined text with the lines of both sides in contested places, yours first.
func (t Text) Union() string {
	return t.parts(func(out *[]string, yours, theirs []string) {
		*out = append(append(*out, yours...), theirs...)
	})
}

// The lines between which a text has both versions of what two common ancestors
// disagree on. They are as long, together, as the lines git puts there: what is a
// rename depends on how much of a file is the same.
const (
	OneAncestor   = "┄┄ one common ancestor has:\n"
	OtherAncestor = "┄┄ another common ancestor has:\n"
	AncestorsEnd  = "┄┄ end.\n"
)

// Undecided returns the joined text with both versions of each contested region. Common lines stand once, except for
// up to three between two such places.
func (t Text) Undecided() string {
	whole := func(out *[]string, lines []string) {
		*out = append(*out, lines...)
		if n := len(lines); n > 0 && !strings.HasSuffix(lines[n-1], "\n") {
			*out = append(*out, "\n")
		}
	}
	return t.parts(func(out *[]string, yours, theirs []string) {
		*out = append(*out, OneAncestor)
		whole(out, yours)
		*out = append(*out, OtherAncestor)
		whole(out, theirs)
		*out = append(*out, AncestorsEnd)
	})
}

// parts returns the joined text. Contested parts are written by both: what the sides do not share in a contested
// region, with up to three lines in between.
func (t Text) parts(both func(out *[]string, yours, theirs []string)) string {
	const near = 3
	type part struct {
		contested     bool
		yours, theirs []string
	}
	var parts []part
	add := func(contested bool, yours, theirs []string) {
		if len(yours)+len(theirs) == 0 {
			return
		}
		if n := len(parts); n > 0 && !contested && !parts[n-1].contested && theirs != nil && parts[n-1].theirs != nil {
			last := &parts[n-1]
			last.yours, last.theirs = slices.Concat(last.yours, yours), slices.Concat(last.theirs, theirs)
			return
		}
		parts = append(parts, part{contested, yours, theirs})
		n := len(parts)
		// Two conflicts with few unchanged lines between them become one.
		if !contested || n < 3 || parts[n-2].contested || !parts[n-3].contested || len(parts[n-2].yours) > near {
			return
		}
		if between := parts[n-2]; between.theirs != nil {
			first := &parts[n-3]
			first.yours = slices.Concat(first.yours, between.yours, yours)
			first.theirs = slices.Concat(first.theirs, between.theirs, theirs)
			parts = parts[:n-2]
		}
	}
	for _, r := range t.Hunks {
		y, th := t.Yours[r.Yours.Lo:r.Yours.Hi], t.Theirs[r.Theirs.Lo:r.Theirs.Hi]
		switch {
		case r.Origin == FromBase, r.Origin == FromBoth && r.Base.Empty(): // the second: inside an addition of both
			add(false, y, th)
		case r.Origin != Contested:
			add(false, t.Lines(r), nil)
		case len(y) == 0 || len(th) == 0:
			add(true, y, th)
		default:
			a, b := 0, 0
			for _, e := range diff.Histogram(y, th) {
				add(false, y[a:e.A0], th[b:e.B0])
				add(true, y[e.A0:e.A1], th[e.B0:e.B1])
				a, b = e.A1, e.B1
			}
			add(false, y[a:], th[b:])
		}
	}
	var out []string
	for _, p := range parts {
		if p.contested {
			both(&out, p.yours, p.theirs)
		} else {
			out = append(out, p.yours...)
		}
	}
	return strings.Join(out, "")
}
