package vcs

import (
	"crypto/sha256"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// Remote is the name of a remote or a URL, which may contain a password or a token. Pass string(r) to git alone. Use
// r.String() or r.Key() everywhere else.
type Remote string

// String returns the name without secrets.
func (r Remote) String() string { return WithoutSecrets(string(r)) }

// MarshalText returns the name without secrets for JSON.
func (r Remote) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// Key returns the name for use in file and ref names: the name itself if it is plain, otherwise a hash.
func (r Remote) Key() string {
	if plainRemote.MatchString(string(r)) && !strings.HasSuffix(string(r), ".lock") {
		return string(r)
	}
	return fmt.Sprintf("%x", sha256.Sum256([]byte(r)))[:16]
}

var (
	plainRemote = rx.New(`^[A-Za-z0-9_]+([.-][A-Za-z0-9_]+)*$`)
	userInfo    = rx.New(`([A-Za-z][A-Za-z0-9+.-]*://)[^\s/'"<>]*@`)
	urlQuery    = rx.New(`([A-Za-z][A-Za-z0-9+.-]*://[^\s?#'"<>]*)[?#][^\s'"<>]*`)
)

// WithoutSecrets removes user information, query and fragment from every URL in a text, because they may contain a
// password or a token.
func WithoutSecrets(text string) string {
	return urlQuery.ReplaceAllString(userInfo.ReplaceAllString(text, "$1"), "$1")
}
