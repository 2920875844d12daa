package recovery

import (
	"context"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// Short is an id as people are shown it: so many digits that none of the ids shown stands for
// another object of the repository, and no fewer than core.abbrev says, or 7.
func (w *Workspace) Short(id object.ID) string {
	if id.IsZero() {
		return ""
	}
	return id.Prefix(int(w.digits.Load()))
}

// leastDigits is how many digits an id is shown with where nothing asks for more.
const leastDigits = 7

// tellApart has ids be shown with so many digits that each stands for one object alone.
func (w *Workspace) tellApart(ctx context.Context, ids []object.ID) error {
	if len(ids) == 0 {
		return nil
	}
	n := int(w.digits.Load())
	for ; n < len(ids[0].String()); n++ {
		if alone, err := w.Repo.Alone(ctx, ids, n); err != nil {
			return err
		} else if alone {
			break
		}
	}
	w.digits.Store(int32(n))
	return nil
}

func idsOf(nodes []history.Node) (ids []object.ID) {
	for _, n := range nodes {
		ids = append(ids, n.ID)
	}
	return ids
}

// TellApart has more ids be shown, so that none stands for another.
func (w *Workspace) TellApart(ctx context.Context, ids []object.ID) error {
	return w.tellApart(ctx, ids)
}
