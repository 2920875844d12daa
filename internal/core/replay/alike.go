package replay

import (
	"context"
	"hash/maphash"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// mostLevels is the number of directory levels at which commits are compared by the names they change.
const mostLevels = 16

// alike finds the commits that may change the same paths as one of a set. It compares names from the top down and
// reads a directory only if all above it agree; for most commits that is the top alone.
type alike struct {
	store  *object.Overlay
	seed   maphash.Seed
	levels []map[names]bool // by depth: the changed names down to it, each with its commits
}

// names identifies a set of paths, cut at some depth with a slash where they continue, by the sum of their hashes.
type names uint64

func newAlike(store *object.Overlay, commits []pathsID) *alike {
	a := &alike{store: store, seed: maphash.MakeSeed()}
	deepest := 0
	for _, p := range commits {
		for _, c := range p.changes {
			deepest = min(mostLevels, max(deepest, 1+strings.Count(c.Path, "/")))
		}
	}
	for depth := 1; depth <= deepest; depth++ {
		level := map[names]bool{}
		for _, p := range commits {
			if len(p.changes) > 0 {
				level[a.cut(p.changes, depth)] = true
			}
		}
		a.levels = append(a.levels, level)
	}
	return a
}

func (a *alike) name(path string) names { return names(maphash.String(a.seed, path)) }

// cut returns the names that changes, in order of their paths, have down to a depth.
func (a *alike) cut(changes []object.Change, depth int) (sum names) {
	last := ""
	for _, c := range changes {
		end := 0
		for range depth {
			i := strings.IndexByte(c.Path[end:], '/')
			if i < 0 {
				end = len(c.Path)
				break
			}
			end += i + 1
		}
		if path := c.Path[:end]; path != last { // paths of one directory are adjacent
			sum += a.name(path)
			last = path
		}
	}
	return sum
}

// differing is a directory in which a commit changes something.
type differing struct {
	path     string // with a slash at its end
	old, new object.ID
}

// mayBe reports whether the difference of two trees may be the change of one of the commits.
func (a *alike) mayBe(ctx context.Context, before, after object.ID) (bool, error) {
	if before == after {
		return false, nil
	}
	var files names // the changed names down to the current level
	level := []differing{{"", before, after}}
	for _, known := range a.levels {
		here, below := level, names(0)
		level = nil
		var next []object.ID
		for _, dir := range here {
			if err := a.store.WalkDifferences(ctx, func(name string, at []object.Entry) error {
				path := dir.path + name
				if at[0].IsFile() || at[1].IsFile() {
					files += a.name(path)
				}
				if x, y := at[0].Subtree(), at[1].Subtree(); x != y {
					level = append(level, differing{path + "/", x, y})
					below += a.name(path + "/")
					next = append(next, x, y)
				}
				return nil
			}, dir.old, dir.new); err != nil {
				return false, err
			}
		}
		if !known[files+below] {
			return false, nil
		}
		a.store.Prefetch(ctx, next...)
	}
	return true, nil
}
