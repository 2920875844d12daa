package settle

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// knownBy are the members by which an object is known among others that have them.
var knownBy = []string{"id", "@id", "key", "name", "path", "uses", "Include", "Update", "ref"}

// source is one version of a text. What its lines are is found out when it is first
// asked for.
type source struct {
	lines    []string
	all      *[3]*source // the three versions
	known    bool
	comments bool         // lines can be comments, after #
	marks    map[int]mark // nil where the text is not in order
}

// mark is what begins at a line: an entry of the group that parent knownBy.
type mark struct {
	parent, key string
	bare        bool
	cells       *group // what the entry is made of, where that is not lines
}

func (m mark) path() string { return m.parent + step + m.key }

// step is between the keys of a path. It is in no key that the formats allow.
const step = "\x01"

// within reports whether a path leads into another, or is it.
func within(path, other string) bool { return strings.HasPrefix(path+step, other+step) }

func (s *source) text(lo, hi int) string { return strings.Join(s.lines[lo:hi], "") }

// shifted reads entries that do not end with their lines: it hands on the lines as
// they stand behind the line before, with each line end before its line. ok is false
// where the last line has no end.
func (s *source) shifted(lo, hi int, read func(text string) (*group, bool)) (excerpt, bool) {
	text := s.text(lo, hi)
	if text != "" {
		var ended bool
		if text, ended = strings.CutSuffix(text, "\n"); !ended {
			return excerpt{}, false
		}
		text = "\n" + text
	}
	g, ok := read(text)
	return excerpt{levels: []*group{g}, shifted: true}, ok
}

// next is the first line from a place on that is not blank, or empty.
func (s *source) next(at int) string {
	for _, l := range s.lines[at:] {
		if l = strings.TrimSpace(l); l != "" {
			return l
		}
	}
	return ""
}

// nowhere is the parent of what can be no entry, such as the start of another document.
const nowhere = "\x00"

// lineEntries makes a reader of a function that finds the lines entries begin at.
// Comments and blank lines before an entry belong to it.
func lineEntries(find func(s *source) map[int]mark) reader {
	return func(s *source, lo, hi int) (excerpt, bool) {
		if !s.known {
			s.marks, s.known = find(s), true
		}
		if s.marks == nil {
			return excerpt{}, false
		}
		end := hi
		for end > lo && strings.TrimSpace(s.lines[end-1]) == "" {
			end--
		}
		levels, ok := s.entries(lo, end)
		x := excerpt{levels: levels, tail: s.text(end, hi)}
		if !ok || len(levels) == 0 {
			return x, ok
		}
		// The last entry has to end where the lines do.
		for at := hi; at < len(s.lines); at++ {
			if m, ok := s.marks[at]; ok {
				g := levels[len(levels)-1]
				return x, !within(m.parent, mark{parent: g.of, key: g.entries[len(g.entries)-1].key}.path())
			}
			if !s.idle(at) {
				return x, false
			}
		}
		return x, true
	}
}

// idle reports whether a line is blank or a comment.
func (s *source) idle(at int) bool {
	l := strings.TrimSpace(s.lines[at])
	return l == "" || s.comments && l[0] == '#'
}

// entries cuts lines of which the last is not blank.
func (s *source) entries(lo, hi int) (levels []*group, ok bool) {
	begin, start := lo, -1 // of the entry at hand: with what is before it, and its first line
	flush := func(to int) {
		m := s.marks[start]
		if n := len(levels); n == 0 || levels[n-1].of != m.parent {
			levels = append(levels, &group{of: m.parent})
		}
		e := entry{key: m.key, bare: m.bare, text: s.text(begin, to)}
		if m.cells != nil {
			e.inside = m.cells.clone()
			e.inside.head = s.text(begin, start)
		} else if in, ok := s.entries(start+1, to); ok && len(in) == 1 && in[0].of == m.path() {
			e.inside = in[0]
			e.inside.head = s.text(begin, start+1)
		}
		g := levels[len(levels)-1]
		g.entries = append(g.entries, e)
		begin = to
	}
	for at := lo; at < hi; at++ {
		m, marked := s.marks[at]
		switch {
		case !marked && start < 0 && !s.idle(at) || m.parent == nowhere:
			return nil, false
		case !marked:
		case start < 0:
			start = at
		case within(m.parent, s.marks[start].path()):
		case !within(s.marks[start].parent, m.parent):
			return nil, false // in another group
		default:
			to := at
			for to > start+1 && s.idle(to-1) && len(indentOf(s.lines[to-1])) <= len(indentOf(s.lines[at])) {
				to--
			}
			flush(to)
			start = at
		}
	}
	if start >= 0 {
		flush(hi)
	}
	return levels, start >= 0 || lo == hi // comments alone are of no group
}

