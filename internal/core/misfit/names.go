package misfit

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
)

// loss is a name that a side's files no longer define, or define with other parameters.
type loss struct {
	lang    *language
	def     def
	path    string
	kind    Kind
	now     string
	changed Place
	was, is arity
}

// names finds removed names that new lines of the other side use, calls with a wrong number of arguments, and names
// that both sides defined.
func (f *finder) names(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, l := range f.losses(side) {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			found, err := f.usedBy(ctx, side.Other(), l)
			if err != nil {
				return nil, err
			}
			out = append(out, found...)
		}
	}
	twice, err := f.duplicates(ctx)
	return append(out, twice...), err
}

// homed is a definition and its file.
type homed struct {
	in  *file
	def def
}

// homes maps language family and name to the definitions of a side's changed files, before and after.
func (f *finder) homes(side merge.Side) (before, now map[string][]homed) {
	now, before = map[string][]homed{}, map[string][]homed{}
	put := func(in map[string][]homed, one *file, list []def) {
		for _, d := range list {
			in[one.lang.family+" "+d.name] = append(in[one.lang.family+" "+d.name], homed{one, d})
		}
	}
	for _, one := range f.sides[index(side)] {
		had, has := one.defs()
		put(now, one, has)
		put(before, one, had)
	}
	return before, now
}

// losses returns the names that a side removed or changed and that new lines of the other side contain.
func (f *finder) losses(side merge.Side) (out []loss) {
	suspect := map[*file][]string{}
	for _, one := range f.sides[index(side)] {
		for _, name := range one.touched() {
			if len(name) >= 3 && len(f.using(side.Other(), name)) > 0 {
				suspect[one] = append(suspect[one], name)
			}
		}
	}
	if len(suspect) == 0 {
		return nil
	}
	before, now := f.homes(side)
	for _, one := range f.sides[index(side)] {
		had, _ := one.defs()
		for _, d := range had {
			if !slices.Contains(suspect[one], d.name) {
				continue
			}
			key := one.lang.family + " " + d.name
			if lost, ok := f.lossOf(side, one, d, before[key], now[key]); ok {
				out = append(out, lost)
			}
		}
	}
	return out
}

// lossOf returns what happened to a definition. ok is false if it is unchanged or that is unknown.
func (f *finder) lossOf(side merge.Side, one *file, d def, before, now []homed) (at loss, ok bool) {
	l := one.lang
	at = loss{lang: l, def: d, path: one.path}
	switch {
	case len(now) == 0:
		at.kind, at.changed = Removed, one.place(side, d.line, true)
		if to, place, ok := f.renamedWith(side, one, d); ok {
			at.kind, at.now, at.changed = Renamed, to, place
		}
		if to, line := renamedTo(one, d); to != "" {
			at.kind, at.now, at.changed = Renamed, to, one.place(side, line, false)
		}
	case !slices.ContainsFunc(now, func(h homed) bool { return h.in == one }):
		if slices.ContainsFunc(one.to, func(l string) bool {
			return HasWord(l, d.name) && (importing(l) || exporting(
				l))
		}) {
			return at, false // it can still be had from here
		}
		at.kind, at.now = Moved, now[0].in.path
		at.changed = now[0].in.place(side, now[0].def.line, false)
	case l.counts && before[0].in == one && before[0].def == d: // report only the first
		was, ok := sole(l, before, func(one *file) []string { return one.from })
		is, also := sole(l, now, func(one *file) []string { return one.to })
		if !ok || !also || was == is {
			return at, false
		}
		at.kind, at.was, at.is = Signature, was, is
		at.changed = now[0].in.place(side, now[0].def.line, false)
	default:
		return at, false
	}
	return at, true
}

// sole returns the arity of all definitions of a name. ok is false if they differ.
func sole(l *language, list []homed, lines func(one *file) []string) (a arity, ok bool) {
	for i, h := range list {
		b, is := arityOf(l, lines(h.in), h.def)
		if !is || i > 0 && a != b {
			return a, false
		}
		a = b
	}
	return a, len(list) > 0
}

// renamedTo finds the new name of a definition: a new one in the file, at its line or of equal form.
func renamedTo(one *file, d def) (name string, line int) {
	before, now := one.defs()
	had := map[string]bool{}
	for _, o := range before {
		had[o.name] = true
	}
	var alike []def
	for _, n := range now {
		if had[n.name] {
			continue
		}
		same := n.alike(d)
		e, in := one.editAt(n.line)
		if in && d.line >= e.A0 && d.line < e.A1 && (same || d.line-e.A0 == n.line-e.B0 && e.A1-e.A0 == e.B1-e.B0) {
			return n.name, n.line
		}
		if same {
			alike = append(alike, n)
		}
	}
	if len(alike) == 1 {
		return alike[0].name, alike[0].line
	}
	return "", 0
}

// renamedWith finds the new name of a definition of a deleted file: an equal declaration in a new file.
func (f *finder) renamedWith(side merge.Side, gone *file, d def) (name string, at Place, ok bool) {
	if !gone.new.Absent() {
		return "", at, false
	}
	n := 0
	for _, one := range f.sides[index(side)] {
		if !one.old.Absent() || path.Ext(one.path) != path.Ext(gone.path) {
			continue
		}
		_, has := one.defs()
		for _, o := range has {
			if o.alike(d) && o.in == d.in {
				n++
				name, at = o.name, one.place(side, o.line, false)
			}
		}
	}
	return name, at, n == 1
}

