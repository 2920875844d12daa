// Package format reads texts with a grammar. It finds the first problem of a text, such as joined edits often cause,
// and joins texts entry by entry. A file's name tells its format (package lang). The package knows nothing about
// conflicts.
package format

import (
	"dorvik.dev/dorvik/internal/core/lang"
)

// grammar is how the texts of a language are read.
type grammar struct {
	problem func(text string) string // returns the first problem of a text, or nothing
	entries reader                   // nil where texts have no entries with keys
}

var grammars = map[*lang.Language]grammar{
	lang.Go:      {goProblem, nil},
	lang.JSON:    {jsonProblem, jsonEntries},
	lang.YAML:    {yamlProblem, lineEntries(yamlMarks)},
	lang.TOML:    {tomlProblem, lineEntries(tomlMarks)},
	lang.XML:     {xmlProblem, xmlEntries},
	lang.XMLData: {xmlProblem, xmlEntries},
	lang.CSV:     {csvProblem, lineEntries(csvMarks)},
}

// scanned are the languages of which only brackets and quotes are read.
var scanned = map[*lang.Language]marks{
	lang.JavaScript: script, lang.TypeScript: script, lang.TSX: script, lang.Java: triple, lang.Kotlin: triple,
	lang.Scala: triple, lang.Swift: triple, lang.CSharp: cLike, lang.Groovy: triple, lang.Gradle: triple, lang.C: cLike,
	lang.CPlusPlus: cLike, lang.ObjectiveC: cLike, lang.Dart: triple, lang.Proto: cLike, lang.Rust: rust, lang.PHP: php,
	lang.Python: python, lang.Starlark: python, lang.SQL: sql, lang.CSS: sheet, lang.Less: sheet, lang.HCL: hash,
}

// grammarOf returns the grammar of a file by its name, or an empty one.
func grammarOf(name string) grammar { return grammars[lang.Of(name)] }

// HasReader reports whether Problem can read files of this name's language.
func HasReader(name string) bool { return grammarOf(name).problem != nil }

// Scans reports whether ProblemOfBrackets can read files of this name's language, which has no reader.
func Scans(name string) bool {
	l := lang.Of(name)
	_, ok := scanned[l]
	return ok || paired[l] != nil || tagged[l] || l == lang.Dockerfile
}

// tagged are the languages of which only tags are read.
var tagged = map[*lang.Language]bool{lang.HTML: true, lang.Vue: true, lang.Pages: true}

// ProblemOfBrackets returns the first bracket, tag, instruction or word of a block in a file's text that does not
// match, in a few words with the line, or "". It knows comments and quotes of the language, and no more; so a text in
// which it finds nothing may still not parse, and what it finds counts only if it finds nothing in texts that are known
// to be right.
func ProblemOfBrackets(name, text string) string {
	l := lang.Of(name)
	m, ok := scanned[l]
	switch {
	case len(text) > mostText:
	case ok:
		return m.brackets(text)
	case paired[l] != nil:
		return pairsProblem(l, text)
	case tagged[l]:
		return tagsProblem(text)
	case l == lang.Dockerfile:
		return instructionsProblem(text)
	}
	return ""
}

// Problem returns the first problem of a file's text, in a few words with the line, or "" if there is none or the
// language is not read. It checks the grammar and what joined texts often have: names declared twice in one scope, and
// duplicate keys. It skips texts that are too large or nest too deep (see tame.go).
func Problem(name, text string) string {
	if read := grammarOf(name).problem; read != nil && Tame(text) {
		return read(text)
	}
	return ""
}
