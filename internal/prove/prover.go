// Package prove has the joined code be built and tested in a checkout of its own: what may run and
// who agreed to it, what is run, what failed and since which commit. Nothing of the person's own
// files is touched.
package prove

import (
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// Prover runs the check of the project on joined commits.
type Prover struct {
	Repo    *git.Repo
	Planner *plan.Planner
	Ledger  *ledger.Ledger
	Drivers *Drivers
	Asker   *Asker

	last lastRun // of the check on what is joined
}

// New is a prover for a repository.
func New(repo *git.Repo, planner *plan.Planner, drivers *Drivers, l *ledger.Ledger) *Prover {
	return &Prover{Repo: repo, Planner: planner, Ledger: l, Drivers: drivers,
		Asker: &Asker{Repo: repo, Planner: planner, Ledger: l, Drivers: drivers}}
}

// Asker finds what has to be agreed to before something runs.
type Asker struct {
	Repo    *git.Repo
	Planner *plan.Planner
	Ledger  *ledger.Ledger
	Drivers *Drivers
}

// Drivers are the merge drivers and attributes of the person's configuration, which no tree holds.
type Drivers struct {
	Repo    *git.Repo
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
