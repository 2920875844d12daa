package settle

import (
	"cmp"
	"path"
	"strings"
)

// language is what is known of the files of one language.
type language struct {
	problem func(text string) string // the first that a text has, or empty
	entries reader                   // nil where texts have no entries with keys
}

var languages = map[string]language{
	".go":   {goProblem, nil},
	".json": {jsonProblem, jsonEntries},
	".yaml": {yamlProblem, lineEntries(yamlMarks)},
	".toml": {tomlProblem, lineEntries(tomlMarks)},
	".xml":  {xmlProblem, xmlEntries},
	".csv":  {csvProblem, lineEntries(csvMarks)},
}

// sameLanguage tells endings of files that are of another's language.
var sameLanguage = map[string]string{
	".yml": ".yaml", ".tsv": ".csv",
	".csproj": ".xml", ".fsproj": ".xml", ".props": ".xml", ".targets": ".xml", ".svg": ".xml", ".resx": ".xml",
	".plist": ".xml", ".xaml": ".xml",
}

// languageOf tells a file's language by its name. What is not known has neither
// problems nor entries.
func languageOf(name string) language {
	ext := strings.ToLower(path.Ext(name))
	return languages[cmp.Or(sameLanguage[ext], ext)]
}

// HasReader reports whether Problem can read files of this name's language.
func HasReader(name string) bool { return languageOf(name).problem != nil }

// Problem says what is wrong with a file's text, in a few words with the line;
// empty where nothing is, or where nothing here reads the language. That is the
// grammar, and what joined texts often bring about: names declared twice in one
// scope, and keys that are there twice. Texts that are too large or nest too deep (see
// tame.go) are not read.
func Problem(name, text string) string {
	if read := languageOf(name).problem; read != nil && tame(text) {
		return read(text)
	}
	return ""
}
