package object

import (
	"fmt"
	"strings"
)

// NameError reports a name in a tree that must never be written to disk.
type NameError struct{ Path string }

func (e *NameError) Error() string {
	return fmt.Sprintf("a tree holds the path %q, which could overwrite a repository's own files; git does not check "+
		"it out, and neither does Dorvik", e.Path)
}

// CheckName returns an error for a name that some file system takes for the current or parent directory or for a
// repository's own. It ignores case, the characters that HFS+ ignores, and the endings and short forms of NTFS.
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

// CheckPath applies CheckName to each name of a path.
func CheckPath(path string) error {
	for name := range strings.SplitSeq(path, "/") {
		if CheckName(name) != nil {
			return &NameError{path}
		}
	}
	return nil
}
