package format

import (
	"errors"
	"fmt"
	"strings"

	"github.com/BurntSushi/toml"

	"dorvik.dev/dorvik/internal/core/rx"
)

// tomlMarks finds the keys and tables.
func tomlMarks(s *source) map[int]mark {
	s.comments = true
	marks := map[int]mark{}
	var open tomlScanner
	table := ""
	for i, l := range s.lines {
		inside := open.inside()
		text := strings.TrimSpace(l)
		key, rest, assigns := strings.Cut(text, "=")
		switch {
		case inside || s.idle(i):
			rest = text
		case strings.HasPrefix(text, "["):
			m := mark{key: text, bare: strings.HasPrefix(text, "[[")}
			if m.bare {
				m = tomlItem(m, s.lines[i+1:])
			}
			marks[i] = m
			table, rest = m.path(), "" // the keys that follow belong to the table
		case assigns:
			marks[i] = mark{parent: table, key: strings.TrimSpace(key)}
		default:
			return nil
		}
		open.read(rest)
	}
	if open.inside() {
		return nil
	}
	return marks
}

var tomlName = rx.New(`^\s*(id|key|name|path)\s*=\s*(.*?)\s*$`)

// tomlItem identifies an item of a list of tables by its name, or else by its text.
func tomlItem(m mark, body []string) mark {
	head := m.key
	for _, l := range body {
		if strings.HasPrefix(strings.TrimSpace(l), "[") {
			break
		}
		if name := tomlName.FindStringSubmatch(l); name != nil {
			m.key, m.bare = head+" "+name[1]+"="+name[2], false
			return m
		}
		m.key += "\x00" + strings.TrimSpace(l)
	}
	return m
}

// tomlScanner follows strings and lists over line ends. The library returns the keys in order and the place of an
// error, but not the lines of the keys.
type tomlScanner struct {
	quote string // the quote of an open multi-line string, or empty
	depth int    // nesting depth of arrays
}

func (t *tomlScanner) inside() bool { return t.quote != "" || t.depth > 0 }

func (t *tomlScanner) read(s string) {
	for s != "" {
		if t.quote != "" {
			if t.quote == `"""` && s[0] == '\\' && len(s) > 1 {
				s = s[2:]
			} else if strings.HasPrefix(s, t.quote) {
				s, t.quote = s[3:], ""
			} else {
				s = s[1:]
			}
			continue
		}
		switch c := s[0]; {
		case strings.HasPrefix(s, `"""`), strings.HasPrefix(s, "'''"):
			t.quote = s[:3]
			s = s[2:]
		case c == '"' || c == '\'':
			end := 1
			for end < len(s) && s[end] != c {
				if c == '"' && s[end] == '\\' {
					end++
				}
				end++
			}
			s = s[min(end, len(s)-1):]
		case c == '#':
			return
		case c == '[':
			t.depth++
		case c == ']':
			t.depth--
		}
		s = s[1:]
	}
}

func tomlProblem(text string) string {
	var v map[string]any
	_, err := toml.Decode(text, &v)
	var parse toml.ParseError
	if errors.As(err, &parse) {
		return fmt.Sprintf("line %d: %s", parse.Position.Line, parse.Message)
	}
	if err != nil {
		return err.Error()
	}
	return ""
}
