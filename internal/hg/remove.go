package hg

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
)

// RollBack undoes what an hg that was killed wrote into the store and did not complete, as hg itself asks for then.
func (r *changes) RollBack(ctx context.Context) error {
	left := func() bool {
		_, err := os.Lstat(r.store("journal"))
		return err == nil
	}
	if !left() {
		return nil
	}
	_, err := r.run(ctx, "rolling back what hg did not complete", "recover", "--quiet")
	if !left() { // or another hg completed meanwhile what it was writing
		return nil
	}
	return err
}

// Remove removes changesets that are there. What builds on them goes, too; ask Removable first.
//
// To remove changesets hg cuts off everything from the first of them on, and adds again what is to stay. If it cannot,
// that would be gone: so all of it is in the file rest until hg has ended well. Refill brings back what is missing.
func (r *changes) Remove(ctx context.Context, ids []object.ID, rest string) error {
	there, err := r.Commits(ctx, setOf(ids))
	if err != nil || len(there) == 0 {
		return err
	}
	set := setOf(there)
	stay, err := r.Commits(ctx, "(min("+set+"):) - descendants("+set+")")
	if err != nil {
		return err
	}
	if len(stay) > 0 {
		if err := r.Save(ctx, stay, rest); err != nil {
			return err
		}
	}
	hooks, err := r.hooks(ctx) // hg adds what stays again
	if err == nil {
		err = beside.WriteFile(rest+begunSuffix, []byte(r.historySize()))
	}
	if err != nil {
		return err
	}
	_, err = r.run(ctx, "removing the replaced changesets", append(hooks.silenced, "--config", "extensions.strip=",
		"strip", "--quiet", "--no-backup", "--keep", "-r", set)...)
	if err != nil {
		return errors.Join(err, r.Refill(ctx, rest))
	}
	return errors.Join(removed(rest), removed(rest+begunSuffix))
}

// begunSuffix ends the name of the file that says that hg removes changesets, with the size of the history before.
const begunSuffix = ".begun"

// removed removes a file that may be gone already.
func removed(file string) error {
	if err := os.Remove(file); err != nil && !isGone(err) {
		return err
	}
	return nil
}

// historySize returns the sizes of the files with the history, which hg cuts off first, as a text.
func (r *place) historySize() (sizes string) {
	for _, name := range []string{"00changelog.i", "00changelog.d"} {
		info, err := os.Stat(r.store(name))
		if err != nil {
			sizes += "none "
			continue
		}
		sizes += fmt.Sprintf("%d ", info.Size())
	}
	return sizes
}

// DamageError reports that hg's own storage is not whole after hg failed to remove changesets.
type DamageError struct{ Rest string }

func (e *DamageError) Error() string {
	return "hg failed in the middle of removing changesets, and “hg verify” says that its storage is damaged now. " +
		"All changesets are kept: clone the repository again, and add those below " + filepath.Dir(e.Rest) +
		" with “hg unbundle”"
}

// Refill puts in order what an hg left that did not end well: it undoes or completes what hg was writing, and adds the
// changesets again that Remove left in a file. It may be called twice.
func (r *changes) Refill(ctx context.Context, rest string) error {
	was, err := os.ReadFile(rest + begunSuffix)
	begun := err == nil
	if begun {
		if err := r.forgetHalfList(ctx, string(was)); err != nil {
			return err
		}
	}
	if err := r.RollBack(ctx); err != nil {
		return err
	}
	if _, err := os.Stat(rest); err == nil {
		if err := r.Add(ctx, rest, false); err != nil {
			return err
		}
	}
	if !begun {
		return nil
	}
	_, _, code, err := r.hg.all(ctx, "verify", "--quiet")
	if err == nil && code != 0 {
		return &DamageError{rest}
	}
	return errors.Join(err, removed(rest), removed(rest+begunSuffix))
}

// forgetHalfList removes hg's list of what to cut off if it had cut off nothing yet. The list may be a half then, and
// to recover would be to go by that.
func (r *changes) forgetHalfList(ctx context.Context, was string) error {
	release, err := lock(ctx, r.store("lock"), "the changesets")
	if err != nil {
		return err
	}
	defer release()
	if was != r.historySize() {
		return nil
	}
	return removed(r.store("journal"))
}
