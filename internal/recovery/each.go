package recovery

import (
	"context"

	"dorvik.dev/dorvik/internal/core/object"
)

// Each is how one of the commits that are made again stands to the check; Passed is nil where that is not known.
type Each struct {
	ID     object.ID
	Passed *bool
}

// EachKnown gives how the new commits stand, as far as they were checked before, the oldest first.
func (s *Session) EachKnown(ctx context.Context, terms *Terms, b Built) (out []Each, err error) {
	env, err := s.environment(ctx)
	if err != nil {
		return nil, err
	}
	for _, id := range b.Made() {
		one := Each{ID: id}
		if terms != nil {
			tree, err := s.Tree(id)
			if err != nil {
				return nil, err
			}
			if r := s.ranIn(env, terms.Command, tree); r != nil {
				one.Passed = &r.Passed
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// CheckEach checks the new commits in order, up to the first that does not pass. What was checked before is not
// checked again. told is given how they stand after each.
func (s *Session) CheckEach(ctx context.Context, terms *Terms, b Built, emit func(string), told func([]Each)) ([]Each,
	error) {
	all, err := s.EachKnown(ctx, terms, b)
	if err != nil {
		return nil, err
	}
	for i := range all {
		one := &all[i]
		if one.Passed == nil {
			emit("dorvik: " + one.ID.String())
			co, err := s.checkout(ctx, "check-each", one.ID, emit)
			if err != nil {
				return all, err
			}
			tree, err := s.Tree(one.ID)
			if err != nil {
				return all, err
			}
			r, err := s.runSteps(ctx, co.Dir, terms.Command, tree, emit, nil)
			if err != nil {
				return all, err
			}
			one.Passed = &r.Passed
		}
		told(append([]Each(nil), all...))
		if !*one.Passed {
			break
		}
	}
	return all, nil
}

// FirstFailing gives the first that does not pass; zero where none is known not to.
func FirstFailing(all []Each) object.ID {
	for _, e := range all {
		if e.Passed != nil && !*e.Passed {
			return e.ID
		}
	}
	return object.ID{}
}

// WantsEach reports whether every commit is to be checked: dorvik.checkEach.
func (w *Workspace) WantsEach(ctx context.Context) (bool, error) {
	return w.Repo.Flag(ctx, "dorvik.checkEach")
}
