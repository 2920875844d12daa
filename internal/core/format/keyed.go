package format

import (
	"cmp"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/merge"
)

// group is a run of entries of a structured text in its original spelling: an object and its members, a table and its
// keys, an element and its children, a row and its cells. Its text is the head, the entries with separators between
// them, and the tail. In {"a": 1, "b": 2} the head is "{", the entries are "\"a\": 1" and " \"b\": 2", the separator
// is "," and the tail is "}".
type group struct {
	head, tail string
	sep        string // text between two entries
	last       string // text after the last entry
	entries    []entry
	of         string // key of the entry that holds the group, if known
}

// entry is one entry of a group with the white space and comments before it.
type entry struct {
	key    string // identifies the entry in its group
	text   string
	inside *group // the entry's own entries, or nil
	bare   bool   // the entry has no key, only its text
	name   string // second key: valid if no other entry has the name
}

func (g *group) String() string {
	var b strings.Builder
	b.WriteString(g.head)
	for i, e := range g.entries {
		b.WriteString(e.text)
		if i < len(g.entries)-1 {
			b.WriteString(g.sep)
		} else {
			b.WriteString(g.last)
		}
	}
	b.WriteString(g.tail)
	return b.String()
}

// find returns the entry of a key, or nil.
func (g *group) find(key string) *entry {
	for i := range g.entries {
		if g.entries[i].key == key {
			return &g.entries[i]
		}
	}
	return nil
}

// sound reports whether no key occurs twice.
func (g *group) sound() bool {
	seen := map[string]bool{}
	for _, e := range g.entries {
		if seen[e.key] {
			return false
		}
		seen[e.key] = true
	}
	return true
}

// excerpt is the entries of a run of lines: those that end a group, those that follow it in the enclosing group, and
// so on, and final blank lines.
type excerpt struct {
	levels  []*group // innermost first; each level contains the one before it
	tail    string
	shifted bool // entries begin with the line end before them
}

// reader cuts a run of lines of a source into entries. ok is false if it cuts through one or contains something else.
type reader func(s *source, lo, hi int) (x excerpt, ok bool)

// Entries joins the three versions of a structured text entry by entry. A nil Entries joins nothing.
type Entries struct {
	read    reader
	sources merge.Three[*source]
}

// EntriesOf returns an Entries for a file, or nil if its format has no entries with keys. The file's name tells the
// format.
func EntriesOf(name string, t *merge.Text) *Entries {
	read := grammarOf(name).entries
	if read == nil {
		return nil
	}
	e := &Entries{read: read}
	for _, one := range []struct {
		of    **source
		lines []string
	}{{&e.sources.Base, t.Base}, {&e.sources.Yours, t.Yours}, {&e.sources.Theirs, t.Theirs}} {
		*one.of = &source{lines: one.lines, all: &e.sources}
	}
	return e
}

// Join returns the text of a place with both sides' edits to entries: additions, changes and removals under a key are
// applied whatever stands next to them. ok is false if the place does not consist of whole entries, or both sides
// changed one differently.
func (e *Entries) Join(place merge.Hunk) (text string, ok bool) {
	if e == nil {
		return "", false
	}
	base, ok := e.read(e.sources.Base, place.Base.Lo, place.Base.Hi)
	if !ok {
		return "", false
	}
	yours, ok := e.read(e.sources.Yours, place.Yours.Lo, place.Yours.Hi)
	if !ok {
		return "", false
	}
	theirs, ok := e.read(e.sources.Theirs, place.Theirs.Lo, place.Theirs.Hi)
	if !ok {
		return "", false
	}
	return joinExcerpts(base, yours, theirs)
}

// joinExcerpts joins level by level, the innermost first. ok is false if the versions are in different groups or a
// level cannot be joined.
func joinExcerpts(base, yours, theirs excerpt) (joined string, ok bool) {
	var of []string
	for _, x := range []excerpt{base, yours, theirs} {
		for _, g := range x.levels {
			if !slices.Contains(of, g.of) {
				of = append(of, g.of)
			}
		}
	}
	slices.SortFunc(of, func(a, b string) int { return len(b) - len(a) })
	var out strings.Builder
	for i, path := range of {
		if i > 0 && !within(of[i-1], path) {
			return "", false // the entries stand in different places
		}
		level := func(x excerpt) *group {
			for _, g := range x.levels {
				if g.of == path {
					return g
				}
			}
			return &group{of: path}
		}
		g, ok := joinGroups(level(base), level(yours), level(theirs))
		if !ok {
			return "", false
		}
		out.WriteString(g.String())
	}
	text := out.String()
	if rest, ok := strings.CutPrefix(text, "\n"); ok && yours.shifted {
		text = rest + "\n"
	}
	tail, ok := pick3(base.tail, yours.tail, theirs.tail)
	return text + tail, ok
}

