package lookback

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/core/decided"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// asMade adds to decisions and amends what a finished merge holds where nothing was recorded: conflicts that a person
// settled before Dorvik took a half-done merge over. Paths that hold no text are left out.
func (h *History) asMade(ctx context.Context, s *Story, decisions *settle.Decisions, by plan.Amends) (*settle.Decisions,
	plan.Amends, error) {
	tip, err := h.Planner.Tree(ctx, s.Tip)
	if err != nil {
		return nil, by, err
	}
	out := &settle.Decisions{List: slices.Clone(decisions.List)}
	by.Mends = slices.Clone(by.Mends)
	for _, stop := range s.Join.Stops {
		for _, f := range stop.Files {
			open := slices.DeleteFunc(slices.Clone(f.Questions), func(c *settle.Question) bool {
				_, _, ok := decisions.For(c)
				return ok
			})
			if len(open) == 0 {
				continue
			}
			if f.Text == nil {
				e, err := h.Planner.Store.Find(ctx, tip, f.Path)
				if err != nil {
					return nil, by, err
				}
				out.Decide(wayTo(open[0], f.Path, e)...)
				continue
			}
			text, ok, err := h.Planner.TextAt(ctx, tip, f.Path)
			if err != nil {
				return nil, by, err
			}
			if !ok {
				continue
			}
			choose := f.ChosenBy(decisions)
			texts, before := f.Divide(choose, text)
			for _, c := range open {
				if !c.Whole() {
					is, ok := texts[c]
					if !ok {
						is = choose(c).Text
					}
					out.Decide(decisionOf(c, is))
				}
			}
			if before != text {
				by.Mends = append(by.Mends, plan.Mend{Path: f.Path, Before: before, After: text})
			}
		}
	}
	return out, by, nil
}

// decisionOf returns the decision by which a place holds a text.
func decisionOf(c *settle.Question, text string) settle.Decision {
	d := settle.Decision{Key: c.Key, Way: decided.WayOf(c, text)}
	if d.Way == settle.Written {
		d.Text = text
	}
	return d
}

// wayTo returns the decision about a path that leads to an entry, if one does.
func wayTo(c *settle.Question, path string, e object.Entry) []settle.Decision {
	for _, o := range c.Ways {
		if got, ok := o.Effect.Entries[path]; ok && got.ID == e.ID && got.Mode == e.Mode {
			return []settle.Decision{{Key: c.Key, Way: o.Way}}
		}
	}
	return nil
}
