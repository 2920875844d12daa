package vcs

import (
	"context"

	"dorvik.dev/dorvik/internal/core/object"
)

// Unnumbered is what stands in the place of a number before a commit has one.
const Unnumbered = "local"

// Numbered is a system that numbers the commits of a repository when they arrive there.
type Numbered interface {
	// Shown returns the number of a commit, Unnumbered, or an empty text for one that is not known.
	Shown(ctx context.Context, id object.ID) string
	// Became returns the commit that one became when it was pushed; itself for others.
	Became(id object.ID) object.ID
}
