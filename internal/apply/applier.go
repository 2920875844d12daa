// Package apply is the only package that changes branch, index and files. Each change is complete or undone. It writes
// a journal first; then it moves obstacles aside, writes the files, the index and last the refs.
package apply

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/vcs"
)

// Applier applies joins to the repository and undoes them. It implements change.Mover.
type Applier struct {
	Repo     *git.Repo
	Planner  *plan.Planner
	Ledger   *ledger.Ledger
	Prover   *prove.Prover
	WorkTree *WorkTree

	tookBackAtStart bool // a change that an earlier run left half done was undone

	files   *files
	locks   *locks
	carrier *carrier
	signer  *signer
	hooks   *hooks
}

// New returns an applier. Call Begin before anything else.
func New(repo *git.Repo, planner *plan.Planner, l *ledger.Ledger, prover *prove.Prover, tree *WorkTree) *Applier {
	a := &Applier{Repo: repo, Planner: planner, Ledger: l, Prover: prover, WorkTree: tree}
	a.locks = &locks{Repo: repo}
	a.files = &files{Repo: repo, planner: planner, ledger: l, work: tree, locks: a.locks}
	a.carrier = &carrier{Repo: repo, planner: planner, work: tree, files: a.files, locks: a.locks}
	a.signer = &signer{Repo: repo, planner: planner, carrier: a.carrier}
	a.hooks = &hooks{Repo: repo, planner: planner, ledger: l, drivers: prover.Drivers}
	return a
}

// TookBack reports whether Begin undid a change of an earlier process.
func (a *Applier) TookBack() bool { return a.tookBackAtStart }

// Begin locks the repository. It completes or undoes a change that an earlier process did not finish, and removes its
// leftovers.
func (a *Applier) Begin(ctx context.Context) error {
	if err := a.hold(); err != nil {
		return err
	}
	if err := a.hooks.letHooks(ctx); err != nil {
		return err
	}
	// Nobody is writing a pack: a writer would hold the lock that this process has.
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
	os.RemoveAll(filepath.Join(a.Repo.GitDir, filepath.FromSlash(git.IndexFolder)))
	return nil
}

// End unlocks the repository.
func (a *Applier) End() {
	if a.Repo.Hold != nil {
		a.Repo.LetPacksGo(context.Background())
		a.Repo.Hold.Close()
	}
}

// Forget removes the files kept for a waypoint.
func (a *Applier) Forget(wp *ledger.Waypoint) error {
	return errors.Join(os.RemoveAll(a.AsideAt(wp)), os.RemoveAll(keptDir(a.Repo.GitDir, wp.Name)))
}

// AgreeToHooks permits hooks to run as long as their content stays the same.
func (a *Applier) AgreeToHooks(ctx context.Context, list []*vcs.Hook) error {
	return a.hooks.agreeTo(ctx, list)
}

// AskToPush returns a *change.HooksError if a push would run hooks that were not agreed to. With consent it skips them
// and says so.
func (a *Applier) AskToPush(ctx context.Context, consent change.Consent) error {
	run := &hookRun{s: a, without: consent.WithoutHooks}
	err := run.ask(ctx, "pre-push", "reference-transaction")
	run.tellSkipped()
	return err
}

// Returning returns the position of going back before a waypoint.
func (a *Applier) Returning(ctx context.Context, wp *ledger.Waypoint) (*plan.Position, error) {
	return a.carrier.returning(ctx, wp)
}

// Signatures maps commits to their signed versions.
func (a *Applier) Signatures() map[object.ID]object.ID { return a.signer.signatures() }

// AsideAt returns the folder for files that a join moved out of its way.
func (a *Applier) AsideAt(wp *ledger.Waypoint) string { return a.files.asideAt(wp) }

var (
	_ change.Mover    = (*Applier)(nil)
	_ change.WorkTree = (*WorkTree)(nil)
)
