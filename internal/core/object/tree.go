package object

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Mode is the mode of a tree entry.
type Mode uint32

// The modes that git writes.
const (
	ModeFile      Mode = 0o100644
	ModeExec      Mode = 0o100755
	ModeLink      Mode = 0o120000
	ModeTree      Mode = 0o040000
	ModeSubmodule Mode = 0o160000
)

// IsRegular reports whether the entry is a file with text or bytes.
func (m Mode) IsRegular() bool { return m&0o170000 == 0o100000 }

// today returns the mode that current versions of git use: of a file's mode only the owner's executable bit counts.
// Old trees contain others, such as 100664.
func (m Mode) today() Mode {
	switch {
	case !m.IsRegular():
		return m
	case m&0o100 != 0:
		return ModeExec
	}
	return ModeFile
}

// SameType reports whether two modes are of one type: both files, executable or not, both links, and so on.
func (m Mode) SameType(o Mode) bool { return m == o || m.IsRegular() && o.IsRegular() }

// Describe names the type of an entry in plain words.
func (m Mode) Describe() string {
	switch {
	case m == 0:
		return "nothing"
	case m == ModeTree:
		return "a directory"
	case m == ModeLink:
		return "a symbolic link"
	case m == ModeSubmodule:
		return "a submodule"
	case m == ModeExec:
		return "an executable file"
	}
	return "a file"
}

// Entry is one line of a tree. The zero Entry stands for an absent one.
type Entry struct {
	Name string
	Mode Mode
	ID   ID
}

// Absent reports whether the entry is the zero Entry.
func (e Entry) Absent() bool { return e.Mode == 0 }

// IsTree reports whether the entry is a directory.
func (e Entry) IsTree() bool { return e.Mode == ModeTree }

// IsFile reports whether the entry exists and is no directory: a file, a link or a submodule.
func (e Entry) IsFile() bool { return !e.Absent() && !e.IsTree() }

// Subtree returns the id of a directory, and for anything else the zero id, which is an empty tree.
func (e Entry) Subtree() ID {
	if e.IsTree() {
		return e.ID
	}
	return ID{}
}

// Detached returns a copy with its own memory. An entry that was read from a tree keeps the whole tree in memory.
func (e Entry) Detached() Entry {
	return Entry{strings.Clone(e.Name), e.Mode, ID{strings.Clone(e.ID.raw)}}
}

// Same reports whether two entries hold the same thing. Names do not count.
func (e Entry) Same(o Entry) bool { return e.Mode == o.Mode && e.ID == o.ID }

// parseTree parses the content of a tree. Names and ids share the memory of data.
func parseTree(f Format, data []byte) ([]Entry, error) {
	c := newCursor(f, data)
	entries := make([]Entry, 0, len(data)/(f.Size()+16))
	for c.next() {
		entries = append(entries, c.Entry)
	}
	return entries, c.err
}

// cursor reads the content of a tree entry by entry without allocating.
type cursor struct {
	Entry
	raw      string
	from, to int  // offsets of the entry in raw
	size     int  // bytes of an id
	odd      bool // the mode has a form that git no longer writes
	err      error
}

// newCursor returns a cursor before the first entry. Names and ids may share the memory of the content, which never
// changes.
func newCursor(f Format, data []byte) cursor {
	return cursor{raw: Shared(data), size: f.Size()}
}

// next goes to the next entry. It returns false at the end, and sets err if the tree is broken. Entry is then zero.
func (c *cursor) next() bool {
	c.from = c.to
	rest := c.raw[c.from:]
	m, i := modeOf(rest)
	// Most names are so short that a loop is faster than a search.
	end, slash := i+1, false
	for end < len(rest) && rest[end] != 0 {
		slash = slash || rest[end] == '/'
		end++
	}
	if rest == "" || slash || m == 0 || end == i+1 || rest[i] != ' ' || len(rest) < end+1+c.size {
		return c.ends(rest)
	}
	c.odd = i > 5 && m != ModeFile || i < 5 // today's modes have 5 digits, but for 6 of files such as 100644
	if c.odd {
		m = m.today()
		c.odd = rest[:i] != strconv.FormatUint(uint64(m), 8)
	}
	c.Name, c.Mode, c.ID.raw = rest[i+1:end], m, rest[end+1:end+1+c.size]
	c.to = c.from + end + 1 + c.size
	return true
}

// ends is next if no entry can be read.
func (c *cursor) ends(rest string) bool {
	c.Entry = Entry{}
	if rest == "" || c.err != nil {
		return false
	}
	m, i := modeOf(rest)
	end := strings.IndexByte(rest, 0)
	switch {
	case end < 0 || len(rest) < end+1+c.size:
		c.err = fmt.Errorf("tree is cut off at byte %d", c.from)
	case i >= end || rest[i] != ' ' || m == 0:
		c.err = fmt.Errorf("tree entry %q has no mode that can be read", rest[:end])
	default:
		c.err = fmt.Errorf("tree entry has the name %q", rest[i+1:end])
	}
	return false
}

// modeOf parses the mode at the beginning of an entry and returns its length in bytes.
func modeOf(entry string) (m Mode, n int) {
	switch { // nearly all modes are one of these two
	case strings.HasPrefix(entry, "100644 "):
		return ModeFile, 6
	case strings.HasPrefix(entry, "40000 "):
		return ModeTree, 5
	}
	for ; n < len(entry) && '0' <= entry[n] && entry[n] <= '7' && n < 8; n++ {
		m = m<<3 | Mode(entry[n]-'0')
	}
	return m, n
}

// encodeTree returns the content of a tree. It sorts the entries; directories sort as if their names ended in a slash.
func encodeTree(entries []Entry) []byte {
	if !slices.IsSortedFunc(entries, inTreeOrder) {
		entries = slices.SortedFunc(slices.Values(entries), inTreeOrder)
	}
	size := 0
	for _, e := range entries {
		size += 8 + len(e.Name) + len(e.ID.raw)
	}
	b := make([]byte, 0, size)
	for _, e := range entries {
		b = e.appendTo(b)
	}
	return b
}

func (e Entry) appendTo(b []byte) []byte {
	b = strconv.AppendUint(b, uint64(e.Mode), 8)
	b = append(b, ' ')
	b = append(b, e.Name...)
	b = append(b, 0)
	return append(b, e.ID.raw...)
}

// inTreeOrder compares entries in the order of trees: directories sort as if their names ended in a slash.
func inTreeOrder(a, b Entry) int {
	n := min(len(a.Name), len(b.Name))
	if c := strings.Compare(a.Name[:n], b.Name[:n]); c != 0 {
		return c
	}
	return int(a.charAt(n)) - int(b.charAt(n))
}

// charAt returns a byte of the name that an entry sorts by, or 0 beyond its end.
func (e Entry) charAt(i int) byte {
	switch {
	case i < len(e.Name):
		return e.Name[i]
	case i == len(e.Name) && e.IsTree():
		return '/'
	}
	return 0
}
