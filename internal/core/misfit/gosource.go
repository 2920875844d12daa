package misfit

import (
	"context"
	"go/build/constraint"
	"go/parser"
	"go/token"
	"math"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/outline"
	"dorvik.dev/dorvik/internal/core/rx"
)

// Most of a module's source has nothing to do with what two sides changed, and type-checking all of it takes many times
// as long as joining the sides. So only a slice of it is checked: the declarations that a side changed, as the roots,
// and of all others those that they can reach by name, without the bodies of functions. A name reaches whatever is
// declared by it in its package, and with a type all its methods.

// gosource holds the Go packages of a tree that were requested.
type gosource struct {
	f       *finder
	tree    object.ID
	at      *object.Finder
	pkgs    map[string]*gopackage // importable packages, by folder
	modules map[string]string     // module path of each folder's go.mod; empty if it has none
	todo    []func() error        // reached declarations that are still to be followed
	looked  map[farRef]bool       // answers of near
}

// goVersion identifies a version of a Go file.
type goVersion struct {
	path string
	id   object.ID
}

// gofile is a file divided into its declarations.
type gofile struct {
	*cut
	path    string // path in the tree
	at      string // file name in positions
	text    string
	touched []touch // how each declaration was touched
	pkg     string  // the package's name
	imports []goimport
	uses    [][2]*uses // by declaration, computed on demand: names used without, and with, function bodies
	split   []string   // the lines, computed on demand
}

// touch is the sides that changed a declaration.
type touch byte

const (
	yours touch = 1 << iota
	theirs
)

// goimport is an import of a file.
type goimport struct {
	name string // name that the file gives the import; empty for the package's own
	path string
	line int // from 1
}

// kept is how much of a declaration a slice contains.
type kept byte

const (
	nothing kept = iota
	header       // without the bodies of functions
	whole
)

// sliced is a file with its kept declarations.
type sliced struct {
	*gofile
	kept []kept // slice of each declaration
}

// gopackage is a package with its reachable declarations.
type gopackage struct {
	dir      string
	files    []*sliced
	bodies   bool                // function bodies are checked
	declared map[string][]goref  // by name; a type's name also gives its methods
	methods  map[string][]goref  // methods by their own names
	reached  map[string]bool     // reached names
	imported []*gopackage        // packages reached from this one
	byName   []map[string]string // for each file: folders of its imports in this tree, by the name there
	inside   *gopackage          // for external tests: the package with its internal tests
	key      string
	typing   bool
}

// goref is a declaration in a package.
type goref struct{ file, decl int }

func (f *finder) gosource(tree object.ID) *gosource {
	return &gosource{f: f, tree: tree, at: object.NewFinder(f.store), pkgs: map[string]*gopackage{},
		modules: map[string]string{}, looked: map[farRef]bool{}}
}

var moduleLine = rx.New(`(?m)^module\s+"?([^\s"]+)`)

