package format

import "strings"

// Readers of formats recurse, and some need time and memory that grow with the square
// of the depth or worse: 2,000 YAML dashes within each other allocate 4 GB, and so does
// a TOML key of 10,000 parts. Texts beyond these limits are handled as plain text.
const (
	mostDepth = 200     // deepest nesting of brackets, tags, indents or parts of a key
	mostText  = 4 << 20 // bytes
)

// Tame reports whether a text is small and flat enough to be parsed. It takes linear time.
func Tame(text string) bool { return len(text) <= mostText && !deeper(text, mostDepth) }

// deeper reports whether a text nests deeper than a limit in brackets, tags, indents with list dashes, or keys of
// several parts. It ignores strings and comments, so it may count too much.
func deeper(text string, limit int) bool {
	brackets, tags, dots := 0, 0, 0
	var columns []int // columns of the open indents
	for line := range strings.Lines(text) {
		at := len(line) - len(strings.TrimLeft(line, " \t"))
		for len(columns) > 0 && columns[len(columns)-1] >= at && strings.TrimSpace(line) != "" {
			columns = columns[:len(columns)-1]
		}
		columns = append(columns, at)
		rest := line[at:]
		for strings.HasPrefix(rest, "- ") || strings.HasPrefix(rest, "? ") || strings.HasPrefix(rest, ": ") {
			at += 2
			rest = rest[2:]
			columns = append(columns, at)
		}
		dots = 0
		for i := range len(rest) {
			switch rest[i] {
			case '.':
				dots++
			case ',', '=', ':', ';':
				dots = 0
			case '(', '[', '{':
				brackets++
				dots = 0
			case ')', ']', '}':
				brackets = max(0, brackets-1)
			case '<':
				switch next := rest[i+1:]; {
				case strings.HasPrefix(next, "/"):
					tags = max(0, tags-1)
				case next != "" && next[0] > ' ' && next[0] != '=' && next[0] != '!' && next[0] != '?':
					tags++
				}
			case '>':
				if i > 0 && rest[i-1] == '/' {
					tags = max(0, tags-1)
				}
			}
			if brackets > limit || tags > limit || dots > limit {
				return true
			}
		}
		if len(columns) > limit {
			return true
		}
	}
	return false
}
