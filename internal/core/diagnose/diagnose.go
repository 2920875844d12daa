// Package diagnose parses the output of builds and tests and finds the places that it mentions.
package diagnose

import (
	"path"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// Place is a place in a file that a build reports.
type Place struct {
	Path string // slash-separated, from the top of the project
	Line int    // from 1
	Col  int    // from 1 in bytes; 0 if none was given
	Text string
}

// goTested is the line by which go test names the package of the lines before it, which contain base names only.
var goTested = rx.New(`^(?:FAIL|ok  )\t(\S+)`)

// Places lists the places in an output once each, in order; the first cause comes first. root is the directory of the
// build. find lists the project's files of a base name, for output without directories. Places omits warnings and
// notes of compilers, and files outside the project.
func Places(output []string, root string, find func(base string) []string) []Place {
	lines := make([]string, len(output))
	for i, l := range output {
		lines[i] = plain(l)
	}
	f := &finder{root: root, find: find, seen: map[Place]bool{}}
	for i := 0; i < len(lines); {
		i += f.read(lines, i)
	}
	f.resolve("")
	return f.out
}

// finder collects places.
type finder struct {
	root string
	find func(base string) []string

	out      []Place
	seen     map[Place]bool
	unplaced []int  // indexes of findings whose base name is in several folders
	file     string // the heading that eslint prints its rows under
	why      string // what pytest says before the place
}

// read parses what begins at a line and returns the number of its lines.
func (f *finder) read(lines []string, at int) int {
	l := lines[at]
	if m := goTested.FindStringSubmatch(l); m != nil {
		f.resolve(m[1])
		return 1
	}
	if m := eslintFile.FindStringSubmatch(l); m != nil && at+1 < len(lines) && eslintRow.MatchString(lines[at+1]) {
		f.file = m[1]
		return 1
	}
	if m := eslintRow.FindStringSubmatch(l); m != nil && f.file != "" {
		f.add(Place{f.file, number(m[1]), number(m[2]), m[3]})
		return 1
	}
	if m := pytestWhy.FindStringSubmatch(l); m != nil {
		if f.why == "" {
			f.why = m[1]
		}
		return 1
	}
	if m := pytestRow.FindStringSubmatch(l); m != nil {
		text := m[3]
		if f.why != "" {
			text = f.why
		}
		f.add(Place{m[1], number(m[2]), 0, text})
		f.why = ""
		return 1
	}
	for _, read := range readers {
		p, n, ok := read(lines, at)
		if !ok {
			continue
		}
		if !f.add(p) {
			for _, other := range frames(lines, at, n) { // the next outer frame of a traceback
				if f.add(Place{other[0], number(other[1]), 0, p.Text}) {
					break
				}
			}
		}
		return n
	}
	return 1
}

// add adds a place unless it is known. ok is false if the project has no such file.
func (f *finder) add(p Place) (ok bool) {
	p.Path = clean(p.Path, f.root)
	known := f.find(path.Base(p.Path))
	switch {
	case p.Line == 0:
		return false
	case contains(known, p.Path):
	case len(known) == 0:
		return false
	case strings.Contains(p.Path, "/") || path.IsAbs(p.Path):
		return false // not a file of the project
	case len(known) == 1:
		p.Path = known[0]
	default:
		if !f.seen[p] {
			f.unplaced = append(f.unplaced, len(f.out))
		}
	}
	if !f.seen[p] {
		f.seen[p] = true
		f.out = append(f.out, p)
	}
	return true
}

// resolve finds the files that were given by base name alone in the directory of a package.
func (f *finder) resolve(pkg string) {
	for _, i := range f.unplaced {
		f.out[i].Path = closest(f.find(path.Base(f.out[i].Path)), pkg)
	}
	f.unplaced = nil
}

func clean(file, root string) string {
	file = strings.ReplaceAll(file, `\`, "/")
	if rest, ok := strings.CutPrefix(file, strings.TrimSuffix(root, "/")+"/"); ok {
		file = rest
	}
	return path.Clean(file)
}

func contains(list []string, s string) bool {
	for _, l := range list {
		if l == s {
			return true
		}
	}
	return false
}

// closest returns the file whose directory is the longest suffix of a package path.
func closest(files []string, pkg string) string {
	best := files[0]
	length := -1
	for _, f := range files {
		dir := path.Dir(f)
		if (pkg == dir || strings.HasSuffix(pkg, "/"+dir)) && len(dir) > length {
			best, length = f, len(dir)
		}
	}
	return best
}
