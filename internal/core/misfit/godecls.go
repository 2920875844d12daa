package misfit

import (
	"context"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/outline"
)

// goDecl is a declaration in a Go file: its name, that of its type, and its form.
type goDecl struct {
	key  string // "Name", "Type.Method" or "Type.Field"
	name string
	line int // from 1
	head string
	kind string // func, method, type, field, ask (a method of an interface), value
}

// declared is the declarations of a file.
type declared struct {
	list  []goDecl
	byKey map[string]int // index of the first declaration with a key
}

func newDeclared(list []goDecl) declared {
	out := declared{list, make(map[string]int, len(list))}
	for i, d := range list {
		if _, known := out.byKey[d.key]; !known {
			out.byKey[d.key] = i
		}
	}
	return out
}

// find returns the declaration of a key.
func (d *declared) find(key string) (goDecl, bool) {
	i, ok := d.byKey[key]
	if !ok {
		return goDecl{}, false
	}
	return d.list[i], true
}

// alikeIn lists the texts of declarations that mean the same in both versions of a file: equal ones, and functions
// that differ in their bodies only.
func alikeIn(was, is *cut) map[string]bool {
	out := map[string]bool{}
	heads := map[string][]string{} // by header: bodies of functions that one version has
	head := func(d outline.Decl) string { return strings.Join(strings.Fields(bare(d.Text)), " ") }
	for _, d := range was.decls {
		if is.texts[d.Text] {
			out[d.Text] = true
		} else if d.Token == "func" {
			heads[head(d)] = append(heads[head(d)], d.Text)
		}
	}
	for _, d := range is.decls {
		if d.Token != "func" || was.texts[d.Text] {
			continue
		}
		if texts := heads[head(d)]; len(texts) > 0 {
			out[d.Text] = true
			for _, text := range texts {
				out[text] = true
			}
		}
	}
	return out
}

// goDecls lists the top-level declarations of a file, except those whose texts are alike in both versions.
func goDecls(text string, c *cut, alike map[string]bool) (out []goDecl) {
	if !slices.ContainsFunc(c.decls, func(d outline.Decl) bool { return d.Token != "import" && !alike[d.Text] }) {
		return nil
	}
	fset := token.NewFileSet()
	short := c.only(func(i int) kept {
		if alike[c.decls[i].Text] {
			return nothing
		}
		return header
	})
	a, err := parser.ParseFile(fset, "", short, parser.SkipObjectResolution)
	if err != nil {
		short = text
		if a, err = parser.ParseFile(fset, "", text, parser.SkipObjectResolution); err != nil {
			return nil
		}
	}
	put := func(key, name string, at token.Pos, kind string, head ast.Node) {
		from, to := fset.Position(head.Pos()).Offset, fset.Position(head.End()).Offset
		said := strings.Join(strings.Fields(short[min(from, len(short)):min(to, len(short))]), " ")
		out = append(out, goDecl{key, name, fset.Position(at).Line, said, kind})
	}
	for _, d := range a.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			key, kind := d.Name.Name, "func"
			if d.Recv != nil && len(d.Recv.List) == 1 {
				key, kind = receiverName(d.Recv.List[0].Type)+"."+d.Name.Name, "method"
			}
			put(key, d.Name.Name, d.Name.Pos(), kind, d.Type)
		case *ast.GenDecl:
			for _, s := range d.Specs {
				switch s := s.(type) {
				case *ast.ValueSpec:
					for _, n := range s.Names {
						put(n.Name, n.Name, n.Pos(), "value", s)
					}
				case *ast.TypeSpec:
					put(s.Name.Name, s.Name.Name, s.Name.Pos(), "type", s.Name)
					goMembers(s, put)
				}
			}
		}
	}
	return out
}

// goMembers lists the fields of a struct or the methods of an interface.
func goMembers(s *ast.TypeSpec, put func(key, name string, at token.Pos, kind string, head ast.Node)) {
	list, kind := &ast.FieldList{}, "field"
	switch t := s.Type.(type) {
	case *ast.StructType:
		list = t.Fields
	case *ast.InterfaceType:
		list, kind = t.Methods, "ask"
	default:
		put(s.Name.Name, s.Name.Name, s.Name.Pos(), "type", s.Type)
	}
	for _, m := range list.List {
		for _, n := range m.Names {
			put(s.Name.Name+"."+n.Name, n.Name, n.Pos(), kind, m.Type)
		}
		if len(m.Names) == 0 { // an embedded type: all its fields and methods
			name := receiverName(m.Type)
			put(s.Name.Name+"."+name, name, m.Pos(), kind, m.Type)
		}
	}
}

func receiverName(x ast.Expr) string {
	switch x := x.(type) {
	case *ast.StarExpr:
		return receiverName(x.X)
	case *ast.IndexExpr:
		return receiverName(x.X)
	case *ast.IndexListExpr:
		return receiverName(x.X)
	case *ast.Ident:
		return x.Name
	case *ast.SelectorExpr:
		return x.Sel.Name
	}
	return fmt.Sprintf("%T", x)
}

// Type-checking takes long, so a declaration that one side changed is checked only where the other side's changes can
// matter to it: it has the name of something that is gone or declared otherwise, or a name that both brought in, or
// something that it names is declared by a type that is not what it was; and where both sides changed it.

// goChanges is the changed declarations of a side's Go files, by name.
type goChanges struct {
	other names // names that are gone or declared differently
	fresh names // new names
	less  names // types with fewer methods, or of another kind
	more  names // types that are new, or have new methods
	asks  names // interfaces with more methods
	wider names // structs with other fields: unkeyed literals no longer fit
}

