package recovery

import (
	"context"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// About finds what the words of a refusal name among some commits: a commit by the first digits of its id, or by a file
// that it added or changed. It returns nil if they name nothing.
func (ps *Pusher) About(ctx context.Context, r *vcs.Refusal, commits []history.Node) (*About, error) {
	said := strings.Join(slices.Concat(r.Words, []string{r.Short}), "\n")
	for _, n := range commits {
		if namesCommit(said, n.ID) {
			out := &About{Commit: n}
			return out, ps.path(ctx, n, said, func(path string) { out.Path = path })
		}
	}
	var found *About
	for _, n := range commits { // newest first: the oldest commit that names a file brought it in
		err := ps.path(ctx, n, said, func(path string) { found = &About{Commit: n, Path: path} })
		if err != nil {
			return nil, err
		}
	}
	return found, nil
}

// namesCommit reports whether a text has at least the first seven digits of an id as a word.
func namesCommit(said string, id object.ID) bool {
	const leastDigits = 7
	between := func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }
	for word := range strings.FieldsFuncSeq(said, between) {
		if len(word) >= leastDigits && strings.HasPrefix(id.String(), word) {
			return true
		}
	}
	return false
}

// namesPath reports whether a text has a path that is no part of a longer one.
func namesPath(said, path string) bool {
	goesOn := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("/_-", r) }
	for rest := said; ; {
		before, after, found := strings.Cut(rest, path)
		if !found {
			return false
		}
		last, _ := utf8.DecodeLastRuneInString(before)
		next, _ := utf8.DecodeRuneInString(strings.TrimLeft(after, "."))
		if !goesOn(last) && last != '.' && !goesOn(next) {
			return true
		}
		rest = rest[len(before)+1:]
	}
}

// path passes a file that a commit changes and that a text names, if there is one.
func (ps *Pusher) path(ctx context.Context, n history.Node, said string, found func(path string)) error {
	return history.EachChange(ctx, ps.s.Planner.Store, n.Commit, func(c object.Change) {
		if namesPath(said, c.Path) && !c.New.Absent() {
			found(c.Path)
		}
	})
}
