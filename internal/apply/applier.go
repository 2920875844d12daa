// Package apply is the one room that changes branch, index and files: to a joined state, or back
// from one, whole or not at all. A change is written down first, and goes straight: what is in the
// way is moved aside, files are written, then the index, then the refs.
package apply

import (
	"context"
	"os"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// Applier makes joins, and takes them back.
type Applier struct {
	Repo     *git.Repo
	Planner  *plan.Planner
	Ledger   *ledger.Ledger
	Prover   *prove.Prover
	WorkTree *WorkTree
	TookBack bool // opening took back what an earlier run was cut off in

	files   *files
	locks   *locks
	carrier *carrier
	signer  *signer
	hooks   *hooks
}

// New is an applier for a repository that this process holds alone.
func New(repo *git.Repo, planner *plan.Planner, l *ledger.Ledger, prover *prove.Prover, tree *WorkTree) *Applier {
	a := &Applier{Repo: repo, Planner: planner, Ledger: l, Prover: prover, WorkTree: tree}
	a.locks = &locks{Repo: repo}
	a.files = &files{Repo: repo, planner: planner, ledger: l, work: tree, locks: a.locks}
	a.carrier = &carrier{Repo: repo, planner: planner, work: tree, files: a.files, locks: a.locks}
	a.signer = &signer{Repo: repo, planner: planner, carrier: a.carrier}
	a.hooks = &hooks{Repo: repo, planner: planner, ledger: l, drivers: prover.Drivers}
	return a
}

// EndCutOff ends what an earlier run was cut off in, one way or the other, and removes what it left.
func (a *Applier) EndCutOff(ctx context.Context) error {
	// No pack is being made: whoever made one would hold the lock that this process has.
	if dir, err := a.Repo.Inside(ctx, git.PackFolder); err == nil {
		os.RemoveAll(dir)
	}
	a.locks.clearNoted()
	a.locks.clearOwnLocks()
	if err := a.goOn(ctx); err != nil {
		return err
	}
	a.files.sweepKept()
	a.Repo.LetPacksGo(ctx)
	return nil
}

// LetHooks has git itself run the hooks among the files that were agreed to, and no others of those.
func (a *Applier) LetHooks(ctx context.Context) error { return a.hooks.letHooks(ctx) }

// AgreeToHooks has hooks be run in this repository, for as long as they are as they are now.
func (a *Applier) AgreeToHooks(ctx context.Context, list []*git.Hook) error {
	return a.hooks.agreeTo(ctx, list)
}

// AskToPush asks about the hooks that git runs for a push, and says which are left out.
func (a *Applier) AskToPush(ctx context.Context, consent Consent) error {
	run := &hookRun{s: a, without: consent.WithoutHooks}
	err := run.ask(ctx, "pre-push", "reference-transaction")
	run.tellSkipped()
	return err
}

// Returning is the position of going back before a waypoint.
func (a *Applier) Returning(ctx context.Context, wp *ledger.Waypoint) (*plan.Position, error) {
	return a.carrier.returning(ctx, wp)
}

// Signatures gives, by commits that were made, those that were made of them with a signature.
func (a *Applier) Signatures() map[object.ID]object.ID { return a.signer.signatures() }

// AsideAt is where what a join found in its way is kept.
func (a *Applier) AsideAt(wp *ledger.Waypoint) string { return a.files.asideAt(wp) }
