package misfit

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/outline"
)

// goError is an error of the type checker at a line.
type goError struct {
	path string
	line int    // from 1
	text string // text of the line, without blanks around it
	code goCode
	msg  string
}

func newGoshared() *goshared {
	return &goshared{fset: token.NewFileSet(), files: map[goVersion]*gofile{}, cuts: map[object.ID]*cut{},
		named: map[string]*gofile{}, pkgs: map[string]*types.Package{}}
}

// cut is a text divided into its declarations.
type cut struct {
	head  string
	decls []outline.Decl
	texts map[string]bool // texts of the declarations
}

// cut divides the text of a blob, with a cache.
func (g *goshared) cut(id object.ID, text string) *cut {
	c := g.cuts[id]
	if c == nil {
		c = &cut{}
		c.head, c.decls = outline.Cut(text)
		c.texts = make(map[string]bool, len(c.decls))
		for _, d := range c.decls {
			c.texts[d.Text] = true
		}
		g.cuts[id] = c
	}
	return c
}

// only returns the text with the part of each declaration that keep selects. Kept text stays on its lines.
func (c *cut) only(keep func(i int) kept) string {
	var out strings.Builder
	out.WriteString(c.head)
	at := strings.Count(c.head, "\n")
	for i, d := range c.decls {
		much, text := keep(i), d.Text
		if much == nothing {
			continue
		}
		if much == header {
			text = bare(text)
		}
		out.WriteString(strings.Repeat("\n", d.Line-at))
		out.WriteString(text)
		at = d.Line + strings.Count(text, "\n")
	}
	return out.String()
}

// checked is a package with the errors that the type checker found.
type checked struct {
	g      *gosource
	inside *gopackage // the package with its internal tests
	beside *gopackage // its external tests
	parsed []*ast.File
	errs   []goError
}

// errNoPackage reports that an imported directory of this module does not exist.
var errNoPackage = errors.New("no such package in this tree")

// importer implements types.Importer.
type importer func(name string) (*types.Package, error)

// Import returns a package.
func (i importer) Import(name string) (*types.Package, error) { return i(name) }

// importer imports packages for the package of. A package outside the tree is an error to the type checker, which then
// ignores its uses. self is the package, with its tests, as external tests import it.
func (g *gosource) importer(ctx context.Context, of *gopackage, self *types.Package) importer {
	return func(name string) (*types.Package, error) {
		dir, ok := g.folder(ctx, name, of.dir)
		if !ok {
			return nil, errors.New("not in this tree")
		}
		if self != nil && dir == of.dir {
			return self, nil
		}
		p, err := g.importable(ctx, dir)
		if err != nil {
			return nil, err
		}
		if len(p.files) == 0 {
			return nil, errNoPackage
		}
		if p.typing {
			return nil, errors.New("it imports itself")
		}
		key := g.key(ctx, p)
		typed := g.f.goes.pkgs[key]
		if typed == nil {
			p.typing = true
			typed = g.typed(ctx, name, p, g.emit(p), nil, func(types.Error) {})
			p.typing = false
			if ctx.Err() != nil { // the package may lack what was not read any more
				return nil, ctx.Err()
			}
			g.f.goes.pkgs[key] = typed
		}
		if typed == nil {
			return nil, errors.New("it cannot be type-checked")
		}
		return typed, nil
	}
}

// key identifies the kept part of a package and of everything it imports. Packages of one key are equal.
func (g *gosource) key(ctx context.Context, p *gopackage) string {
	if p.key == "" {
		p.key = p.dir // a package that imports itself gets one key
		sum := sha256.New()
		module, _ := g.module(ctx, p.dir)
		fmt.Fprintln(sum, p.dir, module)
		for _, f := range p.files {
			fmt.Fprintln(sum, f.at, f.kept)
		}
		for _, q := range p.imported {
			fmt.Fprintln(sum, g.key(ctx, q))
		}
		p.key = string(sum.Sum(nil))
	}
	return p.key
}

// emit parses the kept parts of a package's files. It parses the whole file if the part does not parse, and skips a
// file that does not parse either.
func (g *gosource) emit(p *gopackage) (out []*ast.File) {
	for _, f := range p.files {
		if !f.isKept() {
			continue
		}
		parsed, err := parser.ParseFile(g.f.goes.fset, f.at, f.outline(), parser.SkipObjectResolution)
		if err != nil {
			parsed, err = parser.ParseFile(g.f.goes.fset, f.at, f.text, parser.SkipObjectResolution)
		}
		if err == nil {
			out = append(out, parsed)
		}
	}
	return out
}

// typed type-checks the parsed files of a package.
func (g *gosource) typed(ctx context.Context, name string, p *gopackage, files []*ast.File, self *types.Package,
	say func(types.Error)) (out *types.Package) {
	defer func() {
		if recover() != nil { // the type checker panicked
			out = nil
		}
	}()
	config := types.Config{Importer: g.importer(ctx, p, self), IgnoreFuncBodies: !p.bodies, FakeImportC: true,
		Error: func(err error) {
			var e types.Error
			if errors.As(err, &e) {
				say(e)
			}
		}}
	if len(files) == 0 { // the slice has nothing of the package
		out = types.NewPackage(name, p.name())
		out.MarkComplete()
		return out
	}
	out, _ = config.Check(name, g.f.goes.fset, files, nil) // errors were reported to the callback
	return out
}

