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
	"dorvik.dev/dorvik/internal/core/outline"
)

// goDecl is something a Go file declares: its name, with that of the type it is in, and how it is declared.
type goDecl struct {
	key  string // "Name", "Type.Method" or "Type.Field"
	name string
	line int // from 1
	head string
	kind string // func, method, type, field, ask (of an interface), value
}

// goDecls lists what a file declares at its top.
func goDecls(text string) (out []goDecl) {
	fset := token.NewFileSet()
	short := outline.Thin(text, func(int, int) bool { return false })
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
	}
	return fmt.Sprintf("%T", x)
}

// Type-checking a package takes long, so it is done only where an edit of one side can matter to what the other wrote:
// where a new line has the name of something that was declared otherwise, removed or added, where both changed one file
// by the same word, and where an interface, or what a type can do, is not as it was.

// goChanges is what a side changed of what its Go files declare.
type goChanges struct {
	names map[string]bool // of what is new, gone, or declared otherwise
	able  bool            // what an interface asks for, or a type can do, is not as it was
}

func (b *blame) goChanges(side merge.Side) *goChanges {
	out := &goChanges{names: map[string]bool{}}
	files := b.declared(side)
	for p, pair := range files {
		one := b.of(side, p)
		if one.new.Absent() || one.old.Absent() {
			out.names[path.Base(path.Dir(p))] = true // its package may be gone, or new
		}
		for i, list := range pair {
			for _, d := range list {
				if other, ok := find(pair[1-i], d.key); ok && other.head == d.head {
					continue
				}
				out.names[d.name] = true
				if of, _, in := strings.Cut(d.key, "."); in {
					out.names[of] = true
				}
				switch d.kind {
				case "ask", "method", "type":
					out.able = true
				}
			}
		}
	}
	return out
}

// suspects are the folders whose packages may not compile when they are joined, sorted.
func (b *blame) suspects() (out []string) {
	var changes [2]*goChanges
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		changes[i] = b.goChanges(side)
	}
	add := func(one *file) {
		if dir := path.Dir(one.path); path.Ext(one.path) == ".go" && !slices.Contains(out, dir) {
			out = append(out, dir)
		}
	}
	for i, side := range []merge.Side{merge.Yours, merge.Theirs} {
		others := changes[1-i]
		for name := range others.names {
			for _, one := range b.using(side, name) {
				add(one)
			}
		}
		for _, one := range b.sides[i] {
			if other := b.of(side.Other(), one.path); others.able || other != nil && sameWord(one, other) {
				add(one)
			}
		}
	}
	slices.Sort(out)
	return out
}

// sameWord reports whether both sides took a word away, or brought it in, or one the one and the other the other, in a
// file: an import or a variable may be missing then, used by nobody, or there twice.
func sameWord(a, b *file) bool {
	mine := a.words()
	for w, n := range b.words() {
		if n != 0 && mine[w] != 0 {
			return true
		}
	}
	return false
}

// words counts the words that the edits brought in, less those that they took away.
func (f *file) words() map[string]int {
	out := map[string]int{}
	count := func(lines []string, by int) {
		for _, l := range lines {
			for w := range words(l) {
				if w[0] > '9' { // it can be a name
					out[w] += by
				}
			}
		}
	}
	for _, e := range f.edits {
		count(f.from[e.A0:e.A1], -1)
		count(f.to[e.B0:e.B1], 1)
	}
	return out
}

// touchesDeclarations reports whether edits of a file of Go may change what it declares, and not just what its
// functions do. It goes by how gofmt lays a file out: what is declared begins at the left margin, and what closes it
// stands there.
func (f *file) touchesDeclarations() bool {
	if f.old.Absent() || f.new.Absent() {
		return true
	}
	for _, e := range f.edits {
		if !inBody(f.from, e.A0, e.A1) || !inBody(f.to, e.B0, e.B1) {
			return true
		}
	}
	return false
}

// inBody reports whether lines are within the body of one function, and leave its bounds alone. None are where the one
// before them is.
func inBody(lines []string, lo, hi int) bool {
	for i := lo; i < hi; i++ {
		if atMargin(lines[i]) {
			return false
		}
	}
	head := lo - 1
	for head >= 0 && !atMargin(lines[head]) {
		head--
	}
	if head < 0 || !strings.HasPrefix(lines[head], "func ") && !strings.HasPrefix(lines[head], ") ") {
		return false
	}
	return strings.HasSuffix(strings.TrimSpace(lines[head]), "{") // else its parameters go on below
}

// atMargin reports whether a line has something at the left margin that is no comment.
func atMargin(l string) bool {
	return len(l) > 0 && l[0] != ' ' && l[0] != '\t' && l[0] != '\n' && l[0] != '\r' && !strings.HasPrefix(l, "//")
}
