package object

import (
	"fmt"
	"strings"
)

// NameError reports that a tree holds a name that is never to be written to disk.
type NameError struct{ Path string }

func (e *NameError) Error() string {
	return fmt.Sprintf("a tree holds the path %q, which could overwrite a repository's own files; git does not check "+
		"it out, and neither does Dorvik", e.Path)
}

// CheckName reports a name of a tree that some file system takes for the current
// or the parent directory or for a repository's own: case, marks that HFS+ leaves
// out, and endings and short forms of NTFS do not count.
func CheckName(name string) error {
	plain := strings.Map(func(r rune) rune {
		switch {
		case r >= 0x200c && r <= 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x206a && r <= 0x206f, r == 0xfeff:
			return -1
		}
		return r
	}, name)
	if name == "." || name == ".." {
		return &NameError{name}
	}
	plain, _, _ = strings.Cut(strings.ToLower(plain), ":")
	if plain = strings.TrimRight(plain, " ."); plain == ".git" || plain == "git~1" {
		return &NameError{name}
	}
	return nil
}

// CheckPath is CheckName for each name of a path.
func CheckPath(path string) error {
	for name := range strings.SplitSeq(path, "/") {
		if CheckName(name) != nil {
			return &NameError{path}
		}
	}
	return nil
}
