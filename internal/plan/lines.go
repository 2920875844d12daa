package plan

import (
	"context"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/replay"
)

// LineOrigin is the side that a line of a joined file comes from.
type LineOrigin uint8

const (
	LineBase   LineOrigin = iota // the base's line
	LineYours                    // only yours has the line
	LineTheirs                   // only theirs has the line
	LineJoined                   // both sides have the line, or the join made it
)

// Line is a line of a joined file.
type Line struct {
	Origin LineOrigin
	Text   string // the line without its end
}

// Lines returns the lines of a file with their origins. ok is false if the path is no text.
func (rd *Reader) Lines(ctx context.Context, p *Position, tree object.ID, path string) (lines []Line, ok bool,
	err error) {
	joinedText, ok, err := rd.TextAt(ctx, tree, path)
	if err != nil || !ok {
		return nil, false, err
	}
	result := diff.Lines(joinedText)
	tips := merge.Three[object.ID]{Base: p.Base(), Yours: p.Yours, Theirs: p.Theirs}
	has, err := merge.MapThree(tips, func(commit object.ID) ([]bool,
		error) {
		return rd.hasLines(ctx, commit, path, result)
	})
	if err != nil {
		return nil, false, err
	}
	lines = make([]Line, len(result))
	for i, text := range result {
		lines[i] = Line{origin(has.Base[i], has.Yours[i], has.Theirs[i]), strings.TrimSuffix(text, "\n")}
	}
	return lines, true, nil
}

// SidesOf returns a file in base, yours and theirs. Missing files are empty. ok is false if a version is no text.
func (rd *Reader) SidesOf(ctx context.Context, p *Position, path string) (out merge.Three[string], ok bool, err error) {
	ok = true
	out, err = merge.MapThree(merge.Three[object.ID]{Base: p.Base(), Yours: p.Yours, Theirs: p.Theirs},
		func(commit object.ID) (string, error) {
			if commit.IsZero() {
				return "", nil
			}
			tree, err := rd.Tree(ctx, commit)
			if err != nil {
				return "", err
			}
			e, err := rd.Store.Find(ctx, tree, path)
			if err != nil || e.Absent() {
				return "", err
			}
			text, is, err := rd.TextAt(ctx, tree, path)
			ok = ok && is
			return text, err
		})
	return out, ok, err
}

// hasLines reports for each line whether the commit's file contains it.
func (rd *Reader) hasLines(ctx context.Context, commit object.ID, path string, result []string) ([]bool, error) {
	has := make([]bool, len(result))
	if commit.IsZero() {
		return has, nil
	}
	tree, err := rd.Tree(ctx, commit)
	if err != nil {
		return nil, err
	}
	text, ok, err := rd.TextAt(ctx, tree, path)
	if err != nil || !ok {
		return has, err
	}
	for k := range has {
		has[k] = true
	}
	for _, e := range diff.Histogram(diff.Lines(text), result) {
		for k := e.B0; k < e.B1; k++ {
			has[k] = false
		}
	}
	return has, nil
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

// TextAt returns the text of a file. ok is false if the path is no text.
func (rd *Reader) TextAt(ctx context.Context, tree object.ID, path string) (text string, ok bool, err error) {
	e, err := rd.Store.Find(ctx, tree, path)
	if err != nil || !e.Mode.IsRegular() {
		return "", false, err
	}
	data, err := rd.Store.Blob(ctx, e.ID)
	if err != nil || !merge.IsText(data) {
		return "", false, err
	}
	return string(data), true, nil
}

// TextAfter is TextAt for the tree after a replayed step.
func (rd *Reader) TextAfter(ctx context.Context, st *replay.Step, path string) (text string, ok bool, err error) {
	tree, err := st.Tree(ctx)
	if err != nil {
		return "", false, err
	}
	return rd.TextAt(ctx, tree, path)
}