// joinGroups joins two changed versions of a group. ok is false if they changed one entry differently.
func joinGroups(base, yours, theirs *group) (*group, bool) {
	base, yours, theirs = base.clone(), yours.clone(), theirs.clone()
	nameAlone(base, yours, theirs)
	head, ok1 := pick3(base.head, yours.head, theirs.head)
	tail, ok2 := pick3(base.tail, yours.tail, theirs.tail)
	order, ok3 := joinKeys(base, yours, theirs)
	if !ok1 || !ok2 || !ok3 {
		return nil, false
	}
	out := &group{head: head, tail: tail, sep: cmp.Or(yours.sep, theirs.sep), last: cmp.Or(yours.last, theirs.last)}
	for _, key := range order {
		e, ok := joinEntry(base.find(key), yours.find(key), theirs.find(key))
		if !ok {
			return nil, false
		}
		if e != nil {
			out.entries = append(out.entries, *e)
		}
	}
	return out, true
}

func (g *group) clone() *group {
	c := *g
	c.entries = slices.Clone(g.entries)
	return &c
}

// nameAlone identifies entries by their names if no group has a name twice.
func nameAlone(groups ...*group) {
	twice := map[string]bool{}
	for _, g := range groups {
		seen := map[string]bool{}
		for _, e := range g.entries {
			twice[e.name] = twice[e.name] || seen[e.name]
			seen[e.name] = true
		}
	}
	for _, g := range groups {
		for i := range g.entries {
			if e := &g.entries[i]; e.bare && e.name != "" && !twice[e.name] {
				e.key, e.bare = e.name, false
			}
		}
	}
}

// pick3 joins three values that cannot be divided.
func pick3(base, yours, theirs string) (string, bool) {
	if yours == base {
		return theirs, true
	}
	return yours, theirs == base || theirs == yours
}

func joinEntry(base, yours, theirs *entry) (*entry, bool) {
	text := func(e *entry) string {
		if e == nil {
			return ""
		}
		return e.text
	}
	won, ok := pick3(text(base), text(yours), text(theirs))
	switch {
	case ok && won == text(yours):
		return yours, true
	case ok:
		return theirs, true
	case yours == nil || theirs == nil || yours.inside == nil || theirs.inside == nil:
		return nil, false
	}
	was := &group{head: yours.inside.head, tail: yours.inside.tail}
	if base != nil {
		if was = base.inside; was == nil {
			return nil, false
		}
	}
	in, ok := joinGroups(was, yours.inside, theirs.inside)
	if !ok {
		return nil, false
	}
	return &entry{key: yours.key, text: in.String()}, true
}

// joinKeys returns the keys of both sides in the order of the side that changed it; the other side's new keys follow
// their predecessors. If both sides keep their keys sorted, so is the result.
func joinKeys(base, yours, theirs *group) ([]string, bool) {
	if !base.sound() || !yours.sound() || !theirs.sound() || exchanged(base, yours) || exchanged(base, theirs) {
		return nil, false
	}
	y, t := yours.keysIn(yours), theirs.keysIn(theirs)
	first, out, added := theirs, t, y // theirs stands first
	if !slices.Equal(base.keysIn(yours), yours.keysIn(base)) {
		if !slices.Equal(base.keysIn(theirs), theirs.keysIn(base)) && !slices.Equal(yours.keysIn(theirs),
			theirs.keysIn(yours)) {
			return nil, false // both sides reordered them
		}
		first, out, added = yours, y, t
	}
	out = slices.Clone(out)
	for i, k := range added {
		if first.find(k) != nil {
			continue
		}
		at := 0
		if i > 0 {
			at = slices.Index(out, added[i-1]) + 1
		}
		for at < len(out) && base.find(out[at]) == nil && !slices.Contains(added, out[at]) {
			at++ // after the other side's additions in the same place
		}
		out = slices.Insert(out, at, k)
	}
	if len(y) > 1 && len(t) > 1 && slices.IsSorted(y) && slices.IsSorted(t) {
		slices.Sort(out)
	}
	return out, true
}

// keysIn returns the keys that another group has too, in order.
func (g *group) keysIn(other *group) (out []string) {
	for _, e := range g.entries {
		if other.find(e.key) != nil {
			out = append(out, e.key)
		}
	}
	return out
}

// exchanged reports whether a side both added and removed entries that only their text identifies. One of them may be
// a changed version of another.
func exchanged(base, side *group) bool {
	came := func(g, before *group) bool {
		return slices.ContainsFunc(g.entries, func(e entry) bool { return e.bare && before.find(e.key) == nil })
	}
	return came(side, base) && came(base, side)
}
