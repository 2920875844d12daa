package plan

import (
	"context"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
)

// Short is an id as people are shown it: so many digits that none of the ids shown stands for
// another object of the repository, and no fewer than core.abbrev says, or 7.
func (rd *Reader) Short(id object.ID) string {
	if id.IsZero() {
		return ""
	}
	return id.Prefix(int(rd.digits.Load()))
}

// leastDigits is how many digits an id is shown with where nothing asks for more.
const leastDigits = 7

// ShowDigits has ids be shown with so many digits, if that is more than they are shown with at least.
func (rd *Reader) ShowDigits(n int) {
	if n > leastDigits {
		rd.digits.Store(int32(n))
	}
}

// TellApart has ids be shown with so many digits that each stands for one object alone.
func (rd *Reader) TellApart(ctx context.Context, ids []object.ID) error {
	if len(ids) == 0 {
		return nil
	}
	n := int(rd.digits.Load())
	for ; n < len(ids[0].String()); n++ {
		if alone, err := rd.Source.Alone(ctx, ids, n); err != nil {
			return err
		} else if alone {
			break
		}
	}
	rd.digits.Store(int32(n))
	return nil
}

// IdsOf gives the ids of commits.
func IdsOf(nodes []history.Node) (ids []object.ID) {
	for _, n := range nodes {
		ids = append(ids, n.ID)
	}
	return ids
}
