package vcs

import (
	"crypto/sha256"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// Remote names a remote: by its name in the configuration, or by a URL, which may hold a
// password or a token. Give string(r) to git alone. Everything else takes r.String() or
// r.Key().
type Remote string

// String returns the name as people may see it.
func (r Remote) String() string { return WithoutSecrets(string(r)) }

// MarshalText returns JSON what people may see, too.
func (r Remote) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// Key returns the name as part of the name of a file or a ref: the name itself where that is plain, else a hash of it.
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

// WithoutSecrets takes user information, query and fragment out of every URL in a text: any
// of them may be a password or a token.
func WithoutSecrets(text string) string {
	return urlQuery.ReplaceAllString(userInfo.ReplaceAllString(text, "$1"), "$1")
}
