package misfit

import (
	"path"
)

// goDefines are lines of Go that define a name, also where no whole file is at hand to be parsed.
var goDefines = &language{family: "go", defs: exprs(`^func\s+(?:\([^)]*\)\s*)?(\w+)`, `^(?:type|var|const)\s+(\w+)`,
	`^\t(\w+)\s+(?:=\s|[\w*\[\]().]+(?:\s*=|\s*$|\s+["\x60/]))`, `^\t(\w+)\(.*\)[^{]*$`)}

// Defines lists the names that lines of a file define, as far as that shows by how they begin; none where its language
// is not known.
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

// HasName reports whether a text has a name as a word of its own.
func HasName(text, name string) bool { return hasWord(text, name) }