// names is a set of names.
type names struct{ in map[string]bool }

func (n *names) has(name string) bool { return n.in[name] }

func (n *names) add(name string) {
	if n.in == nil {
		n.in = map[string]bool{}
	}
	n.in[name] = true
}

func (b *blame) goChanges(ctx context.Context, side merge.Side) (*goChanges, error) {
	out := &goChanges{}
	tree := b.gosource(b.tree(side))
	for p, pair := range b.declared(side) {
		one := b.of(side, p)
		if one.new.Absent() {
			left, err := tree.read(ctx, path.Dir(p), false, 1)
			if err != nil {
				return nil, err
			}
			if len(left) == 0 {
				out.other.add(path.Base(path.Dir(p)))
			}
		}
		for _, e := range one.edits {
			for _, l := range one.from[e.A0:e.A1] {
				if imported, ok := importLine(l); ok {
					out.other.add(path.Base(imported))
				}
			}
		}
		for i, list := range pair {
			for _, d := range list.list {
				if other, ok := pair[1-i].find(d.key); !ok || other.head != d.head {
					out.take(d, ok || i == 0)
				}
			}
		}
	}
	return out, nil
}

// take records a changed declaration. had reports whether it existed before.
func (c *goChanges) take(d goDecl, had bool) {
	of, _, _ := strings.Cut(d.key, ".")
	if had {
		c.other.add(d.name)
	} else {
		c.fresh.add(d.name)
	}
	switch {
	case d.kind == "func" || d.kind == "value":
	case had && d.kind != "field":
		c.less.add(of)
	case d.kind == "ask":
		c.asks.add(of)
	case d.kind == "field":
		c.wider.add(of)
	default:
		c.more.add(of)
	}
	if d.kind == "method" {
		c.more.add(of) // the type may implement an interface now
	}
}

// suspects lists, sorted, the directories whose packages are checked: those with a file that both sides changed, and
// those with a changed declaration that needs a check. If a type can do less, or an interface requires more, that can
// be any changed directory. It reads only changed files.
func (b *blame) suspects(ctx context.Context) ([]string, error) {
	dirs := map[string]bool{}
	anywhere := false
	for _, c := range b.changes {
		anywhere = anywhere || len(c.less.in)+len(c.asks.in) > 0
	}
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, one := range b.sides[i] {
			dir := path.Dir(one.path)
			if path.Ext(one.path) != ".go" || dirs[dir] {
				continue
			}
			suspect := anywhere || b.of(side.Other(), one.path) != nil
			if !suspect {
				var err error
				if suspect, err = b.wantsIn(ctx, one); err != nil {
					return nil, err
				}
			}
			if suspect {
				dirs[dir] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(dirs)), nil
}

// wantsIn reports whether a declaration of a changed file must be checked in the joined version.
func (b *blame) wantsIn(ctx context.Context, one *file) (bool, error) {
	e, err := b.at(ctx, one.path)
	if err != nil {
		return false, err
	}
	f, err := b.joined.file(ctx, one.path, e)
	if err != nil || f == nil {
		return false, err
	}
	p := newPackage(path.Dir(one.path), true, []*gofile{f})
	for i := range f.decls {
		if want, err := b.wants(ctx, b.joined, p, goref{0, i}); want || err != nil {
			return want, err
		}
	}
	return false, nil
}

// farthest is the number of declarations that may lie between a name and the type that it has a part of.
const farthest = 2

// wants reports whether a declaration must be checked because of the changes.
func (b *blame) wants(ctx context.Context, g *gosource, p *gopackage, r goref) (bool, error) {
	f := p.files[r.file]
	d := f.decls[r.decl]
	by := f.touched[r.decl]
	if by == yours|theirs {
		return true, nil
	}
	if by == 0 && (d.Token != "var" || !slices.Contains(d.Names, "_")) {
		return false, nil
	}
	u := f.usesOf(r.decl, whole)
	for i, other := range b.changes {
		if by == yours<<i { // the side's own change
			continue
		}
		mine := b.changes[1-i]
		if u.any(func(name string) bool {
			return other.other.has(name) || mine.fresh.has(name) && other.fresh.has(name) ||
				other.wider.has(name) && strings.Contains(d.Text, name+"{")
		}) {
			return true, nil
		}
		near, err := g.near(ctx, p, r.file, u, &other.less, farthest)
		if err == nil && !near && len(mine.more.in) > 0 { // an interface with more methods may meet a type without them
			if near, err = g.near(ctx, p, r.file, u, &other.asks, farthest); err == nil && near {
				near, err = g.near(ctx, p, r.file, u, &mine.more, farthest)
			}
		}
		if near || err != nil {
			return near, err
		}
	}
	return false, nil
}

// near reports whether code in a file names one of some types, directly or through at most so many declarations.
func (g *gosource) near(ctx context.Context, p *gopackage, file int, u *uses, types *names, steps int) (bool, error) {
	if len(types.in) == 0 {
		return false, nil
	}
	if u.any(types.has) {
		return true, nil
	}
	if steps == 0 {
		return false, nil
	}
	refs, err := g.refs(ctx, p, file, u, steps == farthest)
	if err != nil {
		return false, err
	}
	for _, r := range refs {
		r.types, r.steps = types, steps
		near, known := g.looked[r]
		if !known {
			head := r.of.files[r.file].usesOf(r.decl, header)
			if near, err = g.near(ctx, r.of, r.file, head, types, steps-1); err != nil {
				return false, err
			}
			g.looked[r] = near
		}
		if near {
			return true, nil
		}
	}
	return false, nil
}
