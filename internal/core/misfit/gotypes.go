package misfit

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"go/ast"
	"go/build/constraint"
	"go/parser"
	"go/token"
	"go/types"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
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
	pkgs    map[string]*types.Package
	parsed  map[string]*gopackage // by folder
	keys    map[string]string     // by folder, of what a package and all that it imports is
	modules map[string]string     // the path of the module that a folder's go.mod begins, by the folder; empty for none
}

// goshared is what the trees have in common: each file is parsed once, and each package typed once as long as it, and
// all that it imports, is the same.
type goshared struct {
	fset  *token.FileSet
	files map[goname]*gofile
	named map[string]*gofile        // by the name that positions have
	pkgs  map[string]*types.Package // by their keys
}

// goname is a file of Go in one of its versions.
type goname struct {
	path string
	id   object.ID
}

// gofile is a file that was parsed.
type gofile struct {
	*ast.File          // nil where it does not parse
	path      string   // in the tree
	lines     []string // of its text
	thin      bool     // functions were left out
	imports   []string
}

func newGoshared() *goshared {
	return &goshared{fset: token.NewFileSet(), files: map[goname]*gofile{}, named: map[string]*gofile{},
		pkgs: map[string]*types.Package{}}
}

func (f *finder) gosource(tree object.ID) *gosource {
	return &gosource{f: f, tree: tree, at: object.NewFinder(f.store), pkgs: map[string]*types.Package{},
		parsed: map[string]*gopackage{}, keys: map[string]string{}, modules: map[string]string{}}
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
type gopackage struct {
	files, tests, outside []*gofile
	tested                bool // the tests were read, too
}

// parse reads the files of a folder, once, with its tests where those are asked for. A file that does not parse is left
// out.
func (g *gosource) parse(dir string, tests bool) (p *gopackage, err error) {
	p = g.parsed[dir]
	if p == nil {
		p = &gopackage{}
		g.parsed[dir] = p
		err = g.parseFiles(dir, p, false)
	}
	if err == nil && tests && !p.tested {
		p.tested = true
		err = g.parseFiles(dir, p, true)
	}
	return p, err
}

// parseFiles reads those files of a folder that are tests, or those that are none.
func (g *gosource) parseFiles(dir string, p *gopackage, tests bool) error {
	tree := g.tree
	if dir != "." {
		e, err := g.at.Find(g.tree, dir)
		if err != nil || !e.IsTree() {
			return err
		}
		tree = e.ID
	}
	entries, err := g.f.store.Tree(tree)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name, ".go") || strings.HasSuffix(e.Name, "_test.go") != tests {
			continue
		}
		text, err := g.f.text(e)
		if err != nil {
			return err
		}
		if !isBuilt(e.Name, text) {
			continue
		}
		a := g.parseFile(goname{path.Join(dir, e.Name), e.ID}, text)
		if a.File == nil {
			continue
		}
		switch {
		case tests && strings.HasSuffix(a.Name.Name, "_test"):
			p.outside = append(p.outside, a)
		case tests:
			p.tests = append(p.tests, a)
		default:
			p.files = append(p.files, a)
		}
	}
	return nil
}

// parseFile parses a file, thin where no line of it is one that both sides' edits can break: whole where both changed
// it, else with the functions that a side changed.
func (g *gosource) parseFile(name goname, text string) *gofile {
	of := g.f.goes
	if known := of.files[name]; known != nil {
		return known
	}
	a := &gofile{path: name.path, lines: strings.Split(text, "\n")}
	at := name.path + "@" + name.id.String() // as positions tell it
	of.files[name], of.named[at] = a, a
	if a.parse(of.fset, at, text, g.f.of(merge.Yours, name.path), g.f.of(merge.Theirs, name.path)); a.File != nil {
		for _, s := range a.Imports {
			a.imports = append(a.imports, strings.Trim(s.Path.Value, `"`+"`"))
		}
	}
	return a
}

// parse parses the text under a name for positions, of a file that sides changed, or not.
func (a *gofile) parse(fset *token.FileSet, at, text string, y, t *file) {
	if y == nil || t == nil {
		changed := y
		if changed == nil {
			changed = t
		}
		short := thin(text, func(lo, hi int) bool { return changed != nil && changed.touches(text, lo, hi) })
		if parsed, err := parser.ParseFile(fset, at, short, parser.SkipObjectResolution); err == nil {
			a.File, a.thin = parsed, true
			return
		}
	}
	if parsed, err := parser.ParseFile(fset, at, text, parser.SkipObjectResolution); err == nil {
		a.File = parsed
	}
}

