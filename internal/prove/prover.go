// Package prove builds and tests the joined code in its own checkout. It finds the commands, asks before it runs them,
// and finds the commit that broke the build. It does not touch the person's files.
package prove

import (
	"context"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Repository is the part of a version-control system that checks use. It cannot move branches or change the person's
// index and files.
type Repository interface {
	vcs.Settings
	vcs.Setter
	vcs.Lines
	vcs.Keeper
	vcs.Checkouts
	Where() vcs.Where
	// Inside returns the path of a file in the system's own folder.
	Inside(ctx context.Context, name string) (string, error)
}

// Prover runs the project's check on joined commits.
type Prover struct {
	Repo    Repository
	Planner *plan.Planner
	Ledger  *ledger.Ledger
	Drivers *Drivers
	Asker   *Asker

	last lastRun // last run of the check on the joined tree
}

// New returns a prover.
func New(repo Repository, planner *plan.Planner, drivers *Drivers, l *ledger.Ledger) *Prover {
	return &Prover{Repo: repo, Planner: planner, Ledger: l, Drivers: drivers,
		Asker: &Asker{Repo: repo, Planner: planner, Ledger: l, Drivers: drivers}}
}

// Asker determines what the person must agree to before a command runs.
type Asker struct {
	Repo    Repository
	Planner *plan.Planner
	Ledger  *ledger.Ledger
	Drivers *Drivers
}

// Drivers runs merge drivers and reads the gitattributes that are in no tree.
type Drivers struct {
	Repo    Repository
	Planner *plan.Planner
	Agreed  func(line string) bool // reports consent to a command; nil if none is kept
	Limit   time.Duration

	mu      sync.Mutex
	outside outsideAttributes
	names   struct { // cache: file names of the last tree
		in object.ID
		of *check.Naming
	}
}
