package misfit

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// withdrawn is a name that a side no longer gives.
type withdrawn struct {
	*given
	name, now string
	by        *file
	changed   Place
	told      bool // a line says that it is taken away, whatever gave it before
	unit      bool // it is still given, in another unit
}

// withdrawnNames finds names that one side renamed or took away where they are given, and that new lines of the other
// use.
func (f *finder) withdrawnNames(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, one := range f.sides[index(side)] {
			for _, w := range f.withdrawnIn(side, one) {
				if ctx.Err() != nil {
					return nil, ctx.Err()
				}
				found, err := f.stillUsed(ctx, side.Other(), w)
				if err != nil {
					return nil, err
				}
				out = append(out, found...)
			}
		}
	}
	return out, nil
}

// withdrawnIn lists the names that a side gave in a file and gives nowhere now, as far as it changed files, and that
// new lines of the other side may use.
func (f *finder) withdrawnIn(side merge.Side, one *file) (out []withdrawn) {
	kinds := one.givens()
	if len(kinds) == 0 {
		return nil
	}
	told := f.linesUsed(side.Other(), one)
	for _, g := range kinds {
		add := func(w withdrawn) {
			if !slices.ContainsFunc(out, func(o withdrawn) bool { return o.given == g && o.name == w.name }) {
				out = append(out, w)
			}
		}
		for _, e := range one.edits {
			var lost []named
			for _, k := range told.within(e) {
				for _, name := range g.names(one.from[k]) {
					if len(f.using(side.Other(), name)) > 0 {
						lost = append(lost, named{name, k})
					}
				}
			}
			for _, l := range lost {
				w := withdrawn{given: g, name: l.name, by: one, changed: one.place(side, l.line, true)}
				if at, ok := one.otherUnitOf(g, e, l.line, l.name); ok {
					w.told, w.unit, w.changed = true, true, one.place(side, at, false)
				} else if f.givenStill(side, g, l.name) {
					continue
				} else if now, ok := one.renamedTo(g, e, l); ok {
					w.now, w.changed = now.name, one.place(side, now.line, false)
				}
				add(w)
			}
			for k := e.B0; k < e.B1 && g.takes != nil; k++ {
				if name, now := g.gone(one.to[k]); name != "" && len(f.using(side.Other(), name)) > 0 {
					add(withdrawn{given: g, name: name, now: now, by: one, changed: one.place(side, k, false),
						told: true})
				}
			}
		}
	}
	return out
}

// lineNumbers are indexes of lines, in order.
type lineNumbers []int

// within returns those of the lines that an edit removed.
func (l lineNumbers) within(e diff.Edit) lineNumbers {
	from, _ := slices.BinarySearch(l, e.A0)
	to, _ := slices.BinarySearch(l, e.A1)
	return l[from:to]
}

// linesUsed lists the removed lines of a file that have a word in common with the new lines of a side.
func (f *finder) linesUsed(side merge.Side, one *file) (out lineNumbers) {
	for _, e := range one.edits {
		for k := e.A0; k < e.A1; k++ {
			for w := range words(one.from[k]) {
				if len(w) > 1 && len(f.news[index(side)][w]) > 0 {
					out = append(out, k)
					break
				}
			}
		}
	}
	return out
}

// otherUnitOf returns the line of an edit that gives a name again, if what is remarked there tells of another unit.
func (f *file) otherUnitOf(g *given, e diff.Edit, line int, name string) (at int, ok bool) {
	was := remarkOf(f.from, line)
	for k := e.B0; k < e.B1 && was != ""; k++ {
		if strings.Contains(f.to[k], name) && slices.Contains(g.names(f.to[k]), name) && otherMeasure(was, remarkOf(
			f.to, k)) {
			return k, true
		}
	}
	return 0, false
}

// remarkOf returns the comment in a line, or else that in the line above.
func remarkOf(lines []string, at int) string {
	for i := at; i >= max(0, at-1); i-- {
		if m := remark.FindStringSubmatch(strings.TrimRight(lines[i], "\r\n")); m != nil {
			return m[1]
		}
	}
	return ""
}

// named is a name that a line gives, from 0.
type named struct {
	name string
	line int
}

// renamedTo returns the name that an edit gives instead of a lost one: the only new one, or the one at its place among
// as many lines.
func (f *file) renamedTo(g *given, e diff.Edit, lost named) (now named, ok bool) {
	fresh := f.freshNames(g, e)
	if len(fresh) == 0 || e.A1-e.A0 != e.B1-e.B0 && len(fresh) != 1 {
		return named{}, false
	}
	at := 0
	for k := e.A0; k < lost.line; k++ {
		at += len(g.names(f.from[k]))
	}
	at += slices.Index(g.names(f.from[lost.line]), lost.name)
	if at >= len(fresh) {
		return named{}, false
	}
	return fresh[at], true
}

