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
	held := make([]heldNames, len(texts))
	for i, f := range texts {
		text := contested(f)
		held[i] = heldNames{text, misfit.Defines(f.Path, strings.SplitAfter(text, "\n"))}
	}
	before := map[*settle.File][]*settle.File{} // what has to be asked before a file
	for i, f := range texts {
		for k, other := range texts {
			if name := held[i].gives(held[k]); name != "" && i != k {
				before[other] = append(before[other], f)
				if why[f] == "" {
					why[f] = "it gives " + name + ", which " + other.Path + " uses"
				}
			}
		}
	}
	for len(texts) > 0 {
		ready := func(f *settle.File) bool {
			return !slices.ContainsFunc(before[f], func(b *settle.File) bool { return slices.Contains(texts, b) })
		}
		i := max(0, slices.IndexFunc(texts, ready)) // a circle has no first one
		out, texts = append(out, texts[i]), slices.Delete(texts, i, i+1)
	}
	return out, why
}

// heldNames is what the contested lines of a file hold.
type heldNames struct {
	text    string
	defined []string // names that they define
}

// gives returns a name that the lines define and those of another file use; one that both define is each file's own.
func (h heldNames) gives(other heldNames) string {
	for _, name := range h.defined {
		if len(name) > 3 && !slices.Contains(other.defined, name) && misfit.HasName(other.text, name) {
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
