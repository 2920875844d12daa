package misfit

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"go/ast"
	"go/build/constraint"
	"go/parser"
	"go/printer"
	"go/token"
	"go/types"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
)

// goError is what the type checker says of a line.
type goError struct {
	path string
	line int    // from 1
	text string // of the line, without blanks around
	msg  string
}

// gosource is the Go packages of a tree, as far as they were asked for.
type gosource struct {
	f       *finder
	tree    object.ID
	at      *object.Finder
	fset    *token.FileSet
	lines   map[string][]string // of the files that were parsed
	pkgs    map[string]*types.Package
	parsed  map[string]*gopackage // by folder
	modules map[string]string     // the path of the module that a folder's go.mod begins, by the folder; empty for none
}

func (f *finder) gosource(tree object.ID) *gosource {
	return &gosource{f: f, tree: tree, at: object.NewFinder(f.store), fset: token.NewFileSet(),
		lines: map[string][]string{}, pkgs: map[string]*types.Package{}, parsed: map[string]*gopackage{},
		modules: map[string]string{}}
}

var moduleLine = rx.New(`(?m)^module\s+"?([^\s"]+)`)

// module gives the module that a folder is in, and the folder it begins in.
func (g *gosource) module(dir string) (name, root string) {
	for root = dir; ; root = path.Dir(root) {
		name, known := g.modules[root]
		if !known {
			if e, err := g.at.Find(g.tree, path.Join(root, "go.mod")); err == nil {
				if text, err := g.f.text(e); err == nil {
					if m := moduleLine.FindStringSubmatch(text); m != nil {
						name = m[1]
					}
				}
			}
			g.modules[root] = name
		}
		if name != "" || root == "." {
			return name, root
		}
	}
}

// folder gives the folder of an imported package, where it is in this tree.
func (g *gosource) folder(imported, from string) (dir string, ok bool) {
	name, root := g.module(from)
	if rest, in := strings.CutPrefix(imported, name); name != "" && in && (rest == "" || rest[0] == '/') {
		return path.Join(root, rest), true
	}
	return "", false
}

// systems are what a file's name or its constraint may say and still be read; others are left out, as a compiler for
// one system leaves them out.
var (
	system  = map[string]bool{"linux": true, "unix": true, "amd64": true, "gc": true, "cgo": true}
	foreign = rx.New(`_(aix|android|darwin|dragonfly|freebsd|illumos|ios|js|netbsd|openbsd|plan9|solaris|` +
		`wasip1|windows|386|arm|arm64|loong64|mips\w*|ppc64\w*|riscv64|s390x|wasm)(_test)?\.go$`)
)

// isBuilt reports whether a file is part of its package on one system.
func isBuilt(name, text string) bool {
	if foreign.MatchString(name) || strings.HasPrefix(name, "_") || strings.HasPrefix(name, ".") {
		return false
	}
	for l := range strings.Lines(text) {
		switch l = strings.TrimSpace(l); {
		case constraint.IsGoBuild(l):
			x, err := constraint.Parse(l)
			return err == nil && x.Eval(func(tag string) bool { return system[tag] || strings.HasPrefix(tag, "go1.") })
		case strings.HasPrefix(l, "package "):
			return true
		}
	}
	return true
}

// gopackage is the files of a folder: those of the package, its tests, and the tests outside it.
type gopackage struct{ files, tests, outside []*ast.File }

// parse reads the files of a folder, once. A file that does not parse is left out.
func (g *gosource) parse(dir string) (p *gopackage, err error) {
	if p = g.parsed[dir]; p != nil {
		return p, nil
	}
	p = &gopackage{}
	g.parsed[dir] = p
	tree := g.tree
	if dir != "." {
		e, err := g.at.Find(g.tree, dir)
		if err != nil || !e.IsTree() {
			return p, err
		}
		tree = e.ID
	}
	entries, err := g.f.store.Tree(tree)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name, ".go") {
			continue
		}
		text, err := g.f.text(e)
		if err != nil {
			return nil, err
		}
		if !isBuilt(e.Name, text) {
			continue
		}
		name := path.Join(dir, e.Name)
		a, err := parser.ParseFile(g.fset, name, text, parser.SkipObjectResolution)
		if a == nil || err != nil {
			continue
		}
		g.lines[name] = strings.Split(text, "\n")
		switch isTest := strings.HasSuffix(e.Name, "_test.go"); {
		case isTest && strings.HasSuffix(a.Name.Name, "_test"):
			p.outside = append(p.outside, a)
		case isTest:
			p.tests = append(p.tests, a)
		default:
			p.files = append(p.files, a)
		}
	}
	return p, nil
}

// importer imports for a package in a folder. What is not in the tree is an error to the type checker, which then
// says nothing of what is used of it.
type importer struct {
	*gosource
	dir  string
	self *types.Package // what the tests outside a package import as that, tests and all
	of   string
}

// errNoPackage says that a folder of this very module is imported that is not there.
var errNoPackage = errors.New("no such package in this tree")

