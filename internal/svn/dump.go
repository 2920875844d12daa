package svn

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// A dump is a stream of revisions, as svnrdump writes them (dump format 3, notes/dump-load-format.txt of Subversion).

// revision is who made a revision, when and why.
type revision struct {
	number int64
	author string
	date   time.Time
	log    string
}

// change is what a revision did to a file or folder.
type change struct {
	path     string // in the repository
	action   string // add, change, delete, replace
	dir      bool
	from     string // path that it is a copy of; empty for none
	fromRev  int64
	hasText  bool
	delta    []byte // of the text, on the one before or on that of from
	hasProps bool
	props    map[string]*string // nil for one that was removed
	fresh    bool               // they are all the properties, and not what changed of them
}

// dumpReader reads a dump.
type dumpReader struct{ in *bufio.Reader }

// errDump reports a dump that breaks off or is none.
var errDump = errors.New("svn sent revisions that cannot be read")

// readDump reads a dump and hands over each revision before its changes.
func readDump(from io.Reader, revisions func(revision) error, changes func(change) error) error {
	d := dumpReader{bufio.NewReaderSize(from, 1<<16)}
	for {
		h, err := d.headers()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if v := h["SVN-fs-dump-format-version"]; v != "" {
			if v != "3" && v != "2" {
				return fmt.Errorf("svn sent revisions in format %s, which Dorvik cannot read", v)
			}
			continue
		}
		props, text, err := d.body(h)
		if err != nil {
			return err
		}
		switch {
		case h["Revision-number"] != "":
			r, err := revisionIn(h["Revision-number"], props)
			if err == nil {
				err = revisions(r)
			}
			if err != nil {
				return err
			}
		case h["Node-action"] != "":
			c := change{path: h["Node-path"], action: h["Node-action"], dir: h["Node-kind"] == "dir",
				from: h["Node-copyfrom-path"], delta: text, hasProps: h["Prop-content-length"] != "", props: props,
				fresh: h["Prop-delta"] != "true"}
			_, c.hasText = h["Text-content-length"]
			if c.hasText && h["Text-delta"] != "true" {
				return fmt.Errorf("%w: a text is no difference", errDump)
			}
			if c.fromRev, err = strconv.ParseInt(h["Node-copyfrom-rev"], 10, 64); err != nil && c.from != "" {
				return errDump
			}
			if err := changes(c); err != nil {
				return err
			}
		}
	}
}

func revisionIn(number string, props map[string]*string) (r revision, err error) {
	if r.number, err = strconv.ParseInt(number, 10, 64); err != nil {
		return r, errDump
	}
	for name, into := range map[string]*string{"svn:author": &r.author, "svn:log": &r.log} {
		if p := props[name]; p != nil {
			*into = strings.ToValidUTF8(*p, "\uFFFD")
		}
	}
	if p := props["svn:date"]; p != nil {
		r.date, _ = time.Parse(time.RFC3339Nano, *p) // a revision without a date has none
	}
	return r, nil
}

// headers reads a block of headers with the empty line after it. Empty lines before it are passed over.
func (d dumpReader) headers() (map[string]string, error) {
	h := map[string]string{}
	for {
		line, err := d.in.ReadString('\n')
		switch {
		case errors.Is(err, io.EOF) && line == "" && len(h) == 0:
			return nil, io.EOF
		case err != nil:
			return nil, fmt.Errorf("%w: they break off", errDump)
		}
		if line = strings.TrimSuffix(line, "\n"); line == "" {
			if len(h) == 0 {
				continue
			}
			return h, nil
		}
		key, value, ok := strings.Cut(line, ": ")
		if !ok {
			return nil, fmt.Errorf("%w: %.40q is no header", errDump, line)
		}
		h[key] = value
	}
}

// body reads the properties and the text that headers announce.
func (d dumpReader) body(h map[string]string) (props map[string]*string, text []byte, err error) {
	var parts [2][]byte
	for i, key := range []string{"Prop-content-length", "Text-content-length"} {
		if h[key] == "" {
			continue
		}
		n, err := strconv.Atoi(h[key])
		if err != nil || n < 0 || n > most {
			return nil, nil, fmt.Errorf("%w: %s is %s", errDump, key, h[key])
		}
		var part bytes.Buffer // grows with what comes, not with what is announced
		if _, err := io.CopyN(&part, d.in, int64(n)); err != nil {
			return nil, nil, fmt.Errorf("%w: they break off", errDump)
		}
		parts[i] = part.Bytes()
	}
	props, err = propertiesIn(parts[0])
	return props, parts[1], err
}

// propertiesIn reads a block of properties: K and V with the lengths of name and value, D for one that was removed.
func propertiesIn(block []byte) (map[string]*string, error) {
	out := map[string]*string{}
	for len(block) > 0 {
		if bytes.HasPrefix(block, []byte("PROPS-END")) {
			return out, nil
		}
		kind, name, rest, ok := lengthened(block)
		if !ok || kind != 'K' && kind != 'D' {
			return nil, errDump
		}
		block = rest
		if kind == 'D' {
			out[name] = nil
			continue
		}
		kind, value, rest, ok := lengthened(block)
		if !ok || kind != 'V' {
			return nil, errDump
		}
		out[name], block = &value, rest
	}
	return out, nil
}

// lengthened reads a letter with a length, and so many bytes on the next line.
func lengthened(block []byte) (kind byte, value string, rest []byte, ok bool) {
	line, rest, found := bytes.Cut(block, []byte{'\n'})
	if !found || len(line) < 3 || line[1] != ' ' {
		return 0, "", nil, false
	}
	n, err := strconv.Atoi(string(line[2:]))
	if err != nil || n < 0 || n >= len(rest) || rest[n] != '\n' {
		return 0, "", nil, false
	}
	return line[0], string(rest[:n]), rest[n+1:], true
}
