package misfit

import (
	"context"
	"errors"
	"maps"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// golang finds errors of the joined Go packages that neither side has alone.
func (f *finder) golang(ctx context.Context) (out []Misfit, err error) {
	changed := &[2]map[string]bool{{}, {}}
	for i, files := range f.sides {
		for _, one := range files {
			if path.Ext(one.path) == ".go" {
				changed[i][path.Dir(one.path)] = true
			}
		}
	}
	if len(changed[0]) == 0 || len(changed[1]) == 0 {
		return nil, nil
	}
	b := &blame{finder: f, joined: f.gosource(f.trees.Joined)}
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		if b.changes[i], err = b.goChanges(ctx, side); err != nil {
			return nil, err
		}
	}
	dirs, err := b.suspects(ctx)
	if err != nil {
		return nil, err
	}
	wrong, err := b.check(ctx, b.joined, dirs, b.wants, changed)
	if err != nil || len(wrong) == 0 {
		return nil, err
	}
	again, texts := []string{}, map[string]bool{}
	for _, c := range wrong {
		again = append(again, c.inside.dir)
		c.wrongIn(texts)
	}
	same := func(_ context.Context, _ *gosource, p *gopackage, r goref) (bool, error) {
		return texts[p.files[r.file].decls[r.decl].Text], nil
	}
	known := map[goError]bool{}
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		before, err := b.check(ctx, f.gosource(f.tree(side)), again, same, nil)
		if err != nil {
			return nil, err
		}
		for _, c := range before {
			for _, e := range c.errs {
				e.line = 0
				known[e] = true
			}
		}
	}
	for _, c := range wrong {
		for _, e := range c.errs {
			at := e
			if at.line = 0; known[at] {
				continue
			}
			if m, ok := b.behind(ctx, e, c.lines(e.path)); ok {
				out = append(out, m)
			}
		}
	}
	return out, nil
}

// check checks the wanted declarations of some directories of a tree and returns the packages with errors. changed has
// the directories that each side changed: packages that do not depend on both are skipped. If it is nil, none is.
func (b *blame) check(ctx context.Context, g *gosource, dirs []string, wanted wanted, changed *[2]map[string]bool) (
	wrong []*checked, err error) {
	var list []*checked
	for _, dir := range dirs {
		c, err := g.checked(ctx, dir, wanted)
		if err = errors.Join(err, ctx.Err()); err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	for _, c := range list {
		if changed != nil && !c.meets(changed[0], changed[1]) {
			continue
		}
		if c.check(ctx); ctx.Err() != nil {
			return nil, ctx.Err()
		}
		c.errs = slices.DeleteFunc(c.errs, b.isOld)
		if len(c.errs) > 0 {
			wrong = append(wrong, c)
		}
	}
	return wrong, nil
}

// isOld reports whether an error is about a name that neither side removed: it exists without their changes, or never
// did, as names from outside this tree.
func (b *blame) isOld(e goError) bool {
	kind, name := e.code.about(e.msg)
	return kind == Removed && e.code != unusedVar && !b.changes[0].other.has(name) && !b.changes[1].other.has(name)
}

var goName = rx.New(`[A-Za-z_]\w*`)

// blame finds the two edits behind an error.
type blame struct {
	*finder
	decls   [2]map[string][2]declared // by path, for each side's changed files: declarations before and after
	changes [2]*goChanges
	joined  *gosource
}

// behind returns the misfit behind an error. ok is false if it cannot be attributed to edits of both sides.
func (b *blame) behind(ctx context.Context, e goError, lines []string) (m Misfit, ok bool) {
	kind, name := e.code.about(e.msg)
	used, ok := b.writer(e.path, strings.TrimSuffix(lines[e.line-1], "\r"))
	switch {
	case e.code == unusedImport || e.code == unusedVar:
		return b.unused(e, name)
	case e.code == brokenImport && ok:
		return b.packageGone(ctx, e, name, used)
	}
	if kind == Duplicate && !ok {
		return b.twice(e, name, lines)
	}
	if !ok {
		return m, false
	}
	names := []string{name}
	if name == "" { // the line uses something that changed
		kind, names = Signature, goName.FindAllString(used.Text, -1)
	}
	for _, name := range names {
		now, changed, what, ok := b.change(used.Side.Other(), path.Dir(e.path), name, kind)
		if ok && what == Duplicate && used.Side == merge.Theirs {
			changed, used = used, changed
		}
		if ok {
			return Misfit{Kind: what, Name: name, Now: now, Changed: changed, Used: used, Certain: true}, true
		}
	}
	if kind == Removed {
		if at := b.importGone(used.Side.Other(), e.path, name); at != nil {
			return Misfit{Kind: Import, Name: name, Changed: *at, Used: used, Certain: true}, true
		}
	}
	return m, false
}

// packageGone returns the misfit of importing a package whose directory the other side moved or deleted.
func (b *blame) packageGone(ctx context.Context, e goError, imported string, used Place) (m Misfit, ok bool) {
	side := used.Side.Other()
	dir, ok := b.joined.folder(ctx, imported, path.Dir(e.path))
	if !ok {
		return m, false
	}
	for _, one := range b.sides[index(side)] {
		if path.Dir(one.path) != dir || !one.new.Absent() {
			continue
		}
		m = Misfit{Kind: Removed, Name: imported, Changed: Place{Side: side, Path: one.path, Line: 1, Gone: true},
			Used:    used,
			Certain: true}
		to, err := b.wentTo(ctx, side, one)
		if err == nil && to != "" {
			m.Kind, m.Now = Moved, strings.TrimSuffix(imported, dir)+path.Dir(to)
		}
		return m, true
	}
	return m, false
}

// twice returns the misfit of equal lines that both sides added at one place.
func (b *blame) twice(e goError, name string, lines []string) (m Misfit, ok bool) {
	text := strings.TrimSuffix(lines[e.line-1], "\r")
	var at [2]Place
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		f := b.of(side, e.path)
		if f == nil {
			return m, false
		}
		for _, n := range f.added() {
			if strings.TrimRight(f.to[n], "\r\n") == text {
				at[i] = f.place(side, n, false)
			}
		}
	}
	return Misfit{Kind: Duplicate, Name: name, Changed: at[1], Used: at[0], Certain: true}, at[0].Line > 0 &&
		at[1].Line > 0
}

