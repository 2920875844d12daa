// Package format reads the texts of formats with a grammar: it finds the first problem of a text, as a text that two
// people's edits were joined into often has one, and joins texts entry by entry. Which format a file has is told by its
// name (package lang). It knows nothing of conflicts.
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

// grammarOf returns the grammar of a file by its name. A language that is not read has an empty one.
func grammarOf(name string) grammar { return grammars[lang.Of(name)] }

// HasReader reports whether Problem can read files of this name's language.
func HasReader(name string) bool { return grammarOf(name).problem != nil }

// Problem says what is wrong with a file's text, in a few words with the line;
// empty where nothing is, or where nothing here reads the language. That is the
// grammar, and what joined texts often bring about: names declared twice in one
// scope, and keys that are there twice. Texts that are too large or nest too deep (see
// tame.go) are not read.
func Problem(name, text string) string {
	if read := grammarOf(name).problem; read != nil && Tame(text) {
		return read(text)
	}
	return ""
}
