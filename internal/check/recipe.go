package check

import (
	"path"
	"strings"
)

// Kind is the role of a file in a build.
type Kind int

const (
	// Recipe is a file that can be run, or that a tool can read as a recipe or as settings. Unknown files count as
	// recipes.
	Recipe Kind = iota
	// Source is compiled, or loaded as the code under test. It counts as a recipe if a recipe names it.
	Source
	// Inert files are never run: documents, pictures, tables.
	Inert
)

// kinds maps file endings, without the dot, to kinds.
var kinds = kindsOf(map[Kind]string{
	Source: "go c h cc cpp cxx hh hpp hxx inc m mm rs java kt scala cs fs vb swift d zig hs lhs ml mli ex erl hrl " +
		"clj cljs dart pas adb ads f f90 f95 s asm cu proto thrift graphql sql css scss sass less html htm vue " +
		"svelte py pyi pyx rb php lua pl pm t r jl js mjs cjs jsx ts mts cts tsx elm nim v sv vhd vhdl json txt",
	Inert: "md markdown rst adoc asciidoc tex bib png jpg jpeg gif webp bmp ico svg pdf ps eps mp3 mp4 ogg wav webm " +
		"woff woff2 ttf otf eot csv tsv po pot mo sum gitignore gitkeep keep mailmap editorconfig",
})

// byName lists files that tools find by name although they end like sources, data or documents; * matches anything.
var byName = []string{"setup.py", "conftest.py", "noxfile.py", "tasks.py", "fabfile.py", "dodo.py", "manage.py",
	"sitecustomize.py", "usercustomize.py", "__main__.py", "*.config.js", "*.config.mjs", "*.config.cjs",
	"*.config.ts", "*.config.mts", "*.config.cts", ".*.js", ".*.cjs", ".*.mjs", "*rc.js", "*rc.cjs", "*.setup.js",
	"*.setup.ts", "gulpfile*", "Gruntfile*", "gruntfile*", "Jakefile*", "webpack*", "rollup*", "vite*", "jest*",
	"karma*", "build.rs", "build.zig", "Package.swift", "magefile.go", "Makefile.PL", "Build.PL", "Rakefile.rb",
	"spec_helper.rb", "bootstrap.php", "CMakeLists.txt", "*requirements*.txt", "*constraints*.txt",
	"*package*.json", "*config*.json", "*rc.json", "*settings*.json",
	"*project*.json", "*workspace*.json", "*lock*.json", "*shrinkwrap*.json", "*manifest*.json", "*resets.json",
	"*tasks*.json", "composer.json", "bower.json", "deno*.json", "nx.json", "turbo.json", "lerna.json", "rush.json",
	"angular.json", "vcpkg.json", "global.json", "launch.json", "cypress.json", "biome.json"}

// documents lists names of documents without an ending.
var documents = map[string]bool{"LICENSE": true, "LICENCE": true, "COPYING": true, "NOTICE": true, "AUTHORS": true,
	"CONTRIBUTORS": true, "CODEOWNERS": true, "README": true, "CHANGELOG": true, "CHANGES": true, "NEWS": true,
	"MAINTAINERS": true, "TODO": true}

func kindsOf(by map[Kind]string) map[string]Kind {
	out := map[string]Kind{}
	for kind, ends := range by {
		for end := range strings.FieldsSeq(ends) {
			out[end] = kind
		}
	}
	return out
}

// KindOf returns the kind of a file by its path and whether it is executable.
func KindOf(name string, executable bool) Kind {
	base := path.Base(name)
	if dir := path.Dir(name); dir != "." && (dir[0] == '.' || strings.Contains(dir, "/.")) {
		return Recipe // a folder of a tool's settings
	}
	for _, pattern := range byName {
		if ok, _ := path.Match(pattern, base); ok {
			return Recipe
		}
	}
	if documents[base] {
		return Inert
	}
	kind := kinds[strings.TrimPrefix(path.Ext(base), ".")]
	if executable && kind == Source {
		return Recipe
	}
	return kind
}