// usedBy finds the new lines of a side that use a name that the other removed.
func (f *finder) usedBy(ctx context.Context, side merge.Side, l loss) (out []Misfit, err error) {
	var found []Misfit
	own := false // the other side has its own definition
	err = f.standing(ctx, side, l.def.name, func(one *file) func(int) bool {
		if one.lang == nil || one.lang.family != l.lang.family {
			return nil
		}
		own = own || definesIn(one, l.def.name)
		in, lines := f.reads.uses(one, l.def.name)
		return func(i int) bool {
			return !own && slices.Contains(in, i) && (l.kind == Moved || l.refersTo(one, lines[i])) && !l.fits(one, i)
		}
	}, func(one *file, i int) {
		found = append(found, Misfit{Kind: l.kind, Name: l.def.name, Now: l.now, Changed: l.changed,
			Used: one.place(side, i, false), Certain: l.kind == Renamed || l.kind == Signature && l.lang.counts})
	})
	if err != nil || own {
		return nil, err
	}
	if len(found) == 0 || l.kind == Signature || l.kind == Moved {
		return found, nil
	}
	for _, one := range f.sides[index(side.Other())] { // the side that removed the name knows whether it is used
		if one.lang != nil && one.lang.family == l.lang.family && strings.Contains(one.is, l.def.name) {
			if in, lines := f.reads.uses(one, l.def.name); len(in) > 0 || lines == nil {
				return nil, nil
			}
		}
	}
	if elsewhere, err := f.defined(ctx, l); err != nil || elsewhere {
		return nil, err
	}
	return found, nil
}

// fits reports whether a new line with the name agrees with its present definition.
func (l *loss) fits(one *file, line int) bool {
	switch l.kind {
	case Signature:
		return !slices.ContainsFunc(callsOf(one.to, line, l.def.name), func(c invocation) bool {
			return l.was.takes(len(c.args)) && !l.is.takes(len(c.args))
		})
	case Moved: // uses that name the old file break
		if namesFile(one.path, one.to[line], l.now) && !namesFile(one.path, one.to[line], l.path) {
			return true
		}
		stem := strings.TrimSuffix(path.Base(l.path), path.Ext(l.path))
		return !(importing(one.to[line]) && HasWord(one.to[line], stem))
	}
	return false
}

// definesIn reports whether a side's file defines a name itself, even as a variable or a parameter.
func definesIn(one *file, name string) bool {
	is := func(d def) bool { return d.name == name }
	if had, has := one.defs(); slices.ContainsFunc(has, is) && !slices.ContainsFunc(had, is) {
		return true
	}
	q := regexp.QuoteMeta(name)
	sets := regexp.MustCompile(`(?:^|[\s(,*&])` + q + `\s*(?::\s*[\w<>\[\]|.]+\s*)?=[^=>]|\b(?:for|let|const|var|` +
		`mut|val|int|auto|def|fn|func|function|double|float|long|char|bool|String|string)\s+[*&]?` + q +
		`\b|\bas\s+` + q + `\b|[(,]\s*` +
		`(?:[\w<>\[\]]+\s+)?` + q + `\s*(?:,[^()]*)?\)\s*(?:\{|=>|:)`)
	for _, i := range one.added() {
		if at := sets.FindStringIndex(one.to[i]); at != nil && !strings.HasSuffix(strings.TrimRight(one.to[i][:at[0]],
			" "), ":") {
			return true
		}
	}
	return false
}

// defined reports whether a name is defined elsewhere in the joined tree.
func (f *finder) defined(ctx context.Context, l loss) (yes bool, err error) {
	quick := regexp.MustCompile(`\b` + regexp.QuoteMeta(l.def.name) + `\b`)
	return f.anyIn(ctx, f.trees.Joined, func(p string) bool {
		lang := languageOf(p)
		return lang != nil && lang.family == l.lang.family
	}, func(p, text string) bool {
		return quick.MatchString(text) && slices.ContainsFunc(languageOf(p).definitions(diff.Lines(text)),
			func(d def) bool { return d.name == l.def.name })
	})
}

// duplicates finds what both sides defined in one file at different places.
func (f *finder) duplicates(ctx context.Context) (out []Misfit, err error) {
	for _, y := range f.sides[0] {
		t, l := f.of(merge.Theirs, y.path), y.lang
		if t == nil || l == nil || l.family == "shell" {
			continue
		}
		news := func(one *file) map[string]def {
			out := map[string]def{}
			had, has := one.defs()
			for _, d := range has {
				out[d.in+"\x00"+d.name] = d
			}
			for _, d := range had {
				delete(out, d.in+"\x00"+d.name)
			}
			return out
		}
		mine := news(y)
		for key, theirs := range news(t) {
			ours, both := mine[key]
			if !both || l.overloads && params(y.to, ours) != params(t.to, theirs) || len(ours.name) < 2 {
				continue
			}
			e, err := f.at(ctx, y.path)
			if err != nil {
				return nil, err
			}
			text, err := f.text(ctx, e)
			if err != nil {
				return nil, err
			}
			n := 0
			for _, d := range l.definitions(diff.Lines(text)) {
				if d.in+"\x00"+d.name == key {
					n++
				}
			}
			if n > 1 {
				out = append(out, Misfit{Kind: Duplicate, Name: ours.name,
					Changed: t.place(merge.Theirs, theirs.line, false),
					Used:    y.place(merge.Yours, ours.line, false), Certain: l.counts && !l.overloads})
			}
		}
	}
	return out, nil
}
