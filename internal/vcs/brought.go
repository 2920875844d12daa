package vcs

import (
	"context"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// Parting is a system whose commits have parents on their own line only, and that notes elsewhere what was brought from
// one line into another.
type Parting interface {
	// Part returns where two commits of different lines part. It returns nil where the commits' parents say it.
	Part(ctx context.Context, yours, theirs object.ID) (*history.Divergence, error)
}

// Recording is a system that notes in the tree what was brought in.
type Recording interface {
	// Recorded returns a joined tree with that note: all of a line up to theirs, or single commits of it.
	Recorded(ctx context.Context, store *object.Overlay, tree, theirs object.ID, picks []object.ID) (object.ID, error)
}

// Discovering is a system in which the lines of the repository are not known before they are asked for.
type Discovering interface {
	// Discover reads the newest lines, and returns the number of older ones that it left out.
	Discover(ctx context.Context) (more int, err error)
}

// Ungrouping is a system in which all changes are one commit as long as they are in no list.
type Ungrouping interface {
	// Ungroup has such changes be uncommitted work, so that some can be chosen, or be one commit again.
	Ungroup(ctx context.Context, apart bool) error
}
