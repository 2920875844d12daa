// Package lookback tells what was: the history with what joins made of it, commits in detail, where
// lines come from, how a join was decided, and what the others get from it. It reads only.
package lookback

import (
	"context"
	"sync"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Repository is what looking back needs of the version-control system. It only reads.
type Repository interface {
	vcs.Settings
	vcs.Lines
	vcs.Signatures
	Where() vcs.Where
}

// History looks back in a repository.
type History struct {
	Repo    Repository
	Planner *plan.Planner
	Ledger  *ledger.Ledger // nil without a session: then what is kept is read anew each time
	// Locate finds where a branch and what it follows stand now.
	Locate func(ctx context.Context, b vcs.Branch) (*plan.Position, error)

	graphOnce sync.Once
	graph     *history.Graph
}

// waypoints lists the joins that were made here, the oldest first.
func (h *History) waypoints() ([]*ledger.Waypoint, error) {
	if h.Ledger != nil {
		return h.Ledger.Store.Waypoints()
	}
	return ledger.ReadWaypoints(h.Repo.Where().Own)
}

// state is the recovery under way; an empty one where none is.
func (h *History) state() (*ledger.State, error) {
	if h.Ledger != nil {
		st := h.Ledger.State()
		return &st, nil
	}
	st, err := ledger.Peek(h.Repo.Where().Own)
	if st == nil {
		st = &ledger.State{}
	}
	return st, err
}

// Logbook lists what was done here, the newest first. The error is ledger.ErrInUse where a session is open elsewhere.
func (h *History) Logbook() ([]ledger.LogEntry, error) {
	if h.Ledger != nil {
		return h.Ledger.Logbook()
	}
	return ledger.ReadLogbook(h.Repo.Where().Own)
}
