package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
)

// MarkerFile is a file with conflict markers in a commit that will be pushed.
type MarkerFile struct {
	Commit  object.ID `json:"commit"`
	Subject string    `json:"subject"`
	Path    string    `json:"path"`
}

func (m MarkerFile) String() string {
	return fmt.Sprintf("%s in %s “%s”", m.Path, m.Commit.Prefix(12), m.Subject)
}

// ConflictMarkers searches the files of all commits that a push adds for conflict markers. read is the number of files
// searched.
func (rd *Reader) ConflictMarkers(ctx context.Context, remote, tip object.ID) (found []MarkerFile, read int,
	err error) {
	parted, err := history.Diverge(ctx, rd.Store, tip, remote)
	if err != nil {
		return nil, 0, err
	}
	known := map[object.ID]bool{} // by content: whether it has marks
	for _, n := range parted.Yours {
		if err := ctx.Err(); err != nil {
			return nil, read, err
		}
		before, err := history.FirstParentTree(ctx, rd.Store, n.Commit)
		if err != nil {
			return nil, read, err
		}
		changes, err := rd.Store.Changes(ctx, before, n.Tree)
		if err != nil {
			return nil, read, err
		}
		for _, c := range changes {
			if !c.New.Mode.IsRegular() {
				continue
			}
			marked, ok := known[c.New.ID]
			if !ok {
				data, err := rd.Store.Blob(ctx, c.New.ID)
				if err != nil {
					return nil, read, err
				}
				marked = merge.IsText(data) && hasMarks(string(data))
				known[c.New.ID] = marked
				read++
			}
			if !marked {
				continue
			}
			others, err := rd.othersHave(ctx, n, c)
			if err != nil {
				return nil, read, err
			}
			if !others {
				found = append(found, MarkerFile{n.ID, n.Subject(), c.Path})
			}
		}
	}
	return found, read, nil
}

// othersHave reports whether another parent of a merge has the same file, so that the merge does not introduce it.
func (rd *Reader) othersHave(ctx context.Context, n history.Node, c object.Change) (bool, error) {
	for _, p := range slices.Clone(n.Parents)[min(1, len(n.Parents)):] {
		tree, err := rd.Tree(ctx, p)
		if err != nil {
			return false, err
		}
		if at, err := rd.Store.Find(ctx, tree, c.Path); err != nil || at.ID == c.New.ID {
			return true, err
		}
	}
	return false, nil
}

func hasMarks(text string) bool {
	next := 0
	signs := []string{"<<<<<<< ", "=======", ">>>>>>> "}
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimSuffix(line, "\r")
		if strings.HasPrefix(line, signs[next]) && (next != 1 || line == signs[1]) {
			if next++; next == len(signs) {
				return true
			}
		}
	}
	return false
}
