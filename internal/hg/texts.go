package hg

import (
	"bytes"
	"crypto/sha1"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// The texts of Mercurial's storage (hg help internals.revlogs, internals.changegroups): a changeset, a manifest, and a
// file with what is known about a copy.

// hashOf returns the node of a text with its parents.
func hashOf(p1, p2 node, text []byte) (n node) {
	if bytes.Compare(p1[:], p2[:]) > 0 {
		p1, p2 = p2, p1
	}
	h := sha1.New()
	h.Write(p1[:])
	h.Write(p2[:])
	h.Write(text)
	h.Sum(n[:0])
	return n
}

// changeset is the text of a changeset.
type changeset struct {
	manifest node
	user     string
	when     int64 // seconds since the epoch
	west     int   // seconds that the time zone is behind UTC
	extra    map[string]string
	files    []string
	message  string
}

// parseChangeset reads the text of a changeset.
func parseChangeset(text []byte) (*changeset, error) {
	head, message, ok := strings.Cut(string(text), "\n\n")
	lines := strings.Split(head, "\n")
	if !ok && strings.HasSuffix(head, "\n") { // no files and no message
		lines = lines[:len(lines)-1]
	}
	if len(lines) < 3 {
		if len(lines) == 1 && strings.Trim(lines[0], "0") == "" { // an empty one, which old versions could make
			return &changeset{}, nil
		}
		return nil, fmt.Errorf("a changeset has %d lines where three are expected", len(lines))
	}
	c := &changeset{user: lines[1], files: lines[3:], message: message, extra: map[string]string{}}
	var err error
	if c.manifest, err = parseNode(lines[0]); err != nil {
		return nil, err
	}
	at := strings.SplitN(lines[2], " ", 3)
	seconds, _, _ := strings.Cut(at[0], ".") // some converters wrote fractions
	if c.when, err = strconv.ParseInt(seconds, 10, 64); err != nil {
		return nil, fmt.Errorf("a changeset has the date %q", lines[2])
	}
	if len(at) > 1 {
		c.west, _ = strconv.Atoi(at[1])
	}
	if len(at) > 2 {
		for pair := range strings.SplitSeq(at[2], "\x00") {
			if key, value, ok := strings.Cut(unescaped.Replace(pair), ":"); ok {
				c.extra[key] = value
			}
		}
	}
	return c, nil
}

var (
	escaped   = strings.NewReplacer("\\", "\\\\", "\n", "\\n", "\r", "\\r", "\x00", "\\0")
	unescaped = strings.NewReplacer("\\\\", "\\", "\\n", "\n", "\\r", "\r", "\\0", "\x00")
)

// encode returns the text of a changeset.
func (c *changeset) encode() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\n%s\n%d %d", c.manifest.hex(), c.user, c.when, c.west)
	for i, key := range slices.Sorted(maps.Keys(c.extra)) {
		b.WriteByte(" \x00"[min(i, 1)])
		b.WriteString(escaped.Replace(key + ":" + c.extra[key]))
	}
	b.WriteByte('\n')
	files := slices.Clone(c.files)
	slices.Sort(files)
	for _, f := range files {
		b.WriteString(f + "\n")
	}
	b.WriteString("\n" + c.message)
	return b.Bytes()
}

// signatureOf converts the text of a user to an author line; userOf is the reverse. Everything before " <" is the name;
// a text without brackets is a name, or an address if it has an @.
func signatureOf(c *changeset) object.Signature {
	sign, west := "+", c.west
	if west > 0 {
		sign = "-"
	} else {
		west = -west
	}
	s := object.Signature{When: c.when, Zone: fmt.Sprintf("%s%02d%02d", sign, west/3600, west/60%60)}
	user := strings.TrimSpace(c.user)
	open, end := strings.IndexByte(user, '<'), strings.LastIndexByte(user, '>')
	switch {
	case open >= 0 && end > open:
		s.Name, s.Email = strings.TrimSpace(user[:open]), user[open+1:end]
	case strings.Contains(user, "@") && !strings.Contains(user, " "):
		s.Email = user
	default:
		s.Name = user
	}
	s.Name = strings.Map(printing, s.Name)
	s.Email = strings.Map(printing, s.Email)
	return s
}

// printing leaves out what an author line cannot hold.
func printing(r rune) rune {
	if r == '<' || r == '>' || r == '\n' || r == 0 {
		return -1
	}
	return r
}

// userOf is the text of a user for an author line.
func userOf(s object.Signature) string {
	switch {
	case s.Email == "":
		return s.Name
	case s.Name == "":
		return s.Email
	}
	return s.Name + " <" + s.Email + ">"
}

