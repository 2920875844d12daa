// Package diagnose reads the output of builds and tests and finds the places
// it speaks of.
package diagnose

import (
	"path"
	"strings"

	"dorvik.dev/dorvik/internal/core/rx"
)

// Place is a place in a file that a build complains about.
type Place struct {
	Path string // slash-separated, from the top of the project
	Line int    // from 1
	Col  int    // from 1 in bytes; 0 where none was given
	Text string
}

// goTested is the line by which go test says which package the lines before it
// were about; those give base names only.
var goTested = rx.New(`^(?:FAIL|ok  )\t(\S+)`)

// Places lists the places an output speaks of, each once, in order: the first cause is the first. root is
// the folder the build ran in; find lists the project's files of a base name,
// for output that gives no folder. Warnings and notes of compilers are left out, and what is not of the project.
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
	unplaced []int  // found by base name alone, in several folders
	file     string // that eslint writes its rows under
	why      string // what pytest says before the place
}

// read reads what begins at a line, and returns how many lines that was.
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
			for _, other := range frames(lines, at, n) { // of a traceback, the next one out
				if f.add(Place{other[0], number(other[1]), 0, p.Text}) {
					break
				}
			}
		}
		return n
	}
	return 1
}

// add adds a place, if it is of a file of the project, and new. ok is false if it is of no such file.
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

// resolve places what is known by base name alone in the folder of a package, as far as that tells.
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

// closest picks the file whose folder is the longest ending of a package path.
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
