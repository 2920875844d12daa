// Package lang tells by a file's name which language it is written in. It has one table of languages; what a package
// knows of a language (its grammar, its imports, its definitions) it keeps by the *Language.
package lang

import (
	"path"
	"slices"
	"strings"
)

// Outline is what the places of a file are named by.
type Outline int

// The outlines.
const (
	Code     Outline = iota // functions, classes and the like
	Headings                // headings of a text
	Sections                // sections of settings, in square brackets
	Keys                    // keys of indented entries
	Blocks                  // lines that open a brace
	None
)

// Trait is something that is so of the files of some languages.
type Trait int

// The traits.
const (
	Prose    Trait = 1 << iota // text is sentences: a line that begins like a statement is not one
	Settings                   // keys and what they are set to
	Paths                      // a path that such a file names must exist
	Tags                       // elements with attributes
)

// Language is a row of the table. Rows are written without field names, so a row that lacks a field does not compile.
type Language struct {
	Name    string
	endings string // file name endings in lower case, with their dots, separated by blanks
	names   string // whole names of files, separated by blanks; a * stands for anything
	Outline Outline
	traits  Trait
}

// Is reports whether the language has a trait.
func (l *Language) Is(t Trait) bool { return l.traits&t != 0 }

// The languages.
var (
	Go         = &Language{"Go", ".go", "", Code, Paths}
	GoSum      = &Language{"go.sum", "", "go.sum", None, 0}
	Python     = &Language{"Python", ".py .pyi", "", Code, Paths}
	JavaScript = &Language{"JavaScript", ".js .jsx .mjs .cjs", "", Code, Paths | Tags}
	TypeScript = &Language{"TypeScript", ".ts", "", Code, Paths}
	TSX        = &Language{"TypeScript with tags", ".tsx", "", Code, Paths | Tags}
	Java       = &Language{"Java", ".java", "", Code, Paths}
	Kotlin     = &Language{"Kotlin", ".kt .kts", "", Code, Paths}
	CSharp     = &Language{"C#", ".cs", "", Code, Paths}
	Scala      = &Language{"Scala", ".scala", "", Code, Paths}
	Groovy     = &Language{"Groovy", ".groovy", "", Code, Paths}
	Gradle     = &Language{"Gradle", ".gradle", "", Code, Paths}
	C          = &Language{"C", ".c .h", "", Code, Paths}
	CPlusPlus  = &Language{"C++", ".cc .cpp .cxx .hpp .hh", "", Code, Paths}
	ObjectiveC = &Language{"Objective-C", ".m", "", Code, Paths}
	Rust       = &Language{"Rust", ".rs", "", Code, Paths}
	Ruby       = &Language{"Ruby", ".rb", "", Code, Paths}
	PHP        = &Language{"PHP", ".php", "", Code, Paths}
	Swift      = &Language{"Swift", ".swift", "", Code, Paths}
	Dart       = &Language{"Dart", ".dart", "", Code, 0}
	Lua        = &Language{"Lua", ".lua", "", Code, Paths}
	Shell      = &Language{"Shell", ".sh .bash", "", Code, Paths}
	SQL        = &Language{"SQL", ".sql", "", Code, Paths}
	Proto      = &Language{"Protocol Buffers", ".proto", "", Code, Paths}
	Vue        = &Language{"components", ".vue .svelte", "", Code, Tags}
	HTML       = &Language{"HTML", ".html .htm", "", Code, Prose | Paths | Tags}
	Pages      = &Language{"pages with placeholders",
		".erb .ejs .hbs .haml .jinja .jinja2 .j2 .twig .liquid .mustache " +
			".tmpl .gohtml .cshtml .razor", "", Code, Prose | Paths | Tags}
	GraphQL = &Language{"GraphQL", ".graphql .gql", "", Blocks, 0}

	Make       = &Language{"Make", ".mk", "Makefile makefile GNUmakefile", None, Paths}
	CMake      = &Language{"CMake", ".cmake", "CMakeLists.txt", None, Paths}
	Starlark   = &Language{"Starlark", ".bazel .bzl", "BUILD", Code, Paths}
	Dockerfile = &Language{"Dockerfile", "", "Dockerfile", None, Paths}
	Template   = &Language{"template of settings", ".in", "", Code, Paths} // such as MANIFEST.in

	JSON = &Language{"JSON", ".json .ipynb", "", Keys, Settings | Paths}
	YAML = &Language{"YAML", ".yaml .yml .unity .prefab .asset .mat .anim .controller .meta", "", Keys,
		Settings | Paths}
	TOML = &Language{"TOML", ".toml", "", Sections, Settings | Paths}
	INI  = &Language{"INI", ".ini .cfg .service .socket .timer .mount .target .tscn .tres .godot .import", "",
		Sections, Settings | Paths}
	Properties = &Language{"properties", ".properties", "", Sections, Settings | Paths}
	Conf       = &Language{"configuration", ".conf", "", Sections, 0}
	Env        = &Language{"environment", ".env", ".env.*", None, Settings}
	XML        = &Language{"XML", ".xml .csproj .fsproj .vbproj .vcxproj .props .targets .tmx .wxs .qrc", "", Code,
		Paths | Tags}
	XMLData = &Language{"XML data", ".svg .resx .plist .xaml", "", Code, Tags}
	HCL     = &Language{"HCL", ".tf .hcl", "", Blocks, 0}
	CSS     = &Language{"CSS", ".css .scss", "", Blocks, Paths}
	Less    = &Language{"Less", ".less", "", Blocks, 0}
	Ignore  = &Language{"ignore list", ".gitignore .dockerignore", "svn:ignore svn:global-ignores", None, 0}

	CSV      = &Language{"CSV", ".csv .tsv", "", None, 0}
	Markdown = &Language{"Markdown", ".md .markdown", "", Headings, Prose}
	RST      = &Language{"reStructuredText", ".rst", "", Headings, Prose}
	AsciiDoc = &Language{"AsciiDoc", ".adoc", "", Headings, Prose}
	TeX      = &Language{"TeX", ".tex", "", Code, Prose}
	Text     = &Language{"text", ".txt", "", None, Prose}
)

