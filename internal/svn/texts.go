package svn

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
)

// Properties of Subversion that say how a file is written.
const (
	propExec     = "svn:executable"
	propLink     = "svn:special"
	propKeywords = "svn:keywords"
	propEOL      = "svn:eol-style"
)

// propsAt is the folder of a tree that holds the properties of all other paths: a file for each, of its name, with its
// value. No file of a working copy can have such a path.
const propsAt = ".svn/properties/"

// propPath returns where a tree holds a property of a path. svn:executable and svn:special are modes of the file.
func propPath(of, name string) string {
	if of != "" {
		of += "/"
	}
	return propsAt + of + name
}

// PropertyOf splits a path of a tree that holds a property. ok is false for a path that holds a file.
func PropertyOf(path string) (of, name string, ok bool) {
	rest, ok := strings.CutPrefix(path, propsAt)
	if !ok {
		return "", "", false
	}
	i := strings.LastIndexByte(rest, '/')
	return rest[:max(i, 0)], rest[i+1:], true
}

// isMode reports whether a property is a mode of the file in a tree.
func isMode(name string) bool { return name == propExec || name == propLink }

// modeOf returns the mode of a file with properties.
func modeOf(props map[string]string) object.Mode {
	if _, link := props[propLink]; link {
		return object.ModeLink
	}
	if _, exec := props[propExec]; exec {
		return object.ModeExec
	}
	return object.ModeFile
}

// linkMark begins the stored text of a symbolic link.
const linkMark = "link "

// Form is how the file of a path is written in a working copy.
type Form struct {
	keywords []string
	native   bool // lines end as the operating system has it
}

// formOf reads how a file with properties is written.
func formOf(props map[string]string) Form {
	return Form{keywordsIn(props[propKeywords]), strings.TrimSpace(props[propEOL]) == "native"}
}

// Stored returns the text that the repository has for one in a working copy: keywords are not filled in, and lines end
// with a line feed if their ends are the operating system's.
func (f Form) Stored(text []byte) []byte {
	if f.native {
		text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	}
	if len(f.keywords) == 0 || !bytes.Contains(text, []byte("$")) {
		return text
	}
	var out []byte
	was, done := string(text), 0
	for _, at := range keyword.FindAllStringIndex(was, -1) {
		found := was[at[0]+1 : at[1]-1]
		name, value, fixed := strings.Cut(found, "::")
		if !fixed {
			name, _, _ = strings.Cut(found, ":")
		}
		if !slices.Contains(f.keywords, name) {
			continue
		}
		if fixed { // the place for the value keeps its width
			name += "::" + strings.Repeat(" ", len(value))
		}
		out = append(append(out, was[done:at[0]+1]...), name...)
		done = at[1] - 1
	}
	return append(out, was[done:]...)
}

// keyword is a keyword in a text, filled in or not, on one line.
var keyword = rx.New(`\$[A-Za-z][A-Za-z0-9_]*(?::[^$\r\n]*)?\$`)

// sameKeyword lists names that mean the same.
var sameKeyword = [][]string{
	{"Date", "LastChangedDate"},
	{"Revision", "LastChangedRevision", "Rev"},
	{"Author", "LastChangedBy"},
	{"HeadURL", "URL"},
	{"Id"},
	{"Header"},
}

// keywordsIn reads the value of svn:keywords. A name with “=” is of the person's own making.
func keywordsIn(value string) (names []string) {
	for word := range strings.FieldsSeq(value) {
		word, _, own := strings.Cut(word, "=")
		same := []string{word}
		for _, row := range sameKeyword {
			if !own && slices.ContainsFunc(row, func(n string) bool { return strings.EqualFold(n, word) }) {
				same = row
			}
		}
		names = append(names, same...)
	}
	return names
}

// entryAt reads a file with properties as a tree has it, and when it was saved. It is absent if there is no file.
func entryAt(store *object.Overlay, full string, props map[string]string) (e object.Entry, saved time.Time, err error) {
	info, err := os.Lstat(full)
	if os.IsNotExist(err) || err == nil && info.IsDir() {
		return e, saved, nil
	}
	if err != nil {
		return e, saved, err
	}
	e, err = EntryOf(store, full, info, props)
	return e, info.ModTime(), err
}

// EntryOf puts a file with properties into an overlay, as the repository would store it.
func EntryOf(made *object.Overlay, full string, info fs.FileInfo, props map[string]string) (e object.Entry, err error) {
	e.Mode = modeOf(props)
	var data []byte
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		e.Mode = object.ModeLink
		var to string
		to, err = os.Readlink(full)
		data = []byte(to)
	case info.Mode().IsRegular():
		if e.Mode == object.ModeLink {
			e.Mode = object.ModeFile
		}
		data, err = os.ReadFile(full)
		data = formOf(props).Stored(data)
	default:
		return e, fmt.Errorf("%s is neither a file nor a link", full)
	}
	if err == nil {
		e.ID = made.Put(object.KindBlob, data)
	}
	return e, err
}