// west returns the seconds that a time zone such as +0100 is behind UTC.
func west(zone string) int {
	_, ahead := object.Signature{Zone: zone}.Time().Zone()
	return -ahead
}

// file is a line of a manifest.
type file struct {
	path string
	node node
	flag byte // x for executable files, l for links, t for directories of a tree manifest, or 0
}

// mode returns the mode of a file.
func (f file) mode() object.Mode {
	switch f.flag {
	case 'x':
		return object.ModeExec
	case 'l':
		return object.ModeLink
	}
	return object.ModeFile
}

// flagOf returns the flag of a mode.
func flagOf(m object.Mode) byte {
	switch m {
	case object.ModeExec:
		return 'x'
	case object.ModeLink:
		return 'l'
	}
	return 0
}

// parseManifest reads a manifest: a line a file, sorted by path.
func parseManifest(text []byte) ([]file, error) {
	var out []file
	for len(text) > 0 {
		line, rest, _ := bytes.Cut(text, []byte("\n"))
		f, err := parseFile(line)
		if err != nil {
			return nil, err
		}
		out, text = append(out, f), rest
	}
	return out, nil
}

func parseFile(line []byte) (f file, err error) {
	path, rest, ok := bytes.Cut(line, []byte{0})
	if !ok || len(rest) < 40 || len(rest) > 41 {
		return f, fmt.Errorf("a manifest has the line %q", line)
	}
	f.path = string(path)
	if _, err := hex.Decode(f.node[:], rest[:40]); err != nil {
		return f, fmt.Errorf("a manifest has the line %q", line)
	}
	if len(rest) == 41 {
		f.flag = rest[40]
	}
	return f, nil
}

// encodeManifest returns the text of a manifest. The files are sorted by path.
func encodeManifest(files []file) []byte {
	var b bytes.Buffer
	for _, f := range files {
		b.WriteString(f.path)
		b.WriteByte(0)
		b.WriteString(f.node.hex())
		if f.flag != 0 {
			b.WriteByte(f.flag)
		}
		b.WriteByte('\n')
	}
	return b.Bytes()
}

// manifestDelta returns the delta between two manifests: whole lines, as hg expects them.
func manifestDelta(was, is []file) []byte {
	var out []byte
	at := 0 // offset in the old text
	for len(was) > 0 || len(is) > 0 {
		if len(was) > 0 && len(is) > 0 && was[0] == is[0] {
			at += was[0].size()
			was, is = was[1:], is[1:]
			continue
		}
		from := at
		var text []file
		for (len(was) > 0 || len(is) > 0) && (len(was) == 0 || len(is) == 0 || was[0] != is[0]) {
			if len(is) == 0 || len(was) > 0 && was[0].path <= is[0].path {
				if len(is) > 0 && was[0].path == is[0].path {
					text, is = append(text, is[0]), is[1:]
				}
				at += was[0].size()
				was = was[1:]
			} else {
				text, is = append(text, is[0]), is[1:]
			}
		}
		lines := encodeManifest(text)
		out = binary.BigEndian.AppendUint32(out, uint32(from))
		out = binary.BigEndian.AppendUint32(out, uint32(at))
		out = append(binary.BigEndian.AppendUint32(out, uint32(len(lines))), lines...)
	}
	return out
}

// size returns the length of the file's line in bytes.
func (f file) size() int {
	const digits, ends = 2 * len(node{}), 2 // a zero byte and a line feed
	n := len(f.path) + digits + ends
	if f.flag != 0 {
		n++
	}
	return n
}

const metaMark = "\x01\n"

// splitMeta divides the text of a file's revision into what is known about it, and its content.
func splitMeta(text []byte) (meta string, content []byte) {
	if !bytes.HasPrefix(text, []byte(metaMark)) {
		return "", text
	}
	end := bytes.Index(text[len(metaMark):], []byte(metaMark))
	if end < 0 {
		return "", text
	}
	end += 2 * len(metaMark)
	return string(text[:end]), text[end:]
}

// joinMeta is the reverse. Content that begins like a block of metadata gets an empty one.
func joinMeta(meta string, content []byte) []byte {
	if meta == "" && bytes.HasPrefix(content, []byte(metaMark)) {
		meta = metaMark + metaMark
	}
	if meta == "" {
		return content
	}
	return append([]byte(meta), content...)
}

// copyMeta is what is known about a copy.
func copyMeta(from string, at node) string {
	return metaMark + "copy: " + from + "\ncopyrev: " + at.hex() + "\n" + metaMark
}

// copyIn returns what a file is a copy of, by what is known about it.
func copyIn(meta string) string {
	for line := range strings.SplitSeq(meta, "\n") {
		if from, ok := strings.CutPrefix(line, "copy: "); ok {
			return from
		}
	}
	return ""
}