// touches reports whether the edits of a file reach into some lines of its text, from lo up to hi: of the new one, or
// of what it was before.
func (f *file) touches(text string, lo, hi int) bool {
	return slices.ContainsFunc(f.edits, func(e diff.Edit) bool {
		from, to := e.B0, e.B1
		if text != f.is {
			from, to = e.A0, e.A1
		}
		return from <= hi && to >= lo
	})
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
	read, err := i.parse(dir, false)
	if err != nil || len(read.files) == 0 {
		return nil, errors.Join(err, errNoPackage)
	}
	key, err := i.key(dir)
	if err != nil {
		return nil, err
	}
	p := i.f.goes.pkgs[key]
	if p == nil {
		p = i.typed(name, dir, read.files, true, nil, func(types.Error) {})
		i.f.goes.pkgs[key] = p
	}
	i.pkgs[dir] = p
	return p, nil
}

// key tells a package, with all that it imports, from others: packages of one key are alike. One that imports itself
// has none of its own.
func (g *gosource) key(dir string) (string, error) {
	if k, ok := g.keys[dir]; ok {
		return k, nil
	}
	g.keys[dir] = dir
	read, err := g.parse(dir, false)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	module, _ := g.module(dir)
	fmt.Fprintln(sum, dir, module)
	for _, a := range read.files {
		fmt.Fprintln(sum, g.f.goes.fset.Position(a.FileStart).Filename)
		for _, imported := range a.imports {
			if to, ok := g.folder(imported, dir); ok {
				k, err := g.key(to)
				if err != nil {
					return "", err
				}
				fmt.Fprintln(sum, imported, k)
			}
		}
	}
	g.keys[dir] = string(sum.Sum(nil))
	return g.keys[dir], nil
}

// typed checks the files of a package.
func (g *gosource) typed(name, dir string, files []*gofile, headsOnly bool, self *types.Package,
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
	var parsed []*ast.File
	for _, a := range files {
		parsed = append(parsed, a.File)
	}
	p, _ = config.Check(name, g.f.goes.fset, parsed, nil) // what is wrong was said
	return p
}

// check gives what the type checker has to say of a package with its tests.
func (g *gosource) check(ctx context.Context, dir string) (out []goError, err error) {
	read, err := g.parse(dir, true)
	if err != nil || ctx.Err() != nil {
		return nil, errors.Join(err, ctx.Err())
	}
	inside, outside := slices.Concat(read.files, read.tests), read.outside
	say := func(e types.Error) {
		at := g.f.goes.fset.Position(e.Pos)
		of := g.f.goes.named[at.Filename]
		if of == nil {
			return
		}
		lines := of.lines
		if at.Line < 1 || at.Line > len(lines) || strings.HasPrefix(e.Msg, "\t") ||
			strings.HasPrefix(e.Msg, "could not import") && !strings.Contains(e.Msg, errNoPackage.Error()) ||
			of.thin && strings.Contains(e.Msg, "imported") && strings.HasSuffix(e.Msg, "and not used") {
			return
		}
		if !goName.MatchString(lines[at.Line-1]) {
			at.Line = g.beginsAt(slices.Concat(inside, outside), e.Pos)
		}
		out = append(out, goError{of.path, at.Line, strings.TrimSpace(lines[at.Line-1]), e.Msg})
	}
	for _, a := range slices.Concat(inside, outside) {
		if !a.thin {
			out = append(out, g.unusedImports(a, dir)...)
		}
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
func (g *gosource) beginsAt(files []*gofile, pos token.Pos) int {
	fset := g.f.goes.fset
	line := fset.Position(pos).Line
	for _, f := range files {
		if f.FileStart > pos || pos > f.FileEnd {
			continue
		}
		ast.Inspect(f.File, func(n ast.Node) bool {
			if n == nil || n.Pos() > pos || pos >= n.End() {
				return false
			}
			switch n.(type) {
			case ast.Expr, ast.Stmt:
				line = fset.Position(n.Pos()).Line
			}
			return true
		})
	}
	return line
}

// unusedImports finds imports of a file from outside this tree that nothing there uses: of those the type checker says
// nothing. It goes by the last part of what is imported.
func (g *gosource) unusedImports(a *gofile, dir string) (out []goError) {
	used := map[string]bool{}
	ast.Inspect(a.File, func(n ast.Node) bool {
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
		line := g.f.goes.fset.Position(s.Pos()).Line
		out = append(out, goError{a.path, line, strings.TrimSpace(a.lines[line-1]), `"` + imported +
			`" imported and not used`})
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
	read, err := g.parse(dir, tests)
	if err != nil {
		return err
	}
	files := read.files
	if tests {
		files = slices.Concat(files, read.tests, read.outside)
	}
	for _, a := range files {
		for _, imported := range a.imports {
			if to, ok := g.folder(imported, dir); ok {
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
	short := thin(text, func(int, int) bool { return false })
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

// linesOf are those of a file that was parsed, as it is in this tree.
func (g *gosource) linesOf(p string) []string {
	read := g.parsed[path.Dir(p)]
	for _, a := range slices.Concat(read.files, read.tests, read.outside) {
		if a.path == p {
			return a.lines
		}
	}
	return nil
}
