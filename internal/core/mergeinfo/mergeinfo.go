// Package mergeinfo reads, joins and writes the property svn:mergeinfo of Subversion: which revisions of which other
// folders were brought into a folder. Its syntax is in notes/merge-tracking of Subversion's sources.
package mergeinfo

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Info lists, for the path of each folder in the repository (such as /trunk), the revisions of it that were brought in.
type Info map[string]Revisions

// Revisions are ranges, sorted and apart from each other.
type Revisions []Range

// Range is the revisions after one, up to another.
type Range struct {
	After, Upto int64 // After is at least 0, and less than Upto
	Alone       bool  // it is so of the folder itself only, and not of what is below it
}

// Parse reads a property. Each line has a path, a colon, and ranges such as 5, 7-9 and 12*, which begin at 1. The error
// names what is no such line. It takes O(n²) time for n ranges of one path.
func Parse(text string) (Info, error) {
	out := Info{}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if line == "" {
			continue
		}
		i := strings.LastIndexByte(line, ':')
		if i < 1 || line[0] != '/' {
			return nil, fmt.Errorf("svn:mergeinfo has the line %q, which names no folder and revisions", line)
		}
		for word := range strings.SplitSeq(line[i+1:], ",") {
			one, err := parseRange(word)
			if err != nil {
				return nil, fmt.Errorf("svn:mergeinfo of %s: %w", line[:i], err)
			}
			out.Add(line[:i], one)
		}
	}
	return out, nil
}

func parseRange(word string) (r Range, err error) {
	rest, alone := strings.CutSuffix(word, "*")
	first, last, several := strings.Cut(rest, "-")
	if !several {
		last = first
	}
	from, err := strconv.ParseInt(first, 10, 64)
	if err == nil {
		r.Upto, err = strconv.ParseInt(last, 10, 64)
	}
	r.After, r.Alone = from-1, alone
	if err != nil || from < 1 || r.Upto < from {
		return r, fmt.Errorf("%q is no range of revisions", word)
	}
	return r, nil
}

// String writes the property as svn does: a line for each path, in their order.
func (in Info) String() string {
	var lines []string
	for _, path := range slices.Sorted(maps.Keys(in)) {
		if len(in[path]) > 0 {
			lines = append(lines, path+":"+in[path].String())
		}
	}
	return strings.Join(lines, "\n")
}

// String writes ranges, such as 5,7-9,12*.
func (rs Revisions) String() string {
	var words []string
	for _, r := range rs {
		word := strconv.FormatInt(r.After+1, 10)
		if r.Upto > r.After+1 {
			word += "-" + strconv.FormatInt(r.Upto, 10)
		}
		if r.Alone {
			word += "*"
		}
		words = append(words, word)
	}
	return strings.Join(words, ",")
}

// Add adds revisions of a path.
func (in Info) Add(path string, more ...Range) { in[path] = in[path].With(more...) }

// Has reports whether a revision of a path was brought in, with what is below it.
func (in Info) Has(path string, rev int64) bool {
	return slices.ContainsFunc(in[path], func(r Range) bool { return r.After < rev && rev <= r.Upto && !r.Alone })
}

// With returns these revisions and more.
func (rs Revisions) With(more ...Range) Revisions {
	return combined(rs, more, func(a, b state) state { return max(a, b) })
}

// Without returns those of these revisions that others do not have.
func (rs Revisions) Without(others Revisions) Revisions {
	return combined(rs, others, func(a, b state) state {
		if b != absent {
			return absent
		}
		return a
	})
}

// state is what is known of a revision.
type state uint8

const (
	absent state = iota
	alone
	whole
)

// at returns the state of a revision.
func (rs Revisions) at(rev int64) (s state) {
	for _, r := range rs {
		if r.After < rev && rev <= r.Upto {
			if !r.Alone {
				return whole
			}
			s = alone
		}
	}
	return s
}

// combined returns the revisions whose states in two lists combine to one. Lists of ranges are short, so it looks at
// each piece between two ends of ranges.
func combined(a, b Revisions, combine func(a, b state) state) (out Revisions) {
	var ends []int64
	for _, r := range slices.Concat(a, b) {
		ends = append(ends, r.After, r.Upto)
	}
	slices.SortFunc(ends, cmp.Compare[int64])
	ends = slices.Compact(ends)
	for i := 1; i < len(ends); i++ {
		s := combine(a.at(ends[i]), b.at(ends[i]))
		if s == absent {
			continue
		}
		r := Range{ends[i-1], ends[i], s == alone}
		if n := len(out); n > 0 && out[n-1].Upto == r.After && out[n-1].Alone == r.Alone {
			out[n-1].Upto = r.Upto
		} else {
			out = append(out, r)
		}
	}
	return out
}

// Join joins what two sides made of a base: what either brought in is in, and what either took out is out. It never
// conflicts, and changes none of the three.
func Join(base, yours, theirs Info) Info {
	out := Info{}
	for _, side := range []Info{yours, theirs} {
		for path, revs := range side {
			out.Add(path, revs...)
		}
	}
	for path, was := range base {
		for _, side := range []Info{yours, theirs} {
			if out[path] = out[path].Without(was.Without(side[path])); len(out[path]) == 0 {
				delete(out, path)
			}
		}
	}
	return out
}