// narrow lists programs whose recipes are known: the names of the files that they read besides their arguments, and
// the permitted arguments; * matches anything.
var narrow = map[string]struct {
	recipes []string
	words   string // subcommands and options
}{
	"go":    {[]string{"go.mod", "go.work", "modules.txt"}, "build test vet install -v -race -short -count=1 -cover"},
	"gofmt": {nil, "-l -d -s"},
	"true":  {}, "false": {}, ":": {}, "!": {},
	"echo": {nil, "*"}, "printf": {nil, "*"}, "test": {nil, "*"}, "exit": {nil, "*"}, "sleep": {nil, "*"},
	"grep": {nil, "*"}, "cat": {nil, "*"}, "cmp": {nil, "*"},
}

// between separates two commands of a line.
var between = strings.NewReplacer("&&", "\x00", "||", "\x00", ";", "\x00")

// Recipes returns which of the files the steps of a command read as recipes. ok is false if that is unknown for a
// step, so that every recipe counts.
func Recipes(steps []string) (names map[string]bool, ok bool) {
	names = map[string]bool{}
	for line := range strings.SplitSeq(between.Replace(strings.Join(steps, "&&")), "\x00") {
		words := strings.Fields(strings.TrimPrefix(strings.TrimSpace(line), "! "))
		if len(words) == 0 || strings.ContainsAny(line, "$`(){}<>&|\n\\") {
			return nil, false
		}
		by, known := narrow[words[0]]
		if !known {
			return nil, false
		}
		for _, w := range words[1:] {
			if by.words != "*" && !strings.Contains(" "+by.words+" ", " "+w+" ") && !isPackage(w) {
				return nil, false
			}
		}
		for _, n := range by.recipes {
			names[n] = true
		}
	}
	return names, true
}

// isPackage reports whether a word can only be a Go package path to a shell.
func isPackage(w string) bool {
	return (w == "." || strings.HasPrefix(w, "./")) && !strings.ContainsFunc(w, func(r rune) bool {
		return !isNameRune(r) && r != '/'
	})
}

func isNameRune(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_.+-", r)
}

// interpreters lists programs that run a file or module of their arguments, with or without its ending.
var interpreters = map[string]bool{"node": true, "python": true, "python3": true, "ruby": true, "perl": true,
	"php": true, "lua": true, "deno": true, "bun": true, "tsx": true, "ts-node": true, "-m": true, "-r": true,
	"--require": true, "--import": true}

// Naming finds the files that a text names, such as a recipe that runs scripts.
type Naming struct {
	whole map[string][]string // paths, by their last part
	stem  map[string][]string // paths, by file name without its ending
}

// NewNaming returns a Naming for the given files.
func NewNaming(paths []string) *Naming {
	n := &Naming{map[string][]string{}, map[string][]string{}}
	for _, p := range paths {
		base := path.Base(p)
		n.whole[base] = append(n.whole[base], p)
		stem := strings.TrimSuffix(base, path.Ext(base))
		n.stem[stem] = append(n.stem[stem], p)
	}
	return n
}

// In returns the files that a text names: by the last part of their path or, after a directory or an interpreter,
// without the ending too.
func (n *Naming) In(text string, each func(name string)) {
	before := ""
	for word := range strings.FieldsFuncSeq(text, func(r rune) bool { return !isNameRune(r) && r != '/' }) {
		base := path.Base(word)
		for _, p := range n.whole[base] {
			each(p)
		}
		if interpreters[path.Base(before)] {
			base = base[strings.LastIndexByte(base, '.')+1:] // for a nested module, the last name
		}
		if strings.Contains(word, "/") || interpreters[path.Base(before)] {
			for _, p := range n.stem[base] {
				each(p)
			}
		}
		before = word
	}
}
