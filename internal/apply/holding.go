package apply

import (
	"context"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/vcs"
)

// Objects that no ref leads to are removed by git gc --prune=now, at any moment. What
// Dorvik makes is held by refs under refs/dorvik until the person's own refs lead to it.
// Packs are held by .keep files before that. The refs stay until the next change puts
// others in their place: to remove one git locks all packed refs.

// treeName tells the working trees of a repository apart in the names of refs, which
// they share.
func (w *WorkTree) treeName() string { return ledger.HashOf(w.Repo.GitDir)[:12] }

// holdWork holds the trees of uncommitted work, in place of those held before.
func (w *WorkTree) holdWork(ctx context.Context, staged, files object.ID) error {
	at := "refs/dorvik/uncommitted/" + w.treeName()
	return w.setRefs(ctx, "uncommitted work", map[string]object.ID{at + "/staged": staged, at + "/files": files})
}

// setRefs has refs of Dorvik's own be at ids, wherever they are.
func (w *WorkTree) setRefs(ctx context.Context, message string, to map[string]object.ID) error {
	var updates []vcs.RefUpdate
	for name, id := range to {
		at, err := w.Repo.Ref(ctx, name)
		if err != nil {
			return err
		}
		if at != id {
			updates = append(updates, vcs.RefUpdate{Name: name, New: id, Old: at})
		}
	}
	if len(updates) == 0 {
		return nil
	}
	return w.Repo.UpdateRefs(ctx, message, updates...)
}
