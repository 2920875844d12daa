package object

import (
	"bytes"
	"fmt"
	"sort"
	"strconv"
	"strings"
)

// Mode is the mode of a tree entry.
type Mode uint32

const (
	ModeFile      Mode = 0o100644
	ModeExec      Mode = 0o100755
	ModeLink      Mode = 0o120000
	ModeTree      Mode = 0o040000
	ModeSubmodule Mode = 0o160000
)

// IsRegular reports whether the entry is a file with text or bytes in it.
func (m Mode) IsRegular() bool { return m&0o170000 == 0o100000 }

// SameType reports whether two modes are of the same kind of thing: both files,
// executable or not, both links, and so on.
func (m Mode) SameType(o Mode) bool { return m == o || m.IsRegular() && o.IsRegular() }

// Describe says in plain words what an entry of this mode is.
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

// Absent reports whether there is nothing here.
func (e Entry) Absent() bool { return e.Mode == 0 }

// IsTree reports whether the entry is a directory.
func (e Entry) IsTree() bool { return e.Mode == ModeTree }

// Same reports whether two entries hold the same thing, whatever their names.
func (e Entry) Same(o Entry) bool { return e.Mode == o.Mode && e.ID == o.ID }

// ParseTree reads a tree's content. Names and ids share the memory of data.
func ParseTree(f Format, data []byte) ([]Entry, error) {
	entries := make([]Entry, 0, len(data)/40)
	rest := string(data)
	for rest != "" {
		mode, after, ok := strings.Cut(rest, " ")
		name, after, ok2 := strings.Cut(after, "\x00")
		if !ok || !ok2 || len(after) < f.Size() {
			return nil, fmt.Errorf("tree is cut off after %d entries", len(entries))
		}
		m, err := strconv.ParseUint(mode, 8, 32)
		if err != nil || m == 0 {
			return nil, fmt.Errorf("tree entry %q has the mode %q", name, mode)
		}
		if name == "" || strings.Contains(name, "/") {
			return nil, fmt.Errorf("tree entry has the name %q", name)
		}
		entries = append(entries, Entry{name, Mode(m), ID{after[:f.Size()]}})
		rest = after[f.Size():]
	}
	return entries, nil
}

// EncodeTree writes a tree's content; it sorts the entries as trees are
// sorted, directories as though their names ended in a slash.
func EncodeTree(entries []Entry) []byte {
	sorted := append([]Entry(nil), entries...)
	sort.Slice(sorted, func(i, j int) bool { return sortName(sorted[i]) < sortName(sorted[j]) })
	var b bytes.Buffer
	for _, e := range sorted {
		b.WriteString(strconv.FormatUint(uint64(e.Mode), 8))
		b.WriteByte(' ')
		b.WriteString(e.Name)
		b.WriteByte(0)
		b.WriteString(e.ID.raw)
	}
	return b.Bytes()
}

func sortName(e Entry) string {
	if e.IsTree() {
		return e.Name + "/"
	}
	return e.Name
}