// All lists the languages.
var All = []*Language{
	Go, GoSum, Python, JavaScript, TypeScript, TSX, Java, Kotlin, CSharp, Scala, Groovy, Gradle, C, CPlusPlus,
	ObjectiveC, Rust, Ruby, PHP, Swift, Dart, Lua, Shell, SQL, Proto, Vue, HTML, Pages, GraphQL, Make, CMake,
	Starlark, Dockerfile,
	Template, JSON, YAML, TOML, INI, Properties, Conf, Env, XML, XMLData, HCL, CSS, Less, Ignore, CSV, Markdown,
	RST, AsciiDoc, TeX, Text,
}

var byEnding, byName = index()

func index() (endings, names map[string]*Language) {
	endings, names = map[string]*Language{}, map[string]*Language{}
	for _, l := range All {
		for e := range strings.FieldsSeq(l.endings) {
			endings[e] = l
		}
		for n := range strings.FieldsSeq(l.names) {
			names[n] = l
		}
	}
	return endings, names
}

// none are the files of no language in the table, with an ending and without.
var (
	unknown = &Language{Name: "unknown"}
	bare    = &Language{Name: "unknown", Outline: None, traits: Prose}
)

// Of returns the language of a file by its name. It is never nil; IsKnown tells whether the table has it.
func Of(name string) *Language {
	base := path.Base(name)
	if l := byName[base]; l != nil {
		return l
	}
	ext := strings.ToLower(path.Ext(base))
	if l := byEnding[ext]; l != nil {
		return l
	}
	if i := slices.IndexFunc(All, func(l *Language) bool { return l.matches(base) }); i >= 0 {
		return All[i]
	}
	if ext == "" {
		return bare
	}
	return unknown
}

// matches reports whether a name with a * is for a file.
func (l *Language) matches(base string) bool {
	for pattern := range strings.FieldsSeq(l.names) {
		if ok, _ := path.Match(pattern, base); ok {
			return true
		}
	}
	return false
}

// IsKnown reports whether the table has the language.
func (l *Language) IsKnown() bool { return l != unknown && l != bare }
