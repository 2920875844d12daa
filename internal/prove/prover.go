// Package prove has the joined code be built and tested in a checkout of its own: what may run and
// who agreed to it, what is run, what failed and since which commit. Nothing of the person's own
// files is touched.
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

// Repository is what the check needs of the version-control system: what is set, where the lines are, and working trees
// of its own. It cannot change the person's branch, index or files.
type Repository interface {
	vcs.Settings
	vcs.Setter
	vcs.Lines
	vcs.Keeper
	vcs.Checkouts
	Where() vcs.Where
	// Inside is the path of a file that the system keeps under a name.
	Inside(ctx context.Context, name string) (string, error)
}

// Prover runs the check of the project on joined commits.
type Prover struct {
	Repo    Repository
	Planner *plan.Planner
	Ledger  *ledger.Ledger
	Drivers *Drivers
	Asker   *Asker

	last lastRun // of the check on what is joined
}

// New is a prover for a repository.
func New(repo Repository, planner *plan.Planner, drivers *Drivers, l *ledger.Ledger) *Prover {
	return &Prover{Repo: repo, Planner: planner, Ledger: l, Drivers: drivers,
		Asker: &Asker{Repo: repo, Planner: planner, Ledger: l, Drivers: drivers}}
}

// Asker finds what has to be agreed to before something runs.
type Asker struct {
	Repo    Repository
	Planner *plan.Planner
	Ledger  *ledger.Ledger
	Drivers *Drivers
}

// Drivers are the merge drivers and attributes of the person's configuration, which no tree holds.
type Drivers struct {
	Repo    Repository
	Planner *plan.Planner
	Agreed  func(line string) bool // to a command that is run; nil where nothing is kept
	Limit   time.Duration

	mu      sync.Mutex
	outside outsideAttributes
	names   struct { // of the files of a tree, the last that was asked for
		in object.ID
		of *check.Naming
	}
}
