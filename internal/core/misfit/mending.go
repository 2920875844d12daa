package misfit

import (
	"context"
	"path"
	"regexp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// Mend is an edit that resolves a misfit: lines of a joined file and their replacement.
type Mend struct {
	Path   string
	Line   int      // first line, from 1, in the joined file before any mend
	Before []string // empty if lines are inserted
	After  []string
	Of     int // index of the misfit in the given list
}

// Mends returns the edits to the joined files for those misfits whose solution is certain: the new name where the old
// one is used, the new place of a file, an import that is unused or needed again, and the argument that the author of
// a changed signature passed everywhere else.
func Mends(ctx context.Context, store *object.Overlay, t Trees, list []Misfit) (out []Mend, err error) {
	f := &finder{store: store, trees: t, texts: map[object.ID]string{}, goes: newGoshared(), reads: newReading()}
	for i := range list {
		m := &list[i]
		e, err := f.at(ctx, m.Used.Path)
		if err != nil {
			return nil, err
		}
		text, err := f.text(ctx, e)
		if err != nil {
			return nil, err
		}
		lines := diff.Lines(text)
		if m.Kind == Import {
			if one, ok := m.mendImport(lines); ok {
				one.Of = i
				out = append(out, one)
			}
			continue
		}
		for n, l := range lines {
			if l != m.Used.Text || m.Used.Gone {
				continue
			}
			to, ok := l, false
			switch m.Kind {
			case Renamed:
				to, ok = replaceWord(l, m.Name, m.Now), m.Certain
			case Moved:
				to, ok = m.mendPath(l)
			case Signature:
				if to, ok, err = f.mendCall(m, l); err == nil && !ok {
					to, ok, err = f.mendUse(m, l)
				}
				if err != nil {
					return nil, err
				}
			}
			if ok && to != l {
				out = append(out, Mend{m.Used.Path, n + 1, []string{l}, []string{to}, i})
			}
		}
	}
	return out, nil
}

// Apply returns a text with the mends of its file.
func Apply(text string, mends []Mend) string {
	lines := diff.Lines(text)
	sorted := slices.Clone(mends)
	slices.SortStableFunc(sorted, func(a, b Mend) int { return b.Line - a.Line }) // last line first
	for _, m := range sorted {
		lo, hi := m.Line-1, m.Line-1+len(m.Before)
		if hi > len(lines) || !slices.Equal(lines[lo:hi], m.Before) {
			if len(m.Before) != 1 || hi > len(lines) {
				continue
			}
			// Another mend changed this line already. Weave this one's words into it.
			if to, ok := weave(m.Before[0], lines[lo], m.After[0]); ok {
				lines[lo] = to
			}
			continue
		}
		lines = slices.Replace(lines, lo, hi, m.After...)
	}
	return strings.Join(lines, "")
}

// weave applies the edit from base to other to a text that was also made from base.
func weave(base, text, other string) (string, bool) {
	return merge.Merge3(diff.Words(base), diff.Words(text), diff.Words(other)).Clean()
}

// replaceWord replaces a name wherever it is a whole word.
func replaceWord(l, name, now string) string {
	var b strings.Builder
	done := 0
	for lo := range occurrences(l, name) {
		b.WriteString(l[done:lo] + now)
		done = lo + len(name)
	}
	return b.String() + l[done:]
}

// mendPath replaces the old place of a file or package by the new one, in the same form.
func (m *Misfit) mendPath(l string) (string, bool) {
	switch ext := path.Ext(m.Used.Path); {
	case ext == ".go":
		alias := ""
		if path.Base(m.Name) != path.Base(m.Now) {
			alias = path.Base(m.Name) + " "
		}
		return strings.Replace(l, `"`+m.Name+`"`, alias+`"`+m.Now+`"`, 1), true
	case !strings.Contains(m.Name, ".") && !strings.Contains(m.Name, "/"): // it is a name, not a file
		return l, false
	case strings.Contains(l, m.Name):
		return strings.Replace(l, m.Name, m.Now, 1), true
	case ext == ".py":
		dotted := func(p string) string { return strings.ReplaceAll(strings.TrimSuffix(p, ".py"), "/", ".") }
		if strings.Contains(l, dotted(m.Name)) {
			return strings.Replace(l, dotted(m.Name), dotted(m.Now), 1), true
		}
		if from, to := path.Dir(m.Name), path.Dir(m.Now); path.Base(m.Name) == path.Base(m.Now) &&
			// from util import tides
			strings.Contains(l, "from "+dotted(from)+" import") {
			return strings.Replace(l, "from "+dotted(from)+" import", "from "+dotted(to)+" import", 1), true
		}
		if from, to := path.Base(dotted(m.Name)), path.Base(dotted(m.Now)); path.Dir(m.Name) == path.Dir(m.Now) {
			old, now := strings.TrimPrefix(path.Ext("."+from), "."), strings.TrimPrefix(path.Ext("."+to), ".")
			return strings.Replace(l, "from ."+old+" ", "from ."+now+" ", 1), true
		}
		return l, false
	}
	from := path.Dir(m.Used.Path)
	for _, t := range pathToken.FindAllString(l, -1) {
		whole := path.Join(from, t)
		bare := strings.TrimSuffix(m.Name, path.Ext(m.Name))
		if strings.HasPrefix(t, ".") && (whole == m.Name || whole == bare) {
			to := relative(from, m.Now)
			if whole == bare {
				to = strings.TrimSuffix(to, path.Ext(to))
			}
			return strings.Replace(l, t, to, 1), true
		}
	}
	return l, false
}

// relative returns a path relative to a directory, beginning with a dot.
func relative(from, to string) string {
	up := "./"
	for from != "." && !strings.HasPrefix(to, from+"/") {
		from = path.Dir(from)
		up = strings.TrimPrefix(up, "./") + "../"
	}
	if from != "." {
		to = strings.TrimPrefix(to, from+"/")
	}
	return up + to
}

// mendImport removes an unused import, or restores one that is used again.
func (m *Misfit) mendImport(lines []string) (out Mend, ok bool) {
	if m.Used.Gone {
		for i, l := range lines {
			if imported, is := importLine(l); is && imported == m.Name {
				return Mend{Path: m.Used.Path, Line: i + 1, Before: []string{l}}, true
			}
		}
		return out, false
	}
	at := -1 // insert after the last import that sorts before it, or before the first
	mine, _ := importLine(m.Changed.Text)
	for i, l := range lines {
		switch imported, is := importLine(l); {
		case is && imported < mine:
			at = i + 1
		case is && at < 0:
			at = i
		}
	}
	if at < 0 {
		return out, false
	}
	return Mend{Path: m.Used.Path, Line: at + 1, After: []string{m.Changed.Text}}, true
}

// definedAt reports whether a line defines a name.
func definedAt(one *file, line int, name string) bool {
	if path.Ext(one.path) == ".go" {
		decls := goDecls(one.is, newGoshared().cut(one.new.ID, one.is), nil)
		return slices.ContainsFunc(decls, func(d goDecl) bool { return d.name == name && d.line == line+1 })
	}
	l := languageOf(one.path)
	return l != nil && slices.ContainsFunc(l.definitions(one.to[line:line+1]),
		func(d def) bool { return d.name == name })
}

// wasDefinedAt reports whether a line of the text before defined a name.
func wasDefinedAt(one *file, line int, name string) bool {
	before := *one
	before.is, before.to = one.was, one.from
	return definedAt(&before, line, name)
}

// mendCall returns a call the argument that whoever changed the signature passed in every other call: the one that
// stands at its end, and is alike everywhere.
func (f *finder) mendCall(m *Misfit, l string) (to string, ok bool, err error) {
	if f.sides[index(m.Changed.Side)] == nil {
		if err := f.read(context.Background(), m.Changed.Side); err != nil {
			return l, false, err
		}
	}
	call := regexp.MustCompile(`\b` + regexp.QuoteMeta(m.Name) + `\(([^()]*)\)`)
	added := ""
	for _, one := range f.sides[index(m.Changed.Side)] {
		for _, e := range one.edits {
			if e.A1-e.A0 != e.B1-e.B0 {
				continue
			}
			for k := range e.A1 - e.A0 {
				was, is := call.FindStringSubmatch(one.from[e.A0+k]), call.FindStringSubmatch(one.to[e.B0+k])
				if was == nil || is == nil || definedAt(one, e.B0+k, m.Name) {
					continue
				}
				more, longer := strings.CutPrefix(is[1], was[1])
				if !longer || more == "" || added != "" && added != more {
					return l, false, nil
				}
				added = more
			}
		}
	}
	mine := call.FindStringSubmatchIndex(l)
	if added == "" || mine == nil || mine[2] == mine[3] && !strings.HasPrefix(added, ", ") {
		return l, false, nil
	}
	return l[:mine[3]] + added + l[mine[3]:], true, nil
}

// mendUse returns a use of something that is of another type now what whoever changed it put around every other use,
// such as a conversion; what that is must be alike everywhere.
func (f *finder) mendUse(m *Misfit, l string) (to string, ok bool, err error) {
	if f.sides[index(m.Changed.Side)] == nil {
		if err := f.read(context.Background(), m.Changed.Side); err != nil {
			return l, false, err
		}
	}
	use := regexp.MustCompile(`(?:\b\w+\.)*\b` + regexp.QuoteMeta(m.Name) + `\b(?:\([^()]*\))?`)
	before, after, seen := "", "", false
	for _, one := range f.sides[index(m.Changed.Side)] {
		for _, e := range one.edits {
			for k := range min(e.A1-e.A0, e.B1-e.B0) {
				was, is := one.from[e.A0+k], one.to[e.B0+k]
				at := use.FindAllStringIndex(was, -1)
				if len(at) == 0 || wasDefinedAt(one, e.A0+k, m.Name) {
					continue
				}
				pre, post, alike := around(was, is, at)
				if !alike || e.A1-e.A0 != e.B1-e.B0 || seen && (pre != before || post != after) {
					return l, false, nil
				}
				before, after, seen = pre, post, true
			}
		}
	}
	mine := use.FindAllStringIndex(l, -1)
	if !seen || before+after == "" || len(mine) != 1 {
		return l, false, nil
	}
	lo, hi := mine[0][0], mine[0][1]
	return l[:lo] + before + l[lo:hi] + after + l[hi:], true, nil
}

// around tells what was put before and after the one use in a line, if that is all that became of the line.
func around(was, is string, uses [][]int) (before, after string, ok bool) {
	if len(uses) != 1 {
		return "", "", false
	}
	lo, hi := uses[0][0], uses[0][1]
	rest, head := strings.CutPrefix(is, was[:lo])
	rest, tail := strings.CutSuffix(rest, was[hi:])
	before, after, found := strings.Cut(rest, was[lo:hi])
	return before, after, head && tail && found
}
