package format

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// jsonEntries parses members of an object or elements of a list.
func jsonEntries(s *source, lo, hi int) (excerpt, bool) {
	return s.shifted(lo, hi, func(text string) (*group, bool) {
		scan := &jsonScanner{text: text}
		g, ok := scan.group("", "")
		if !ok || scan.text != "" {
			return nil, false
		}
		// A comma after the last entry separates it from what follows, or is written there although nothing does.
		if next := s.next(hi); next != "" && !strings.HasPrefix(next, "}") && !strings.HasPrefix(next, "]") {
			g.last = g.sep
		}
		return g, true
	})
}

// jsonScanner cuts JSON text into entries. encoding/json parses the values. The scanner is needed because both sides
// usually change some members of an object, without its braces.
type jsonScanner struct{ text string }

// take returns the next n bytes and moves past them.
func (s *jsonScanner) take(n int) string {
	out := s.text[:n]
	s.text = s.text[n:]
	return out
}

func (s *jsonScanner) blanks() string {
	return s.take(len(s.text) - len(strings.TrimLeft(s.text, " \t\r\n")))
}

// group parses entries up to a closing sign or, if that is empty, to the end.
func (s *jsonScanner) group(head, closing string) (*group, bool) {
	g := &group{head: head, sep: ","}
	comma := false // after the last entry
	for {
		lead := s.blanks()
		if s.text == "" || s.text[0] == '}' || s.text[0] == ']' {
			if !strings.HasPrefix(s.text, closing) {
				return nil, false
			}
			g.tail = lead + s.take(len(closing))
			if comma {
				g.last = g.sep
			}
			return g, true
		}
		e, ok := s.entry(lead)
		if !ok {
			return nil, false
		}
		g.entries = append(g.entries, e)
		// Blanks between a value and its comma are not kept.
		rest := strings.TrimLeft(s.text, " \t\r\n")
		if comma = strings.HasPrefix(rest, ","); comma {
			s.text = rest[1:]
		} else if rest != "" && rest[0] != '}' && rest[0] != ']' {
			return nil, false
		}
	}
}

func (s *jsonScanner) entry(lead string) (entry, bool) {
	e := entry{text: lead, bare: true}
	value, inside, ok := s.value()
	if !ok {
		return e, false
	}
	if rest := strings.TrimLeft(s.text, " \t"); strings.HasPrefix(rest, ":") && json.Unmarshal([]byte(value),
		&e.key) == nil {
		e.key, e.bare = "."+e.key, false
		e.text += value + s.take(len(s.text)-len(rest)+1) + s.blanks()
		if value, inside, ok = s.value(); !ok {
			return e, false
		}
	} else {
		e.key = value
		for _, name := range knownBy {
			if in := inside; in != nil && e.bare && in.find("."+name) != nil {
				_, is, _ := strings.Cut(in.find("."+name).text, ":")
				e.key, e.bare = name+"="+strings.TrimSpace(is), false
			}
		}
	}
	if inside != nil {
		inside.head = e.text + inside.head
		e.inside = inside
	}
	e.text += value
	return e, true
}

// value parses one value. inside is its content if it is an object or a list.
func (s *jsonScanner) value() (text string, inside *group, ok bool) {
	all := s.text
	for _, signs := range []string{"{}", "[]"} {
		if strings.HasPrefix(all, signs[:1]) {
			if inside, ok = s.group(s.take(1), signs[1:]); !ok {
				return "", nil, false
			}
			return all[:len(all)-len(s.text)], inside, true
		}
	}
	dec := json.NewDecoder(strings.NewReader(all))
	var v json.RawMessage
	if dec.Decode(&v) != nil {
		return "", nil, false
	}
	return s.take(int(dec.InputOffset())), nil, true
}

func jsonProblem(text string) string {
	dec := json.NewDecoder(strings.NewReader(text))
	at := func(offset int64) int { return 1 + strings.Count(text[:min(int(offset), len(text))], "\n") }
	type level struct {
		keys  map[string]bool // keys read so far in an object; nil in an array
		value bool            // the next token is a member's value
	}
	var open []level
	for values := 0; ; {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) && values > 0 && len(open) == 0 {
			return ""
		}
		if err == nil && values > 0 && len(open) == 0 {
			err = errors.New("more text after the value")
		}
		if err != nil {
			offset := dec.InputOffset()
			var syntax *json.SyntaxError
			if errors.As(err, &syntax) {
				offset = syntax.Offset
			}
			return fmt.Sprintf("line %d: %v", at(offset), err)
		}
		if delim, ok := token.(json.Delim); ok && (delim == '}' || delim == ']') {
			open = open[:len(open)-1]
		} else if n := len(open); n > 0 && open[n-1].keys != nil && !open[n-1].value {
			key := token.(string)
			if open[n-1].keys[key] {
				return fmt.Sprintf("line %d: %q is there twice", at(dec.InputOffset()), key)
			}
			open[n-1].keys[key], open[n-1].value = true, true
			continue
		} else if ok {
			next := level{}
			if delim == '{' {
				next.keys = map[string]bool{}
			}
			open = append(open, next)
			continue
		}
		if n := len(open); n > 0 {
			open[n-1].value = false
		} else {
			values++
		}
	}
}
