// Package merge joins two changed versions of one base: texts line by line, in the manner of diff3 (S. Khanna, K.
// Kunal, B. C. Pierce, "A Formal Investigation of Diff3", 2007), and trees path by path. Different changes of one
// place become a typed conflict; nothing is dropped and nothing is decided here. [Engine.Trees] walks three trees at
// once (walk.go) and joins each file that both sides changed (file.go, text.go, and files for attributes, drivers and
// line ends). It finds the renames that matter (renames.go), applies each side's to the others and walks again
// (rename_apply.go, directories.go). The [Result] holds what joined and the conflicts. Several common ancestors are
// joined first (bases.go).
package merge

import (
	"context"

	"dorvik.dev/dorvik/internal/core/attr"
	"dorvik.dev/dorvik/internal/core/object"
)

// Engine joins trees over one store. It caches joined texts, so joining again after a decision costs only what the
// decision changes. It is safe for concurrent use.
type Engine struct {
	Store *object.Overlay

	// Contains reports whether a submodule's newer commit is older or descends from it. If Contains is nil or returns
	// false, two moves of a submodule are a conflict.
	Contains func(ctx context.Context, path string, older, newer object.ID) bool

	// Outside returns attributes from outside the trees, nil for none: the user's, which rank below those of the trees,
	// and the repository's, which rank above.
	Outside func(ctx context.Context) (below, above *attr.Rules)

	// Drive runs merge drivers. If it is nil, no driver is used.
	Drive Driver

	// Lone reports whether nothing can stand beside what is at a path under another name. It may be nil.
	Lone func(path string) bool

	// Ruled returns how contents at a path are joined that have rules of their own, such as a set; nil for others. The
	// function returns false for contents that it cannot read. Ruled may be nil.
	Ruled func(path string) func(base, yours, theirs []byte) (joined []byte, ok bool)

	// Recorded returns the paths that a file is recorded to be a copy of, if the version-control system records that. A
	// rename that is recorded counts, however little the contents have in common. It may be nil.
	Recorded func(path string) []string

	pairs   int // most pairs of files that are compared to find renames
	maxText int // size in bytes up to which texts are joined line by line

	texts  cache[Three[object.ID], *joinedText]
	driven cache[driverCall, drivenTo]
	bases  cache[string, ancestor] // by the ids of several common ancestors: the base they were joined to
}

// NewEngine returns an engine over a store.
func NewEngine(store *object.Overlay) *Engine {
	return &Engine{Store: store, pairs: maxPairs, maxText: MaxText}
}

// ancestor is the common start of two lines.
type ancestor struct {
	tree object.ID
	of   []object.ID     // trees of the common ancestors, if there are several
	open map[string]bool // true for paths that the common ancestors disagree on as a whole, false for directories above
}

// Driver joins three contents as a user-configured merge driver does. markerSize is the length of a conflict marker,
// above 0.
type Driver func(ctx context.Context, name, path string, base, yours, theirs []byte, markerSize int) (joined []byte,
	outcome DriverOutcome, err error)

type drivenTo struct {
	id      object.ID
	outcome DriverOutcome
	failure string
}

// driverCall identifies a run of a driver, so that it is not repeated.
type driverCall struct {
	name, path string
	ids        Three[object.ID]
}

// joinedText is the result of joining three texts: a new blob, or a text with conflicts.
type joinedText struct {
	text *Text
	id   object.ID
	ends Origin
}

// MaxText is the size in bytes above which a file is only taken whole.
const MaxText = 100 << 20

// maxPairs limits the comparisons of contents per side of a merge. Beyond it only exact renames and equal base names
// are found, and Result.Remarks mentions it.
const maxPairs = 7000 * 7000

// DriverOutcome is the result of a Driver.
type DriverOutcome uint8