// writer finds the side that added a line of a file.
func (b *blame) writer(p, line string) (at Place, ok bool) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		f := b.of(side, p)
		if f == nil {
			continue
		}
		for _, n := range f.added() {
			if strings.TrimRight(f.to[n], "\r\n") == line {
				if at.Path != "" {
					return at, false // both sides changed it
				}
				at, ok = f.place(side, n, false), true
				break
			}
		}
	}
	return at, ok
}

// declared returns the declarations of each changed Go file of a side before and after the change, without those in
// both.
func (b *blame) declared(side merge.Side) map[string][2]declared {
	i := index(side)
	if b.decls[i] == nil {
		b.decls[i] = map[string][2]declared{}
		for _, one := range b.sides[i] {
			name := path.Base(one.path)
			if path.Ext(name) == ".go" && (isBuilt(name, one.was) || isBuilt(name, one.is)) {
				was, is := b.goes.cut(one.old.ID, one.was), b.goes.cut(one.new.ID, one.is)
				alike := alikeIn(was, is)
				b.decls[i][one.path] = [2]declared{newDeclared(goDecls(one.was, was, alike)),
					newDeclared(goDecls(one.is, is, alike))}
			}
		}
	}
	return b.decls[i]
}

// change finds what a side did to a name: removed, changed or added it.
func (b *blame) change(side merge.Side, near, name string, kind Kind) (now string, at Place, what Kind, ok bool) {
	files := b.declared(side)
	paths := slices.Sorted(maps.Keys(files))
	slices.SortStableFunc(paths, func(x, y string) int { // files of the package come before its tests
		far := func(p string) int {
			if path.Dir(p) == near {
				return 0
			}
			return 1
		}
		return far(x) - far(y)
	})
	place := func(p string, line int, gone bool) Place { return b.of(side, p).place(side, line-1, gone) }
	for _, p := range paths {
		was, is := files[p][0], files[p][1]
		for _, d := range is.list {
			if d.name != name {
				continue
			}
			old, had := was.find(d.key)
			switch {
			case !had && (kind == Duplicate || kind == Implements && d.kind == "ask"):
				return "", place(p, d.line, false), kind, true
			case had && old.head != d.head && (kind == Signature || kind == Implements):
				return "", place(p, d.line, false), kind, true
			case had && kind == Signature && d.kind == "type":
				if f, gone, other := otherField(was, is,
					name); other { // a literal without names has one value for each
					return "", place(p, f.line, gone), kind, true
				}
			}
		}
		if kind == Duplicate {
			continue
		}
		for _, d := range was.list {
			if _, stays := is.find(d.key); d.name != name || stays {
				continue
			}
			if to, line, renamed := b.renamed(side, p, d); renamed {
				return to, place(p, line, false), Renamed, true
			}
			if to, line, moved := b.moved(side, p, d); moved {
				if path.Dir(to) == path.Dir(p) {
					continue // a move within the package breaks nothing
				}
				return to, place(to, line, false), Moved, true
			}
			return "", place(p, d.line, true), Removed, true
		}
	}
	return "", at, "", false
}