// yamlMarks finds the keys and list items of block mappings and sequences.
func yamlMarks(s *source) map[int]mark {
	s.comments = true
	marks, plain := map[int]mark{}, true
	put := func(n *yaml.Node, m mark, dash string) string {
		if _, taken := marks[n.Line-1]; !taken {
			marks[n.Line-1] = m
			l := s.lines[n.Line-1]
			plain = plain && strings.HasPrefix(l[len(indentOf(l)):], dash) && (dash != "" || len(indentOf(l)) == n.Column-1)
		}
		return m.path()
	}
	var walk func(n *yaml.Node, of string)
	walk = func(n *yaml.Node, of string) {
		if n.Style&yaml.FlowStyle != 0 {
			return
		}
		switch n.Kind {
		case yaml.DocumentNode:
			for _, c := range n.Content {
				walk(c, of)
			}
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				k, v := n.Content[i], n.Content[i+1]
				walk(v, put(k, mark{parent: of, key: k.Value}, ""))
			}
		case yaml.SequenceNode:
			for _, c := range n.Content {
				m := mark{parent: of, key: yamlText(c), bare: true}
				for i := 0; c.Kind == yaml.MappingNode && i+1 < len(c.Content); i += 2 {
					if k := c.Content[i]; m.bare && slices.Contains(knownBy, k.Value) {
						m.key, m.bare = k.Value+"="+c.Content[i+1].Value, false
					}
				}
				walk(c, put(c, m, "- "))
			}
		}
	}
	dec := yaml.NewDecoder(strings.NewReader(s.text(0, len(s.lines))))
	for n := 0; ; n++ {
		var doc yaml.Node
		if err := dec.Decode(&doc); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil
		}
		walk(&doc, strconv.Itoa(n))
	}
	if !plain {
		return nil // keys or items are not where their lines begin
	}
	for i, l := range s.lines {
		if strings.HasPrefix(l, "---") || strings.HasPrefix(l, "...") {
			marks[i] = mark{parent: nowhere}
		}
	}
	return marks
}

// yamlText is the values of a node, in order.
func yamlText(n *yaml.Node) string {
	text := n.Value
	for _, c := range n.Content {
		text += "\x00" + yamlText(c)
	}
	return text
}

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
			table, rest = m.path(), "" // what follows is in it
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

var tomlName = regexp.MustCompile(`^\s*(id|key|name|path)\s*=\s*(.*?)\s*$`)

// tomlItem has an item of a list of tables be known by its name, or else by its text.
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

