package format

import (
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
)

// knownBy lists the members that identify an object in a list.
var knownBy = []string{"id", "@id", "key", "name", "path", "uses", "Include", "Update", "ref"}

// source is one version of a text. Its marks are computed at their first use.
type source struct {
	lines    []string
	all      *merge.Three[*source]
	known    bool
	comments bool         // lines can be comments, after #
	marks    map[int]mark // nil if the text cannot be parsed
}

// mark is the beginning of an entry at a line; parent is the path of its group.
type mark struct {
	parent, key string
	bare        bool
	cells       *group // the entry's parts, if they are not lines
}

func (m mark) path() string { return m.parent + step + m.key }

// step separates the keys of a path. No format allows it in a key.
const step = "\x01"

// within reports whether a path leads into another one or equals it.
func within(path, other string) bool { return strings.HasPrefix(path+step, other+step) }

func (s *source) text(lo, hi int) string { return strings.Join(s.lines[lo:hi], "") }

// shifted reads entries that do not end with their lines. It passes the lines with each line end moved to the front.
// ok is false if the last line has no end.
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

// next returns the first line at or after a position that is not blank, or "".
func (s *source) next(at int) string {
	for _, l := range s.lines[at:] {
		if l = strings.TrimSpace(l); l != "" {
			return l
		}
	}
	return ""
}

// nowhere is the parent of lines that are no entries, such as the start of another document.
const nowhere = "\x00"

// lineEntries returns a reader from a function that finds the lines at which entries begin. Comments and blank lines
// above an entry belong to it.
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

// entries cuts lines of which the last is not blank. Of the YAML lines
//
//	a:
//	  b: 1
//	  c: 2
//
// it makes one group with the entry a, and inside that a group with b and c.
func (s *source) entries(lo, hi int) (levels []*group, ok bool) {
	begin, start := lo, -1 // the current entry: with what precedes it, and its first line
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
	return levels, start >= 0 || lo == hi // comments alone belong to no group
}

func indentOf(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " \t"))] }