// otherField returns a field of a struct that only one of two versions has.
func otherField(was, is declared, name string) (f goDecl, gone, other bool) {
	only := func(in, out declared) int {
		return slices.IndexFunc(in.list, func(d goDecl) bool {
			_, both := out.find(d.key)
			return d.kind == "field" && strings.HasPrefix(d.key, name+".") && !both
		})
	}
	if i := only(is, was); i >= 0 {
		return is.list[i], false, true
	}
	if i := only(was, is); i >= 0 {
		return was.list[i], true, true
	}
	return f, false, false
}

// renamed finds the new name of a declaration: a new declaration of the same kind, in the same type, with an equal
// form or at the same place.
func (b *blame) renamed(side merge.Side, p string, d goDecl) (now string, line int, ok bool) {
	pair := b.declared(side)[p]
	f := b.of(side, p)
	of := strings.TrimSuffix(d.key, d.name)
	var alike []goDecl
	for _, n := range pair[1].list {
		if _, had := pair[0].find(n.key); had || n.kind != d.kind || strings.TrimSuffix(n.key, n.name) != of {
			continue
		}
		e, in := f.editAt(n.line - 1)
		if in && d.line-1 >= e.A0 && d.line-1 < e.A1 && e.A1-e.A0 == e.B1-e.B0 {
			return n.name, n.line, true
		}
		if strings.ReplaceAll(n.head, n.name, "_") == strings.ReplaceAll(d.head, d.name, "_") {
			alike = append(alike, n)
		}
	}
	if len(alike) != 1 {
		return "", 0, false
	}
	return alike[0].name, alike[0].line, true
}

// moved finds the file that a declaration was moved to.
func (b *blame) moved(side merge.Side, from string, d goDecl) (to string, line int, ok bool) {
	for p, pair := range b.declared(side) {
		if n, is := pair[1].find(d.key); is && p != from {
			if _, had := pair[0].find(d.key); !had {
				return p, n.line, true
			}
		}
	}
	return "", 0, false
}

// importGone finds the line with which a side removed the import of a name from a file.
func (b *blame) importGone(side merge.Side, p, name string) *Place {
	f := b.of(side, p)
	if f == nil {
		return nil
	}
	for _, e := range f.edits {
		for i := e.A0; i < e.A1; i++ {
			if imported, ok := importLine(f.from[i]); ok && path.Base(imported) == name {
				at := f.place(side, i, true)
				return &at
			}
		}
	}
	return nil
}

var oneImport = rx.New(`^\s*(?:import\s+)?(?:\w+\s+)?"([^"]+)"\s*$`)

func importLine(l string) (imported string, ok bool) {
	if !strings.Contains(l, `"`) {
		return "", false
	}
	m := oneImport.FindStringSubmatch(strings.TrimRight(l, "\r\n"))
	if m == nil {
		return "", false
	}
	return m[1], true
}

// unused returns the misfit of an import or a variable whose uses both sides removed, each a part of them.
func (b *blame) unused(e goError, name string) (m Misfit, ok bool) {
	use := path.Base(name)
	took := func(side merge.Side) (Place, bool) {
		f := b.of(side, e.path)
		if f == nil {
			return Place{}, false
		}
		for _, ed := range f.edits {
			gone, come := mentions(f.from[ed.A0:ed.A1], use), mentions(f.to[ed.B0:ed.B1], use)
			if gone > come {
				for i := ed.A0; i < ed.A1; i++ {
					if mentions(f.from[i:i+1], use) > 0 {
						return f.place(side, i, true), true
					}
				}
			}
		}
		return Place{}, false
	}
	y, oky := took(merge.Yours)
	t, okt := took(merge.Theirs)
	if !oky || !okt {
		return m, false
	}
	kind, _ := e.code.about(e.msg)
	return Misfit{Kind: kind, Name: name, Changed: t, Used: y, Certain: true}, true
}

// mentions counts the occurrences of a name in lines.
func mentions(lines []string, name string) (n int) {
	for _, l := range lines {
		for _, w := range diff.Words(l) {
			if w == name {
				n++
			}
		}
	}
	return n
}