// freshNames lists the names that the new lines of an edit give, and that the file did not have before.
func (f *file) freshNames(g *given, e diff.Edit) (out []named) {
	for k := e.B0; k < e.B1; k++ {
		for _, name := range g.names(f.to[k]) {
			if !strings.Contains(f.was, name) || !g.has(f.from, name) {
				out = append(out, named{name, k})
			}
		}
	}
	return out
}

// has reports whether lines give a name. It reads only those that contain it.
func (g *given) has(lines []string, name string) bool {
	return slices.ContainsFunc(lines, func(l string) bool {
		return strings.Contains(l, name) && slices.Contains(g.names(l), name)
	})
}

// givenStill reports whether a file that a side changed gives a name.
func (f *finder) givenStill(side merge.Side, g *given, name string) bool {
	key := stillKey{side, g, name}
	is, known := f.still[key]
	if !known {
		is = slices.ContainsFunc(f.sides[index(side)], func(one *file) bool {
			return slices.Contains(one.givens(), g) && strings.Contains(one.is, name) && g.has(one.to, name)
		})
		f.still[key] = is
	}
	return is
}

// usage matches the uses of one name.
type usage struct {
	*withdrawn
	expr *regexp.Regexp
}

func (w *withdrawn) usage() usage {
	uses := strings.ReplaceAll(w.uses, `\q`, "\"'`")
	return usage{w, regexp.MustCompile(strings.ReplaceAll(uses, "NAME", "("+regexp.QuoteMeta(w.name)+")"))}
}

// defaulted matches what follows a name that has another value if it is not set.
var defaulted = rx.New("^(?:[\"'`]?\\s*,\\s*[^)\\s]|[\"'`\\])]*\\s*(?:\\|\\||\\?\\?|\\bor\\b|\\?:)|:?-|:?=|, )")

// in reports whether a line uses the name, as a whole word, and cannot do without.
func (u usage) in(line string) bool {
	for _, m := range u.expr.FindAllStringSubmatchIndex(line, -1) {
		for k := 2; k < len(m); k += 2 {
			lo, hi := m[k], m[k+1]
			if lo < 0 || word(line[lo]) && inWord(line, lo-1, -1) || word(line[hi-1]) && inWord(line, hi, 1) {
				continue
			}
			if (u.only&fallback == 0 || !defaulted.MatchString(line[hi:])) && (u.only&owned == 0 || u.names(line)) &&
				(u.only&ofSettings == 0 || !common[u.name] || settings.MatchString(line[:lo])) {
				return true
			}
		}
	}
	return false
}

// settings matches what stands before a key whose name many other things have.
var settings = rx.New(`(?i)\b\w*(?:config|settings?|conf|cfg|options|env)\w*\b`)

// inWord reports whether what is beside a name, in a direction, belongs to the same word. A hyphen does if something
// follows it.
func inWord(line string, at, step int) bool {
	for at >= 0 && at < len(line) && line[at] == '-' {
		at += step
	}
	return at >= 0 && at < len(line) && wordly(line[at])
}

func word(b byte) bool { return wordly(b) || b == '-' }

// names reports whether a line contains the name of the file that gave the name, or of its directory.
func (u usage) names(line string) bool {
	stem := strings.TrimSuffix(path.Base(u.by.path), path.Ext(u.by.path))
	return HasWord(line, stem) || HasWord(line, path.Base(path.Dir(u.by.path)))
}

// stillUsed finds the new lines of a side that use a name that the other side withdrew.
func (f *finder) stillUsed(ctx context.Context, side merge.Side, w withdrawn) (out []Misfit, err error) {
	u := w.usage()
	err = f.standing(ctx, side, w.name, func(one *file) func(int) bool {
		if !w.usedBy(one.path) || w.told && w.givenBy(one.path) && one.path == w.by.path {
			return nil
		}
		return func(i int) bool {
			if !u.in(one.to[i]) {
				return false
			}
			lines := f.reads.code(one, true)
			return i < len(lines) && u.in(lines[i]) // it is in no comment
		}
	}, func(one *file, i int) {
		m := Misfit{Kind: Key, What: w.what, Name: w.name, Now: w.now, Changed: w.changed, Used: one.place(side, i,
			false)}
		if w.unit {
			m.Kind, m.What = Signature, inAnotherUnit
		}
		out = append(out, m)
	})
	if err != nil || len(out) == 0 || w.told {
		return out, err
	}
	for _, one := range f.sides[index(side.Other())] { // the side that withdrew the name knows whether it is used
		if one.path != w.by.path && w.usedBy(one.path) && strings.Contains(one.is, w.name) &&
			slices.ContainsFunc(one.to, u.in) {
			return nil, nil
		}
	}
	if elsewhere, err := f.givenElsewhere(ctx, w); err != nil || elsewhere {
		return nil, err
	}
	return out, nil
}

// givenElsewhere reports whether a file of the joined tree gives the name.
func (f *finder) givenElsewhere(ctx context.Context, w withdrawn) (yes bool, err error) {
	return f.anyIn(ctx, f.trees.Joined, w.givenBy, func(_, text string) bool {
		return strings.Contains(text, w.name) && w.has(diff.Lines(text), w.name)
	})
}
