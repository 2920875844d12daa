// Package lookback explains the past: the history and the joins in it, commits, authors of lines, decisions in merges,
// and what a push means for others. It only reads.
package lookback

import (
	"context"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Repository is the part of a version-control system that lookback reads.
type Repository interface {
	vcs.Settings
	vcs.Lines
	vcs.Signatures
	Where() vcs.Where
	Named(ctx context.Context, name string) (vcs.Branch, error)
	FetchedAt(ctx context.Context, remote vcs.Remote, tracking string) time.Time
}

// History answers questions about the past of a repository.
type History struct {
	Repo    Repository
	Planner *plan.Planner
	Ledger  *ledger.Ledger // nil without a session: the store is then read each time
	// Locate returns the current position of a branch relative to a line, or to its upstream if line is nil.
	Locate func(ctx context.Context, b vcs.Branch, line *vcs.Line) (*plan.Position, error)

	graphOnce sync.Once
	graph     *history.Graph
}

// waypoints lists the joins made here, oldest first.
func (h *History) waypoints() ([]*ledger.Waypoint, error) {
	if h.Ledger != nil {
		return h.Ledger.Store.Waypoints()
	}
	return ledger.ReadWaypoints(h.Repo.Where().Own)
}

// state returns the stored recovery, or an empty one.
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

// Logbook lists what Dorvik did here, newest first. The error is ledger.ErrInUse if another process has the ledger
// open.
func (h *History) Logbook() ([]ledger.LogEntry, error) {
	if h.Ledger != nil {
		return h.Ledger.Logbook()
	}
	return ledger.ReadLogbook(h.Repo.Where().Own)
}
