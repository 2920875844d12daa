package object

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/encoding/ianaindex"
)

// Signature is a person and a time, as an author or committer line holds them.
type Signature struct {
	Name, Email string
	When        int64  // seconds since the epoch
	Zone        string // as written, such as +0100
}

// Key tells people apart: the address or, in a system without addresses, the name.
func (s Signature) Key() string {
	if s.Email == "" {
		return s.Name
	}
	return s.Email
}

// ParseSignature reads "Name <email> seconds zone". Real lines lack parts; a missing part is empty or zero.
func ParseSignature(s string) Signature {
	var sig Signature
	open, end := strings.IndexByte(s, '<'), strings.LastIndexByte(s, '>')
	if open < 0 || end < open {
		sig.Name = strings.TrimSpace(s)
		return sig
	}
	sig.Name = strings.TrimSpace(s[:open])
	sig.Email = s[open+1 : end]
	if f := strings.Fields(s[end+1:]); len(f) > 0 {
		sig.When, _ = strconv.ParseInt(f[0], 10, 64)
		if len(f) > 1 {
			sig.Zone = f[1]
		}
	}
	return sig
}

func (s Signature) String() string {
	return fmt.Sprintf("%s <%s> %d %s", s.Name, s.Email, s.When, s.Zone)
}

// Time returns the time in the author's zone. An unreadable zone counts as UTC.
func (s Signature) Time() time.Time {
	t := time.Unix(s.When, 0).UTC()
	if z, err := time.Parse("-0700", s.Zone); err == nil {
		t = t.In(z.Location())
	}
	return t
}

// Header is a line of a commit besides the usual ones, such as an encoding or a signature. Value may span lines.
type Header struct{ Key, Value string }

// Commit is a commit. AuthorLine is kept as written, so a replayed commit has the same author byte for byte.
type Commit struct {
	Tree       ID
	Parents    []ID
	AuthorLine string
	Committer  Signature
	Extra      []Header
	Message    string
}

// Author parses the author line.
func (c *Commit) Author() Signature { return ParseSignature(c.AuthorLine) }

// Subject returns the first line of the message in UTF-8. A message in an unknown encoding stays as it is.
func (c *Commit) Subject() string {
	s, _, _ := strings.Cut(strings.TrimLeft(c.Message, "\n"), "\n")
	return strings.TrimRight(c.decoded(s), "\r ")
}

// Text returns the whole message in UTF-8, as Subject does, without blank lines at its ends.
func (c *Commit) Text() string { return strings.Trim(c.decoded(c.Message), "\r\n ") }

func (c *Commit) decoded(s string) string {
	if name := c.Encoding(); name != "" {
		if enc, err := ianaindex.IANA.Encoding(name); err == nil && enc != nil {
			if decoded, err := enc.NewDecoder().String(s); err == nil {
				return decoded
			}
		}
	}
	return s
}

// Signed reports whether the commit has a signature, and its kind: OpenPGP, SSH or X.509.
func (c *Commit) Signed() (kind string, ok bool) {
	for _, h := range c.Extra {
		if h.Key != "gpgsig" && h.Key != "gpgsig-sha256" {
			continue
		}
		switch {
		case strings.HasPrefix(h.Value, "-----BEGIN SSH"):
			return "SSH", true
		case strings.HasPrefix(h.Value, "-----BEGIN SIGNED"):
			return "X.509", true
		}
		return "OpenPGP", true
	}
	return "", false
}

// Encoding returns the encoding of the message, or nothing for UTF-8.
func (c *Commit) Encoding() string {
	for _, h := range c.Extra {
		if h.Key == "encoding" {
			return h.Value
		}
	}
	return ""
}

// ParseCommit parses the content of a commit.
func ParseCommit(data []byte) (*Commit, error) {
	head, message, _ := strings.Cut(string(data), "\n\n")
	c := &Commit{Message: message}
	for line := range strings.SplitSeq(head, "\n") {
		if strings.HasPrefix(line, " ") && len(c.Extra) > 0 {
			c.Extra[len(c.Extra)-1].Value += "\n" + line[1:]
			continue
		}
		key, value, _ := strings.Cut(line, " ")
		var err error
		switch key {
		case "tree":
			c.Tree, err = ParseID(value)
		case "parent":
			var p ID
			p, err = ParseID(value)
			c.Parents = append(c.Parents, p)
		case "author":
			c.AuthorLine = value
		case "committer":
			c.Committer = ParseSignature(value)
		default:
			c.Extra = append(c.Extra, Header{key, value})
		}
		if err != nil {
			return nil, fmt.Errorf("commit header %q: %w", key, err)
		}
	}
	if c.Tree.IsZero() {
		return nil, fmt.Errorf("commit names no tree")
	}
	return c, nil
}

// Encode returns the content of the commit.
func (c *Commit) Encode() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "tree %s\n", c.Tree)
	for _, p := range c.Parents {
		fmt.Fprintf(&b, "parent %s\n", p)
	}
	fmt.Fprintf(&b, "author %s\ncommitter %s\n", c.AuthorLine, c.Committer)
	for _, h := range c.Extra {
		fmt.Fprintf(&b, "%s %s\n", h.Key, strings.ReplaceAll(h.Value, "\n", "\n "))
	}
	b.WriteByte('\n')
	b.WriteString(c.Message)
	return b.Bytes()
}
