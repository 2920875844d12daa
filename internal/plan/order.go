package plan

import (
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/misfit"
	"dorvik.dev/dorvik/internal/core/settle"
)

// mostOrdered is the number of contested texts up to which they are compared with each other.
const mostOrdered = 60

// inOrder returns contested files in the order in which they are asked, and why some come first: names, folders and
// kinds before contents, and what gives a name before what uses it. Otherwise the order stays.
func inOrder(files []*settle.File) (out []*settle.File, why map[*settle.File]string) {
	why = map[*settle.File]string{}
	var texts []*settle.File
	for _, f := range files {
		if f.Text == nil {
			out = append(out, f)
		} else {
			texts = append(texts, f)
		}
	}
	for _, f := range out {
		if len(texts) > 0 {
			why[f] = "names and kinds of files are asked before contents"
		}
	}
	if len(texts) > mostOrdered {
		return append(out, texts...), why
	}
	before := map[*settle.File][]*settle.File{} // what has to be asked before a file
	for _, f := range texts {
		for _, other := range texts {
			if name := gives(f, other); name != "" {
				before[other] = append(before[other], f)
				if why[f] == "" {
					why[f] = "it gives " + name + ", which " + other.Path + " uses"
				}
			}
		}
	}
	for len(texts) > 0 {
		waits := func(f *settle.File) bool {
			return slices.ContainsFunc(before[f], func(b *settle.File) bool { return slices.Contains(texts, b) })
		}
		i := max(0, slices.IndexFunc(texts, func(f *settle.File) bool {
			return !waits(
				f)
		})) // a circle has no first one
		out, texts = append(out, texts[i]), slices.Delete(texts, i, i+1)
	}
	return out, why
}

// gives returns a name that the contested lines of one file define and those of another use.
func gives(f, other *settle.File) string {
	if f == other {
		return ""
	}
	used := contested(other)
	for _, name := range misfit.Defines(f.Path, strings.SplitAfter(contested(f), "\n")) {
		if len(name) > 3 && misfit.HasName(used, name) {
			return name
		}
	}
	return ""
}

// contested returns both sides' lines of the contested places of a text.
func contested(f *settle.File) string {
	var out strings.Builder
	for _, q := range f.Questions {
		if !q.Whole() {
			out.WriteString(q.Yours)
			out.WriteString(q.Theirs)
		}
	}
	return out.String()
}
