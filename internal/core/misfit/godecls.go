package misfit

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
)

// goDecl is something a Go file declares: its name, with that of the type it is in, and how it is declared.
type goDecl struct {
	key  string // "Name", "Type.Method" or "Type.Field"
	name string
	line int // from 1
	head string
	kind string // func, method, type, field, ask (of an interface), value
}

// goDecls lists what a file declares at its top, but for the declarations whose texts are in both.
func goDecls(text string, c *cut, both map[string]bool) (out []goDecl) {
	fset := token.NewFileSet()
	short := c.without(both)
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

// goMembers lists the fields of a type, or what an interface asks for.
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
		if len(m.Names) == 0 { // all that another type has
			name := receiverName(m.Type)
			put(s.Name.Name+"."+name, name, m.Pos(), kind, m.Type)
		}
	}
}

// without is a text without some declarations, and without what functions do. All else stands where it stood.
func (c *cut) without(texts map[string]bool) string {
	var out strings.Builder
	out.WriteString(c.head)
	for at, i := strings.Count(c.head, "\n"), 0; i < len(c.decls); i++ {
		if d := c.decls[i]; !texts[d.Text] {
			out.WriteString(strings.Repeat("\n", d.Line-at))
			out.WriteString(bare(d.Text))
			at = d.Line + strings.Count(d.Text, "\n")
		}
	}
	return out.String()
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

// goChanges is what a side changed of what its Go files declare, by names.
type goChanges struct {
	other map[string]bool // what is gone, or declared otherwise
	fresh map[string]bool // what is new
	types map[string]bool // types that can do less, or are something else, and interfaces that ask for something else
	wider map[string]bool // structs with more fields: literals of all fields no longer fit
}

func (b *blame) goChanges(side merge.Side) *goChanges {
	out := &goChanges{map[string]bool{}, map[string]bool{}, map[string]bool{}, map[string]bool{}}
	for p, pair := range b.declared(side) {
		one := b.of(side, p)
		if one.new.Absent() || one.old.Absent() {
			out.other[path.Base(path.Dir(p))] = true // its package may be gone, or new
		}
		for _, e := range one.edits {
			for _, l := range one.from[e.A0:e.A1] {
				if imported, ok := importLine(l); ok {
					out.other[path.Base(imported)] = true
				}
			}
		}
		for i, list := range pair {
			for _, d := range list {
				if other, ok := find(pair[1-i], d.key); !ok || other.head != d.head {
					out.take(d, ok || i == 0)
				}
			}
		}
	}
	return out
}

// take notes a declaration that is not as it was; had says that there was one.
func (c *goChanges) take(d goDecl, had bool) {
	of, _, in := strings.Cut(d.key, ".")
	if had {
		c.other[d.name] = true
	} else {
		c.fresh[d.name] = true
	}
	switch {
	case d.kind == "ask" || had && (d.kind == "method" || d.kind == "type"):
		c.types[of] = true
	case in && d.kind == "field":
		c.wider[of] = true
	}
}

// farthest is how many declarations may stand between a name and the type that it has something of.
const farthest = 2

// wants reports whether a declaration has to be checked for what the sides changed.
func (b *blame) wants(g *gosource, p *gopackage, r goref) (bool, error) {
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
		if by == yours<<i { // what the side did itself
			continue
		}
		mine := b.changes[1-i]
		if u.any(func(name string) bool {
			return other.other[name] || other.types[name] || mine.fresh[name] && other.fresh[name] ||
				other.wider[name] && strings.Contains(d.Text, name+"{")
		}) {
			return true, nil
		}
		if len(other.types) > 0 {
			if far, err := g.names(p, r.file, u, other, farthest); far || err != nil {
				return far, err
			}
		}
	}
	return false, nil
}

// names reports whether something that is used in a file is declared by a type that is not what it was, up to so many steps away.
func (g *gosource) names(p *gopackage, file int, u *uses, other *goChanges, steps int) (bool, error) {
	refs, err := g.refs(p, file, u, steps == farthest)
	if err != nil {
		return false, err
	}
	for _, r := range refs {
		r.types, r.steps = other, steps
		far, known := g.named[r]
		if !known {
			g.named[r] = false // where it leads back here
			head := r.of.files[r.file].usesOf(r.decl, header)
			far = head.any(func(name string) bool { return other.types[name] })
			if !far && steps > 1 {
				if far, err = g.names(r.of, r.file, head, other, steps-1); err != nil {
					return far, err
				}
			}
			g.named[r] = far
		}
		if far {
			return true, nil
		}
	}
	return false, nil
}
