package misfit

import (
	"path"
)

// goDefines matches lines of Go that define a name. It serves where no whole file can be parsed.
var goDefines = &language{family: "go", defs: exprs(`^func\s+(?:\([^)]*\)\s*)?(\w+)`, `^(?:type|var|const)\s+(\w+)`,
	`^\t(\w+)\s+(?:=\s|[\w*\[\]().]+(?:\s*=|\s*$|\s+["\x60/]))`, `^\t(\w+)\(.*\)[^{]*$`)}

// Defines lists the names that lines of a file define, as far as their beginnings show. Files of unknown languages
// define none.
func Defines(name string, lines []string) (out []string) {
	l := languageOf(name)
	if path.Ext(name) == ".go" {
		l = goDefines
	}
	if l == nil {
		return nil
	}
	for _, d := range l.definitions(lines) {
		out = append(out, d.name)
	}
	return out
}

// HasName reports whether a text contains a name as a word.
func HasName(text, name string) bool { return HasWord(text, name) }
