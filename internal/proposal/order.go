package proposal

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/words"
)

// Sequence is an order in which proposals are joined one after the other.
type Sequence struct {
	List []Proposal
	Asks []int  // decisions that each asks when its turn comes, as far as can be computed now
	Why  string // why this order; empty for the order in which they came
}

// Total returns the number of decisions that all of them ask.
func (s *Sequence) Total() (n int) {
	for _, a := range s.Asks {
		n += a
	}
	return n
}

// mostOrdered limits how many proposals are ordered, because that costs two joins for each pair.
const mostOrdered = 20

// InTurn computes what proposals into one branch ask if they are joined in the given order. Open conflicts are settled
// by the suggested ways to see the rest of the road.
func (b *Board) InTurn(ctx context.Context, list []Proposal) (*Sequence, error) {
	s := &Sequence{List: list}
	var made Precedents
	at := list[0].At
	for i := range list {
		next, asks, err := b.step(ctx, at, &list[i], &made)
		if err != nil {
			return nil, err
		}
		s.Asks, at = append(s.Asks, asks), next
	}
	return s, nil
}

// LeastAsking computes an order that asks less than the given one, or returns nil if it finds none. It always takes the
// proposal next that asks least then and, among equal ones, that collides least with the rest. That costs about two
// joins for each pair. With more than 20 proposals it returns nil.
func (b *Board) LeastAsking(ctx context.Context, came *Sequence) (*Sequence, error) {
	if len(came.List) > mostOrdered || came.Total() == 0 {
		return nil, nil
	}
	collide, err := b.pairs(ctx, came.List)
	if err != nil {
		return nil, err
	}
	s := &Sequence{}
	var made Precedents
	at := came.List[0].At
	for left := numbers(len(came.List)); len(left) > 0; {
		var best turn
		for _, i := range left {
			t := turn{of: i, made: slices.Clone(made)}
			for _, k := range left {
				t.rest += collide[i][k]
			}
			if t.tip, t.asks, err = b.step(ctx, at, &came.List[i], &t.made); err != nil {
				return nil, err
			}
			if i == left[0] || cmp.Or(cmp.Compare(t.asks, best.asks), cmp.Compare(t.rest, best.rest)) < 0 {
				best = t
			}
		}
		s.List, s.Asks = append(s.List, came.List[best.of]), append(s.Asks, best.asks)
		made, at = best.made, best.tip
		left = slices.DeleteFunc(left, func(i int) bool { return i == best.of })
	}
	if s.Total() >= came.Total() {
		return nil, nil
	}
	s.Why = fmt.Sprintf("it asks %s, and the order in which they came asks %d", words.Count(s.Total(), "decision",
		"decisions"), came.Total())
	return s, nil
}

// turn is a proposal that could be joined next.
type turn struct {
	of, asks int
	rest     int // decisions that it costs beside each of the others alone
	tip      object.ID
	made     Precedents
}

// pairs returns how many decisions each two of the proposals ask, if they alone are joined.
func (b *Board) pairs(ctx context.Context, list []Proposal) ([][]int, error) {
	out := make([][]int, len(list))
	for i := range list {
		out[i] = make([]int, len(list))
		tip, _, err := b.step(ctx, list[0].At, &list[i], &Precedents{})
		if err != nil {
			return nil, err
		}
		for k := range i {
			if _, out[i][k], err = b.step(ctx, tip, &list[k], &Precedents{}); err != nil {
				return nil, err
			}
			out[k][i] = out[i][k]
		}
	}
	return out, nil
}

// numbers returns the numbers from 0 to below n.
func numbers(n int) (out []int) {
	for i := range n {
		out = append(out, i)
	}
	return out
}

// step joins a proposal with a commit in memory. Conflicts are settled by precedents, suggested ways, or else by one
// text after the other. It returns the commit that would be made, and the number of decisions that a person makes.
func (b *Board) step(ctx context.Context, at object.ID, p *Proposal, made *Precedents) (next object.ID, asks int,
	err error) {
	pos, err := b.position(ctx, p, at)
	if err != nil || pos.Trivial() == plan.UpToDate {
		return at, 0, err
	}
	if pos.Trivial() == plan.FastForward {
		return p.Last.ID, 0, nil
	}
	var decided settle.Decisions
	join := func() (*plan.Join, error) {
		return b.Planner.Join(ctx, pos, plan.Merge, &decided, plan.Amends{}, nil)
	}
	j, err := join()
	if err != nil {
		return at, 0, err
	}
	if j.Refused != nil {
		return at, 0, nil
	}
	if j.Open > 0 {
		again := made.Apply(j, &decided)
		asks = j.Open - len(again)
		decided.Decide(again...)
		decided.Decide(j.Preferred(&decided, []settle.Way{settle.Suggested, settle.YoursTheirs, settle.Both,
			settle.Theirs, settle.Yours})...)
		if j, err = join(); err != nil {
			return at, asks, err
		}
	}
	made.addThose(j, &decided, p.Name, func(q *settle.Question) bool { // what a person can be expected to decide alike
		return q.Base == "" || q.Suggested != ""
	})
	if j.Open > 0 { // the rest of the road cannot be seen
		return at, asks, nil
	}
	built, err := b.Planner.Build(ctx, pos, j)
	return built.Tip, asks, err
}
