// Package object holds git's object model as values: ids, blobs, trees and commits. New objects are made in an
// in-memory overlay, and a pack hands them to a repository. The formats are those of git's documentation
// (gitformat-pack, hash-function-transition).
package object

import (
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"strconv"
)

// Format is the hash function of a repository's object ids.
type Format uint8

// The formats.
const (
	SHA1 Format = iota
	SHA256
)

// ParseFormat reads a format as `git rev-parse --show-object-format` prints it.
func ParseFormat(s string) (Format, error) {
	switch s {
	case "sha1":
		return SHA1, nil
	case "sha256":
		return SHA256, nil
	}
	return 0, fmt.Errorf("unknown object format %q", s)
}

// Size returns the length of an id in bytes.
func (f Format) Size() int {
	if f == SHA256 {
		return sha256.Size
	}
	return sha1.Size
}

func (f Format) new() hash.Hash {
	if f == SHA256 {
		return sha256.New()
	}
	return sha1.New()
}

// Sum returns the id of an object of the given kind and content.
func (f Format) Sum(kind Kind, data []byte) ID {
	h := f.new()
	h.Write([]byte(kind.String() + " " + strconv.Itoa(len(data)) + "\x00"))
	h.Write(data)
	return ID{string(h.Sum(nil))}
}

// ID names an object. The zero ID names none. IDs are comparable.
type ID struct{ raw string }

// ParseID reads an id from its 40 or 64 hexadecimal digits.
func ParseID(s string) (ID, error) {
	raw, err := hex.DecodeString(s)
	if err != nil || (len(raw) != sha1.Size && len(raw) != sha256.Size) {
		return ID{}, fmt.Errorf("not an object id: %q", s)
	}
	return ID{string(raw)}, nil
}

// RawID returns the id with these 20 or 32 bytes.
func RawID(raw []byte) ID { return ID{string(raw)} }

// Raw returns the bytes of the id.
func (id ID) Raw() []byte { return []byte(id.raw) }

// IsZero reports whether the id names no object.
func (id ID) IsZero() bool { return id.raw == "" }

func (id ID) String() string { return hex.EncodeToString([]byte(id.raw)) }

// Prefix returns the first n hexadecimal digits, or nothing for the zero id. Other objects of the repository may share
// them.
func (id ID) Prefix(n int) string {
	all := id.String()
	return all[:min(n, len(all))]
}

// Less orders ids by their bytes.
func (id ID) Less(other ID) bool { return id.raw < other.raw }

// MarshalText returns the hexadecimal form, so ids can be JSON values and map keys.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText parses the hexadecimal form. An empty text is the zero ID.
func (id *ID) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*id = ID{}
		return nil
	}
	parsed, err := ParseID(string(text))
	*id = parsed
	return err
}

// Kind is the kind of an object.
type Kind uint8

// The kinds.
const (
	KindCommit Kind = iota + 1 // the numbers are those of the pack format
	KindTree
	KindBlob
	KindTag
)

var kindNames = [...]string{KindCommit: "commit", KindTree: "tree", KindBlob: "blob", KindTag: "tag"}

func (k Kind) String() string {
	if int(k) < len(kindNames) && k > 0 {
		return kindNames[k]
	}
	return "unknown"
}

// ParseKind parses the name of a kind, as in an object header.
func ParseKind(s string) (Kind, error) {
	for k, name := range kindNames {
		if name == s && k > 0 {
			return Kind(k), nil
		}
	}
	return 0, fmt.Errorf("unknown kind of object %q", s)
}
