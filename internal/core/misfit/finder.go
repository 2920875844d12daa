package misfit

import (
	"cmp"
	"context"
	"path"
	"slices"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// finder holds what one search has read.
type finder struct {
	store  *object.Overlay
	trees  Trees
	texts  map[object.ID]string
	sides  [2][]*file            // files of yours and theirs, by path
	news   [2]map[string][]*file // by word: files whose new lines contain it
	joined *object.Finder
	goes   *goshared // parsed and type-checked Go packages
	reads  *reading  // tokens of files in other languages
	still  map[stillKey]bool
}

// stillKey is a question that givenStill answered.
type stillKey struct {
	side merge.Side
	g    *given
	name string
}

// of returns a file that a side changed, or nil.
func (f *finder) of(side merge.Side, p string) *file {
	files := f.sides[index(side)]
	i, ok := slices.BinarySearchFunc(files, p, func(one *file, p string) int { return cmp.Compare(one.path, p) })
	if !ok {
		return nil
	}
	return files[i]
}

func (f *finder) tree(s merge.Side) object.ID {
	if s == merge.Theirs {
		return f.trees.Theirs
	}
	return f.trees.Yours
}

// at returns the joined entry of a path.
func (f *finder) at(ctx context.Context, p string) (object.Entry, error) {
	if f.joined == nil {
		f.joined = object.NewFinder(f.store)
	}
	return f.joined.Find(ctx, f.trees.Joined, p)
}

// stands reports whether the joined file still contains a side's line. A line that was decided otherwise is no misfit.
func (f *finder) stands(ctx context.Context, p, line string) (bool, error) {
	e, err := f.at(ctx, p)
	if err != nil {
		return false, err
	}
	text, err := f.text(ctx, e)
	return err == nil && slices.Contains(diff.Lines(text), line), err
}

// text returns the text of a file, or "" if it is missing or too large.
func (f *finder) text(ctx context.Context, e object.Entry) (string, error) {
	if !e.Mode.IsRegular() {
		return "", nil
	}
	if s, ok := f.texts[e.ID]; ok {
		return s, nil
	}
	data, err := f.store.Blob(ctx, e.ID)
	if err != nil {
		return "", err
	}
	s := ""
	if len(data) <= largestFile && merge.IsText(data) {
		s = string(data)
	}
	f.texts[e.ID] = s
	return s, nil
}

// using lists the files of a side whose new lines contain the first word of a name.
func (f *finder) using(side merge.Side, name string) []*file {
	for w := range words(name) {
		return f.news[index(side)][w]
	}
	return nil
}

// standing visits the new lines of a side that use a name and still stand in the joined tree. in returns which lines of
// a file use it, or nil if none can.
func (f *finder) standing(ctx context.Context, side merge.Side, name string, in func(one *file) (uses func(
	line int) bool),
	visit func(one *file, line int)) error {
	for _, one := range f.using(side, name) {
		uses := in(one)
		if uses == nil {
			continue
		}
		for _, i := range one.added() {
			if !uses(i) {
				continue
			}
			stands, err := f.stands(ctx, one.path, one.to[i])
			if err != nil {
				return err
			}
			if stands {
				visit(one, i)
			}
		}
	}
	return nil
}

// walk visits the files of a tree with the wanted names until visit stops it.
func (f *finder) walk(ctx context.Context, tree object.ID, dir string, want func(p string) bool,
	visit func(p string, e object.Entry) (
		more bool, err error)) (bool, error) {
	entries, err := f.store.Tree(ctx, tree)
	if err != nil {
		return false, err
	}
	for _, e := range entries {
		p := path.Join(dir, e.Name)
		more := true
		switch {
		case e.IsTree():
			more, err = f.walk(ctx, e.ID, p, want, visit)
		case e.Mode.IsRegular() && want(p):
			more, err = visit(p, e)
		}
		if err != nil || !more {
			return false, err
		}
	}
	return true, nil
}

// The files that are looked through for what a suspicion is about, and how much text of them.
const (
	mostSearched = 3000
	mostRead     = 16 << 20
)

// anyIn reports whether one of the files of a tree with the wanted names has something. It returns true if there is too
// much to search.
func (f *finder) anyIn(ctx context.Context, tree object.ID, want func(p string) bool, has func(p, text string) bool) (
	yes bool, err error) {
	read, files := 0, 0
	_, err = f.walk(ctx, tree, "", want, func(p string, e object.Entry) (bool, error) {
		text, err := f.text(ctx, e)
		if err != nil {
			return false, err
		}
		read, files = read+len(text), files+1
		yes = read > mostRead || files > mostSearched || has(p, text)
		return !yes, nil
	})
	return yes, err
}

func index(s merge.Side) int {
	if s == merge.Theirs {
		return 1
	}
	return 0
}