// tomlScanner follows strings and lists over line ends.
type tomlScanner struct {
	quote string // the open one of several lines, or empty
	depth int    // of lists
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

// row is one record of a CSV text.
type row struct {
	line, end int // its first line, and the offset behind it
	values    []string
	at        []int // the cells' offsets
}

// csvRows reads the records; ok is false where the text is not in order.
func csvRows(lines []string, text string) (rows []row, ok bool) {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma = csvComma(text)
	starts := []int{0} // of the lines
	for _, l := range lines {
		starts = append(starts, starts[len(starts)-1]+len(l))
	}
	for {
		values, err := r.Read()
		if err != nil {
			return rows, errors.Is(err, io.EOF)
		}
		first, _ := r.FieldPos(0)
		w := row{line: first - 1, end: int(r.InputOffset()), values: values}
		for i := range values {
			line, column := r.FieldPos(i)
			w.at = append(w.at, starts[line-1]+column-1)
		}
		rows = append(rows, w)
	}
}

// distinct reports whether rows have a value each in a column, and no two the same.
func distinct(rows []row, column int) bool {
	seen := map[string]bool{"": true}
	for _, w := range rows {
		if column >= len(w.values) || seen[w.values[column]] {
			return false
		}
		seen[w.values[column]] = true
	}
	return true
}

// csvMarks finds the rows. They are known by the first column that tells them apart in
// all three texts. The first row names the columns.
func csvMarks(s *source) map[int]mark {
	text := s.text(0, len(s.lines))
	rows, ok := csvRows(s.lines, text)
	if !ok || len(rows) == 0 {
		return nil
	}
	var all [][]row
	for _, other := range s.all {
		version, ok := csvRows(other.lines, other.text(0, len(other.lines)))
		if !ok {
			return nil
		}
		all = append(all, version)
	}
	key := 0
	for slices.ContainsFunc(all, func(version []row) bool { return len(version) > 0 && !distinct(version[1:], key) }) {
		if key++; key == len(rows[0].values) {
			return nil
		}
	}
	marks := map[int]mark{rows[0].line: {parent: nowhere}}
	for _, w := range rows[1:] {
		end := w.end
		for end > w.at[0] && strings.ContainsRune("\r\n", rune(text[end-1])) {
			end--
		}
		cells := &group{sep: string(csvComma(text)), tail: text[end:w.end]}
		for i, name := range rows[0].values {
			to := end
			if i+1 < len(w.at) {
				to = w.at[i+1] - 1
			}
			cells.entries = append(cells.entries, entry{key: name, text: text[w.at[i]:to]})
		}
		marks[w.line] = mark{parent: rows[0].values[key], key: w.values[key], cells: cells}
	}
	return marks
}

// jsonEntries reads members of an object, or elements of a list.
func jsonEntries(s *source, lo, hi int) (excerpt, bool) {
	return s.shifted(lo, hi, func(text string) (*group, bool) {
		scan := &jsonScanner{text: text}
		g, ok := scan.group("", "")
		if !ok || scan.text != "" {
			return nil, false
		}
		// A comma behind the last entry is the separator to what follows.
		if next := s.next(hi); next != "" && !strings.HasPrefix(next, "}") && !strings.HasPrefix(next, "]") {
			g.last = g.sep
		}
		return g, true
	})
}

// jsonScanner cuts JSON text into entries. It leaves the grammar of what has no
// entries to encoding/json.
type jsonScanner struct{ text string }

// take gives the next n bytes, and moves behind them.
func (s *jsonScanner) take(n int) string {
	out := s.text[:n]
	s.text = s.text[n:]
	return out
}

func (s *jsonScanner) blanks() string {
	return s.take(len(s.text) - len(strings.TrimLeft(s.text, " \t\r\n")))
}

// group reads entries up to a closing sign, or to the end where that is empty.
func (s *jsonScanner) group(head, closing string) (*group, bool) {
	g := &group{head: head, sep: ","}
	for {
		lead := s.blanks()
		if s.text == "" || s.text[0] == '}' || s.text[0] == ']' {
			if !strings.HasPrefix(s.text, closing) {
				return nil, false
			}
			g.tail = lead + s.take(len(closing))
			return g, true
		}
		e, ok := s.entry(lead)
		if !ok {
			return nil, false
		}
		g.entries = append(g.entries, e)
		// Blanks between a value and its comma are odd, and are not kept.
		if rest := strings.TrimLeft(s.text, " \t\r\n"); strings.HasPrefix(rest, ",") {
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
	if rest := strings.TrimLeft(s.text, " \t"); strings.HasPrefix(rest, ":") && json.Unmarshal([]byte(value), &e.key) == nil {
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

// value reads one value. inside is what it is made of, if it is made of something.
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

// xmlEntries reads elements.
func xmlEntries(s *source, lo, hi int) (excerpt, bool) {
	return s.shifted(lo, hi, func(text string) (*group, bool) {
		x := &xmlScanner{text, xml.NewDecoder(strings.NewReader(text))}
		x.dec.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
		g, mixed, _, ok := x.group("", "")
		return g, ok && !mixed
	})
}

type xmlScanner struct {
	text string
	dec  *xml.Decoder
}

// group reads elements up to the end of the one they stand in, or of the text where
// that has no name. mixed says that there is text between them; known, which of
// xmlNames there are, and what they hold.
func (x *xmlScanner) group(name, head string) (g *group, mixed bool, known string, ok bool) {
	g = &group{head: head}
	from := int(x.dec.InputOffset()) // what is before the next element begins here
	for {
		at := int(x.dec.InputOffset())
		token, err := x.dec.RawToken()
		to := int(x.dec.InputOffset())
		if errors.Is(err, io.EOF) {
			g.tail = x.text[from:]
			return g, mixed, known, name == ""
		}
		if err != nil {
			return nil, false, "", false
		}
		switch token := token.(type) {
		case xml.CharData:
			mixed = mixed || strings.TrimSpace(string(token)) != ""
		case xml.EndElement:
			g.tail = x.text[from:to]
			return g, mixed, known, name == token.Name.Local
		case xml.StartElement:
			in, leaf, is, ok := x.group(token.Name.Local, x.text[from:to])
			if !ok {
				return nil, false, "", false
			}
			end := int(x.dec.InputOffset())
			e := entry{key: token.Name.Local + x.text[at:end], bare: true, name: token.Name.Local, text: x.text[from:end], inside: in}
			if leaf || len(in.entries) == 0 {
				e.inside = nil
			}
			for _, name := range knownBy {
				for _, a := range token.Attr {
					if e.bare && a.Name.Local == name {
						e.key, e.bare = token.Name.Local+" "+name+"="+a.Value, false
					}
				}
			}
			if e.bare && is != "" {
				e.key, e.bare = token.Name.Local+is, false
			}
			if slices.Contains(xmlNames, token.Name.Local) && leaf {
				known += " " + token.Name.Local + "=" + x.text[to:end]
			}
			g.entries = append(g.entries, e)
			from = end
		}
	}
}

// xmlNames are the children by which an element is known among others.
var xmlNames = append([]string{"groupId", "artifactId", "classifier"}, knownBy...)
