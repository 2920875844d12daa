package recovery

import (
	"strings"

	"dorvik/internal/core/diff"
	"dorvik/internal/core/merge"
	"dorvik/internal/core/object"
)

// LineOrigin says which side a line of a joined file comes from.
type LineOrigin uint8

const (
	LineBase   LineOrigin = iota // as it was
	LineYours                    // only yours has it so
	LineTheirs                   // only theirs
	LineJoined                   // both have it, or neither: it was made in joining
)

// Line is a line of a joined file.
type Line struct {
	Origin LineOrigin
	Text   string // without its line end
}

// Lines gives a file of a tree line by line, each with its origin. ok is false
// where there is no text at the path.
func (w *Workspace) Lines(p *Position, tree object.ID, path string) (lines []Line, ok bool, err error) {
	joinedText, ok, err := w.TextAt(tree, path)
	if err != nil || !ok {
		return nil, false, err
	}
	result := diff.Lines(joinedText)
	var in [3][]bool // whether base, yours and theirs have the line
	for i, c := range []object.ID{p.Base(), p.Yours, p.Theirs} {
		in[i] = make([]bool, len(result))
		if c.IsZero() {
			continue
		}
		t, err := w.Tree(c)
		if err != nil {
			return nil, false, err
		}
		text, ok, err := w.TextAt(t, path)
		if err != nil {
			return nil, false, err
		}
		if !ok {
			continue
		}
		for k := range in[i] {
			in[i][k] = true
		}
		for _, e := range diff.Histogram(diff.Lines(text), result) {
			for k := e.B0; k < e.B1; k++ {
				in[i][k] = false
			}
		}
	}
	lines = make([]Line, len(result))
	for i, text := range result {
		lines[i] = Line{origin(in[0][i], in[1][i], in[2][i]), strings.TrimSuffix(text, "\n")}
	}
	return lines, true, nil
}

func origin(inBase, inYours, inTheirs bool) LineOrigin {
	switch {
	case inBase:
		return LineBase
	case inYours && !inTheirs:
		return LineYours
	case inTheirs && !inYours:
		return LineTheirs
	}
	return LineJoined
}

// TextAt gives the text of a file of a tree; ok is false where the path holds
// no text.
func (w *Workspace) TextAt(tree object.ID, path string) (text string, ok bool, err error) {
	e, err := w.Store.Find(tree, path)
	if err != nil || !e.Mode.IsRegular() {
		return "", false, err
	}
	data, err := w.Store.Blob(e.ID)
	if err != nil || !merge.IsText(data) {
		return "", false, err
	}
	return string(data), true, nil
}