// module returns the module of a directory, and the directory in which it begins.
func (g *gosource) module(ctx context.Context, dir string) (name, root string) {
	for root = dir; ; root = path.Dir(root) {
		name, known := g.modules[root]
		if !known {
			if e, err := g.at.Find(ctx, g.tree, path.Join(root, "go.mod")); err == nil {
				if text, err := g.f.text(ctx, e); err == nil {
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

// folder returns the directory of an imported package of this tree.
func (g *gosource) folder(ctx context.Context, imported, from string) (dir string, ok bool) {
	name, root := g.module(ctx, from)
	if rest, in := strings.CutPrefix(imported, name); name != "" && in && (rest == "" || rest[0] == '/') {
		return path.Join(root, rest), true
	}
	return "", false
}

// called returns the name under which a directory's files use an imported package: its own or, outside this tree, the
// last part of its path.
func (g *gosource) called(ctx context.Context, imported, from string) string {
	if dir, ok := g.folder(ctx, imported, from); ok {
		if files, err := g.read(ctx, dir, false, 1); err == nil && len(files) > 0 {
			return files[0].pkg
		}
	}
	return path.Base(imported)
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

const all = math.MaxInt

// importable returns the package of a directory as others import it. It has no files if the directory does not exist.
func (g *gosource) importable(ctx context.Context, dir string) (*gopackage, error) {
	if p := g.pkgs[dir]; p != nil {
		return p, nil
	}
	files, err := g.read(ctx, dir, false, all)
	if err != nil {
		return nil, err
	}
	g.pkgs[dir] = newPackage(dir, false, files)
	return g.pkgs[dir], nil
}

func newPackage(dir string, bodies bool, files []*gofile) *gopackage {
	p := &gopackage{dir: dir, bodies: bodies, declared: map[string][]goref{},
		methods: map[string][]goref{}, reached: map[string]bool{},
		byName: make([]map[string]string, len(files))}
	for i, f := range files {
		p.files = append(p.files, &sliced{f, make([]kept, len(f.decls))})
		for j, d := range f.decls {
			for _, name := range d.Names {
				p.declared[name] = append(p.declared[name], goref{i, j})
			}
			if d.Method != "" {
				p.methods[d.Method] = append(p.methods[d.Method], goref{i, j})
			}
		}
	}
	return p
}

// name returns the name of the package, or "" if it has no files.
func (p *gopackage) name() string {
	if len(p.files) == 0 {
		return ""
	}
	return p.files[0].pkg
}

// read reads the Go files of a directory, either the tests or the others, up to most of them.
func (g *gosource) read(ctx context.Context, dir string, tests bool, most int) (out []*gofile, err error) {
	tree := g.tree
	if dir != "." {
		e, err := g.at.Find(ctx, g.tree, dir)
		if err != nil || !e.IsTree() {
			return nil, err
		}
		tree = e.ID
	}
	entries, err := g.f.store.Tree(ctx, tree)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name, ".go") || strings.HasSuffix(e.Name, "_test.go") != tests {
			continue
		}
		f, err := g.file(ctx, path.Join(dir, e.Name), e)
		if err != nil {
			return nil, err
		}
		if f != nil {
			out = append(out, f)
		}
		if len(out) == most {
			break
		}
	}
	return out, nil
}

// file returns a file of the tree, or nil if it is not built or its imports do not parse.
func (g *gosource) file(ctx context.Context, p string, e object.Entry) (*gofile, error) {
	name := goVersion{p, e.ID}
	f, known := g.f.goes.files[name]
	if !known {
		text, err := g.f.text(ctx, e)
		if err != nil {
			return nil, err
		}
		if isBuilt(path.Base(p), text) {
			f = g.cut(name, text)
		}
		g.f.goes.files[name] = f
	}
	return f, nil
}

// cut divides a file into its declarations. It returns nil if its imports do not parse.
func (g *gosource) cut(name goVersion, text string) *gofile {
	f := &gofile{path: name.path, at: name.path + "@" + name.id.String(), text: text}
	fset := token.NewFileSet()
	parsed, err := parser.ParseFile(fset, "", text, parser.ImportsOnly)
	if err != nil {
		return nil
	}
	f.pkg = parsed.Name.Name
	for _, s := range parsed.Imports {
		one := goimport{path: strings.Trim(s.Path.Value, `"`+"`"), line: fset.Position(s.Pos()).Line}
		if s.Name != nil {
			one.name = s.Name.Name
		}
		f.imports = append(f.imports, one)
	}
	f.cut = g.f.goes.cut(name.id, text)
	f.uses = make([][2]*uses, len(f.decls))
	f.touch(g.f.goes, g.f.of(merge.Yours, name.path), g.f.of(merge.Theirs, name.path))
	g.f.goes.named[f.at] = f
	return f
}

// touch computes who changed each declaration. A declaration that neither side has counts as changed by both.
func (f *gofile) touch(goes *goshared, y, t *file) {
	f.touched = make([]touch, len(f.decls))
	if y == nil && t == nil {
		return
	}
	var had map[string]bool
	var has [2]map[string]bool
	for i, one := range []*file{y, t} {
		if one != nil {
			had, has[i] = goes.cut(one.old.ID, one.was).texts, goes.cut(one.new.ID, one.is).texts
		}
	}
	for i, d := range f.decls {
		if had[d.Text] {
			continue
		}
		switch in := [2]bool{has[0][d.Text], has[1][d.Text]}; in {
		case [2]bool{true, false}:
			f.touched[i] = yours
		case [2]bool{false, true}:
			f.touched[i] = theirs
		default:
			f.touched[i] = yours | theirs
		}
	}
}

func (f *gofile) lines() []string {
	if f.split == nil {
		f.split = strings.Split(f.text, "\n")
	}
	return f.split
}

// usesOf lists the names in the kept part of a declaration.
func (f *gofile) usesOf(decl int, much kept) *uses {
	at := &f.uses[decl][0]
	text := f.decls[decl].Text
	if much == whole {
		at = &f.uses[decl][1]
	} else {
		text = bare(text)
	}
	if *at == nil {
		*at = usesOf(text)
	}
	return *at
}

// bare removes the body of a function or of a table from a declaration.
func bare(decl string) string { return outline.Thin(decl, func(int, int) bool { return false }) }

// isKept reports whether anything of the file is kept.
func (f *sliced) isKept() bool {
	return slices.ContainsFunc(f.kept, func(much kept) bool { return much > nothing })
}

// outline returns the kept text of the file with its imports.
func (f *sliced) outline() string {
	return f.only(func(i int) kept {
		if f.decls[i].Token == "import" {
			return whole
		}
		return f.kept[i]
	})
}

// wanted selects the declarations of a package that are checked.
type wanted func(ctx context.Context, g *gosource, p *gopackage, r goref) (bool, error)

// checked prepares the check of a directory's package: it keeps the wanted declarations and everything they depend on.
func (g *gosource) checked(ctx context.Context, dir string, wanted wanted) (*checked, error) {
	files, err := g.read(ctx, dir, false, all)
	if err != nil {
		return nil, err
	}
	tests, err := g.read(ctx, dir, true, all)
	if err != nil {
		return nil, err
	}
	var beside []*gofile
	for _, f := range tests {
		if strings.HasSuffix(f.pkg, "_test") {
			beside = append(beside, f)
		} else {
			files = append(files, f)
		}
	}
	c := &checked{g: g, inside: newPackage(dir, true, files), beside: newPackage(dir, true, beside)}
	c.beside.inside = c.inside
	for _, p := range []*gopackage{c.inside, c.beside} {
		for i, f := range p.files {
			for j := range f.decls {
				want, err := wanted(ctx, g, p, goref{i, j})
				if err != nil {
					return nil, err
				}
				if want {
					g.keep(ctx, p, goref{i, j}, whole)
				}
			}
		}
	}
	return c, g.follow()
}

// keep keeps a declaration of a package.
func (g *gosource) keep(ctx context.Context, p *gopackage, r goref, much kept) {
	f := p.files[r.file]
	if f.kept[r.decl] >= much || f.decls[r.decl].Token == "import" {
		return
	}
	f.kept[r.decl] = much
	g.todo = append(g.todo, func() error { return g.spread(ctx, p, r.file, f.usesOf(r.decl, much)) })
}

// follow keeps everything that the kept declarations depend on.
func (g *gosource) follow() error {
	for len(g.todo) > 0 {
		last := len(g.todo) - 1
		next := g.todo[last]
		g.todo = g.todo[:last]
		if err := next(); err != nil {
			return err
		}
	}
	return nil
}

// reach keeps the declarations of a name in a package.
func (g *gosource) reach(ctx context.Context, p *gopackage, name string) {
	if !p.reached[name] {
		p.reached[name] = true
		for _, r := range p.declared[name] {
			g.keep(ctx, p, r, header)
		}
	}
}

// spread keeps what a file of a package uses.
func (g *gosource) spread(ctx context.Context, p *gopackage, file int, u *uses) error {
	imports, err := g.importsOf(ctx, p, file)
	if err != nil {
		return err
	}
	for _, name := range u.names {
		g.reach(ctx, p, name)
		dir, in := imports[name]
		if !in {
			continue
		}
		q, err := g.importedBy(ctx, p, dir)
		if err != nil {
			return err
		}
		for _, selected := range u.of[name] {
			g.reach(ctx, q, selected)
		}
	}
	for _, i := range p.files[file].imports {
		if dir, in := g.folder(ctx, i.path, p.dir); in && i.name == "." {
			q, err := g.importedBy(ctx, p, dir)
			if err != nil {
				return err
			}
			for _, name := range u.names {
				g.reach(ctx, q, name)
			}
		}
	}
	return nil
}

// importedBy returns the package of a directory and records the importer.
func (g *gosource) importedBy(ctx context.Context, p *gopackage, dir string) (*gopackage, error) {
	if p.inside != nil && dir == p.dir {
		return p.inside, nil
	}
	q, err := g.importable(ctx, dir)
	if err == nil && !slices.Contains(p.imported, q) {
		p.imported = append(p.imported, q)
	}
	return q, err
}

// importsOf maps the names under which a file imports packages of this tree to their directories.
func (g *gosource) importsOf(ctx context.Context, p *gopackage, file int) (map[string]string, error) {
	if known := p.byName[file]; known != nil {
		return known, nil
	}
	out := map[string]string{}
	for _, i := range p.files[file].imports {
		dir, in := g.folder(ctx, i.path, p.dir)
		if !in {
			continue
		}
		name := i.name
		if name == "" {
			name = g.called(ctx, i.path, p.dir)
		}
		out[name] = dir
	}
	p.byName[file] = out
	return out, nil
}

// farRef is a declaration of any package.
type farRef struct {
	of *gopackage
	goref
	types *names // the names that were searched for
	steps int    // how many steps away
}

// refs lists the declarations that code in a file may use, judged by names: of its package, of imported packages of
// this tree, and methods of both. With everyImport it includes methods of all imported packages.
func (g *gosource) refs(ctx context.Context, p *gopackage, file int, u *uses, everyImport bool) (out []farRef,
	err error) {
	take := func(of *gopackage, list []goref) {
		for _, r := range list {
			out = append(out, farRef{of: of, goref: r})
		}
	}
	imports, err := g.importsOf(ctx, p, file)
	if err != nil {
		return nil, err
	}
	for _, name := range u.names {
		take(p, p.declared[name])
	}
	for _, name := range u.selected {
		take(p, p.methods[name])
	}
	for imported, dir := range imports {
		if !everyImport && u.of[imported] == nil {
			continue
		}
		q, err := g.importable(ctx, dir)
		if err != nil {
			return nil, err
		}
		for _, name := range u.of[imported] {
			take(q, q.declared[name])
		}
		for _, name := range u.selected {
			take(q, q.methods[name])
		}
	}
	return out, nil
}

// meets reports whether the package depends on directories of both sets.
func (c *checked) meets(a, b map[string]bool) bool {
	seen := map[*gopackage]bool{}
	var metA, metB bool
	var visit func(p *gopackage)
	visit = func(p *gopackage) {
		if seen[p] {
			return
		}
		seen[p] = true
		metA, metB = metA || a[p.dir], metB || b[p.dir]
		for _, q := range p.imported {
			visit(q)
		}
	}
	visit(c.inside)
	visit(c.beside)
	return metA && metB
}

// wrongIn adds the texts of the declarations with errors.
func (c *checked) wrongIn(texts map[string]bool) {
	for _, f := range slices.Concat(c.inside.files, c.beside.files) {
		for _, d := range f.decls {
			if slices.ContainsFunc(c.errs, func(e goError) bool {
				return e.path == f.path && e.line > d.Line && e.line <= d.Line+d.Lines
			}) {
				texts[d.Text] = true
			}
		}
	}
}

// lines returns the lines of a file of the package.
func (c *checked) lines(p string) []string {
	for _, f := range slices.Concat(c.inside.files, c.beside.files) {
		if f.path == p {
			return f.lines()
		}
	}
	return nil
}