// Import implements types.Importer.
func (i importer) Import(name string) (*types.Package, error) {
	dir, ok := i.folder(name, i.dir)
	if !ok {
		return nil, errors.New("not in this tree")
	}
	if i.self != nil && dir == i.of {
		return i.self, nil
	}
	if p, ok := i.pkgs[dir]; ok {
		if p == nil {
			return nil, errNoPackage
		}
		return p, nil
	}
	i.pkgs[dir] = nil
	read, err := i.parse(dir)
	if err != nil || len(read.files) == 0 {
		return nil, errors.Join(err, errNoPackage)
	}
	p := i.typed(name, dir, read.files, true, nil, func(types.Error) {})
	i.pkgs[dir] = p
	return p, nil
}

// typed checks the files of a package.
func (g *gosource) typed(name, dir string, files []*ast.File, headsOnly bool, self *types.Package,
	say func(types.Error)) (p *types.Package) {
	defer func() {
		if recover() != nil { // a text that the type checker did not foresee
			p = nil
		}
	}()
	of := importer{gosource: g, dir: dir, self: self, of: dir}
	config := types.Config{Importer: of, IgnoreFuncBodies: headsOnly, FakeImportC: true, Error: func(err error) {
		var e types.Error
		if errors.As(err, &e) {
			say(e)
		}
	}}
	p, _ = config.Check(name, g.fset, files, nil) // what is wrong was said
	return p
}

// check gives what the type checker has to say of a package with its tests.
func (g *gosource) check(ctx context.Context, dir string) (out []goError, err error) {
	read, err := g.parse(dir)
	if err != nil || ctx.Err() != nil {
		return nil, errors.Join(err, ctx.Err())
	}
	inside, outside := slices.Concat(read.files, read.tests), read.outside
	say := func(e types.Error) {
		at := g.fset.Position(e.Pos)
		lines := g.lines[at.Filename]
		if at.Line < 1 || at.Line > len(lines) || strings.HasPrefix(e.Msg, "\t") ||
			strings.HasPrefix(e.Msg, "could not import") && !strings.Contains(e.Msg, errNoPackage.Error()) {
			return
		}
		if !goName.MatchString(lines[at.Line-1]) {
			at.Line = g.beginsAt(slices.Concat(inside, outside), e.Pos)
		}
		out = append(out, goError{at.Filename, at.Line, strings.TrimSpace(lines[at.Line-1]), e.Msg})
	}
	for _, a := range slices.Concat(inside, outside) {
		out = append(out, g.unusedImports(a, dir)...)
	}
	name, root := g.module(dir)
	name = path.Join(name, strings.TrimPrefix(strings.TrimPrefix(dir, root), "/"))
	var p *types.Package
	if len(inside) > 0 {
		p = g.typed(name, dir, inside, false, nil, say)
	}
	if len(outside) > 0 {
		g.typed(name+"_test", dir, outside, false, p, say)
	}
	return out, nil
}

// beginsAt returns the line, from 1, on which the expression or statement begins that ends at pos. An error about a
// literal over several lines stands at its last bracket, and its first line is the one that names what it is of.
func (g *gosource) beginsAt(files []*ast.File, pos token.Pos) int {
	line := g.fset.Position(pos).Line
	for _, f := range files {
		if f.FileStart > pos || pos > f.FileEnd {
			continue
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if n == nil || n.Pos() > pos || pos >= n.End() {
				return false
			}
			switch n.(type) {
			case ast.Expr, ast.Stmt:
				line = g.fset.Position(n.Pos()).Line
			}
			return true
		})
	}
	return line
}

// unusedImports finds imports of a file from outside this tree that nothing there uses: of those the type checker says
// nothing. It goes by the last part of what is imported.
func (g *gosource) unusedImports(a *ast.File, dir string) (out []goError) {
	used := map[string]bool{}
	ast.Inspect(a, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok {
			if x, ok := s.X.(*ast.Ident); ok {
				used[x.Name] = true
			}
		}
		return true
	})
	for _, s := range a.Imports {
		imported := strings.Trim(s.Path.Value, `"`+"`")
		name := path.Base(imported)
		if s.Name != nil {
			name = s.Name.Name
		}
		if _, here := g.folder(imported, dir); here || used[name] || name == "_" || name == "." || imported == "C" {
			continue
		}
		at := g.fset.Position(s.Pos())
		out = append(out, goError{at.Filename, at.Line, strings.TrimSpace(g.lines[at.Filename][at.Line-1]),
			`"` + imported + `" imported and not used`})
	}
	return out
}

// imports finds the folders of this tree that a package imports, with what these import, and its own; with tests, by
// its tests, too.
func (g *gosource) imports(dir string, tests bool, seen map[string]bool) error {
	if seen[dir] {
		return nil
	}
	seen[dir] = true
	read, err := g.parse(dir)
	if err != nil {
		return err
	}
	files := read.files
	if tests {
		files = slices.Concat(files, read.tests, read.outside)
	}
	for _, a := range files {
		for _, s := range a.Imports {
			if to, ok := g.folder(strings.Trim(s.Path.Value, `"`+"`"), dir); ok {
				if err := g.imports(to, false, seen); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

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
	a, err := parser.ParseFile(fset, "", text, parser.SkipObjectResolution)
	if err != nil {
		return nil
	}
	put := func(key, name string, at token.Pos, kind string, head any) {
		var b bytes.Buffer
		_ = printer.Fprint(&b, fset, head)
		out = append(out, goDecl{key, name, fset.Position(at).Line, b.String(), kind})
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
func goMembers(s *ast.TypeSpec, put func(key, name string, at token.Pos, kind string, head any)) {
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
