// Package diagnose reads the output of builds and tests and finds the places
// it speaks of.
package diagnose

import (
	"path"
	"regexp"
	"strconv"
	"strings"
)

// Place is a place in a file that a build complains about.
type Place struct {
	Path string // slash-separated, from the top of the project
	Line int    // from 1
	Col  int    // from 1 in bytes; 0 where none was given
	Text string
}

// placeLine is `file:line:col: text` or `file:line: text`, as Go, gcc and clang
// and many others write it. go vet puts "vet: " before it, go test indents.
var placeLine = regexp.MustCompile(`^\s*(?:vet: )?((?:[A-Za-z]:[\\/])?[^\s:][^:]*):(\d+)(?::(\d+))?:\s+(.*\S)`)

// goTested is the line by which go test says which package the lines before it
// were about; those give base names only.
var goTested = regexp.MustCompile(`^(?:FAIL|ok  )\t(\S+)`)

// Places lists the places an output speaks of, each once, in order. root is
// the folder the build ran in; find lists the project's files of a base name,
// for output that gives no folder. Warnings and notes of compilers are left out.
func Places(output []string, root string, find func(base string) []string) []Place {
	var out []Place
	seen := map[Place]bool{}
	var unplaced []int // found by base name alone, in several folders
	for _, l := range output {
		if m := goTested.FindStringSubmatch(l); m != nil {
			for _, i := range unplaced {
				out[i].Path = closest(find(path.Base(out[i].Path)), m[1])
			}
			unplaced = nil
			continue
		}
		m := placeLine.FindStringSubmatch(l)
		if m == nil {
			continue
		}
		text := m[4]
		if strings.HasPrefix(text, "warning:") || strings.HasPrefix(text, "note:") {
			continue
		}
		text = strings.TrimPrefix(strings.TrimPrefix(text, "fatal error: "), "error: ")
		p := Place{Path: clean(m[1], root), Text: text}
		p.Line, _ = strconv.Atoi(m[2])
		p.Col, _ = strconv.Atoi(m[3])
		if p.Line == 0 || seen[p] {
			continue
		}
		seen[p] = true
		known := find(path.Base(p.Path))
		switch {
		case contains(known, p.Path):
		case len(known) == 0 || strings.Contains(p.Path, "/") || path.IsAbs(p.Path):
			continue // not a file of the project
		case len(known) == 1:
			p.Path = known[0]
		default:
			unplaced = append(unplaced, len(out))
		}
		out = append(out, p)
	}
	for _, i := range unplaced {
		out[i].Path = closest(find(path.Base(out[i].Path)), "")
	}
	return out
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