// check type-checks a package and its tests.
func (c *checked) check(ctx context.Context) {
	g := c.g
	dir := c.inside.dir
	name, root := g.module(ctx, dir)
	name = path.Join(name, strings.TrimPrefix(strings.TrimPrefix(dir, root), "/"))
	c.unusedImports(ctx)
	if ctx.Err() != nil {
		return
	}
	inside, beside := g.emit(c.inside), g.emit(c.beside)
	c.parsed = slices.Concat(inside, beside)
	var p *types.Package
	if len(inside) > 0 {
		p = g.typed(ctx, name, c.inside, inside, nil, c.say)
	}
	if len(beside) > 0 {
		g.typed(ctx, name+"_test", c.beside, beside, p, c.say)
	}
}

// say records an error of the type checker.
func (c *checked) say(e types.Error) {
	at := c.g.f.goes.fset.Position(e.Pos)
	of := c.g.f.goes.named[at.Filename]
	if of == nil {
		return
	}
	lines := of.lines()
	code := codeOf(e)
	if at.Line < 1 || at.Line > len(lines) || strings.HasPrefix(e.Msg, "\t") || // a continuation line of another error
		code == brokenImport && !strings.Contains(e.Msg, errNoPackage.Error()) ||
		code == unusedImport { // the slice may leave out the code that uses the import
		return
	}
	if !goName.MatchString(lines[at.Line-1]) {
		at.Line = c.beginsAt(e.Pos)
	}
	c.errs = append(c.errs, goError{of.path, at.Line, strings.TrimSpace(lines[at.Line-1]), code, e.Msg})
}

// beginsAt returns the line, from 1, on which the expression or statement that ends at pos begins. An error about a
// literal over several lines is reported at its last bracket, but its first line names what it is.
func (c *checked) beginsAt(pos token.Pos) int {
	fset := c.g.f.goes.fset
	line := fset.Position(pos).Line
	for _, f := range c.parsed {
		if f.FileStart > pos || pos > f.FileEnd {
			continue
		}
		ast.Inspect(f, func(n ast.Node) bool {
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

// unusedImports finds unused imports in files in which both sides removed a use. In other files one side has the same
// imports and uses. Outside this tree a package's name is assumed to be the last part of its path.
func (c *checked) unusedImports(ctx context.Context) {
	for _, f := range slices.Concat(c.inside.files, c.beside.files) {
		y, t := c.g.f.of(merge.Yours, f.path), c.g.f.of(merge.Theirs, f.path)
		if y == nil || t == nil {
			continue
		}
		var used *uses
		for _, i := range f.imports {
			name := i.name
			if name == "" {
				name = c.g.called(ctx, i.path, c.inside.dir)
			}
			if name == "_" || name == "." || i.path == "C" || !y.tookOut(name+".") ||
				!t.tookOut(name+".") {
				continue
			}
			if used == nil {
				used = usesOf(f.text)
			}
			if used.of[name] == nil {
				c.errs = append(c.errs, goError{f.path, i.line, strings.TrimSpace(f.lines()[i.line-1]),
					unusedImport, `"` + i.path + `" imported and not used`})
			}
		}
	}
}

// tookOut reports whether the side removed a line with a text.
func (f *file) tookOut(text string) bool {
	return slices.ContainsFunc(f.edits, func(e diff.Edit) bool {
		return slices.ContainsFunc(f.from[e.A0:e.A1], func(l string) bool { return strings.Contains(l, text) })
	})
}

// uses is the names in a piece of code.
type uses struct {
	names    []string            // unqualified names, each once
	selected []string            // selected names, each once
	of       map[string][]string // by unqualified name: the names selected from it
}

// any reports whether holds returns true for one of the names.
func (u *uses) any(holds func(name string) bool) bool {
	return slices.ContainsFunc(u.names, holds) || slices.ContainsFunc(u.selected, holds)
}

// usesOf lists the names in code, both declared and used ones.
func usesOf(text string) *uses {
	u := &uses{of: map[string][]string{}}
	var s scanner.Scanner
	s.Init(token.NewFileSet().AddFile("", -1, len(text)), []byte(text), func(token.Position, string) {}, 0)
	seen := map[string]bool{}
	put := func(list *[]string, key, name string) {
		if !seen[key] {
			seen[key] = true
			*list = append(*list, name)
		}
	}
	for last, dot := "", false; ; {
		_, tok, name := s.Scan()
		switch {
		case tok == token.EOF:
			return u
		case tok == token.PERIOD:
			dot = true
			continue
		case tok == token.IDENT && dot:
			put(&u.selected, "."+name, name)
			if last != "" {
				u.of[last] = append(u.of[last], name)
			}
			last = ""
		case tok == token.IDENT:
			put(&u.names, name, name)
			last = name
		default:
			last = ""
		}
		dot = false
	}
}

// goshared is what the trees share: each file is divided once, and each package is checked once for each key.
type goshared struct {
	fset  *token.FileSet
	files map[goVersion]*gofile
	cuts  map[object.ID]*cut
	named map[string]*gofile        // files by their name in positions
	pkgs  map[string]*types.Package // packages by key
}
