package recovery

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// Several picks that each add to the end of one list ask the same; it is decided once.
func TestPicksThatAskTheSameAreDecidedOnce(t *testing.T) {
	for way, c := range map[settle.Way]struct {
		also int
		want string
	}{
		settle.TheirsYours: {2, "a\nb\none\ntwo\nthree\nmine\n"},
		settle.YoursTheirs: {0, "a\nb\nmine\none\ntwo\nthree\n"}, // then the others fit
	} {
		t.Run(string(way), func(t *testing.T) {
			tm, ctx := newTeam(t), t.Context()
			tm.other.Commit("list", "list", "a\nb\n")
			tm.other.Git("push", "-q")
			tm.mine.Git("pull", "-q")
			tm.other.Git("switch", "-q", "-c", "side")
			text := "a\nb\n"
			for _, line := range []string{"one", "two", "three"} {
				text += line + "\n"
				tm.other.Commit("add "+line, "list", text)
			}
			tm.other.Git("push", "-q", "origin", "side")
			tm.mine.Git("fetch", "-q")
			tm.mine.Commit("mine", "list", "a\nb\nmine\n")
			s := tm.session()
			require.NoError(t, s.Pick(ctx, []string{"main..origin/side"}, 0))
			v, err := s.Survey(ctx, false, nil)
			require.NoError(t, err)
			require.NoError(t, s.Ledger.TakeRoute(plan.Pick))
			none := settle.Decisions{}
			asked, err := s.Planner.Attribute(ctx, v.Position, v.Plan.Pick, &none)
			require.NoError(t, err)
			also, err := DecideAlso(ctx, s, v.Position, asked[0], settle.Decision{Key: asked[0].Question.Key, Way: way})
			require.NoError(t, err)
			assert.Equal(t, c.also, also)
			st := s.Ledger.State()
			j, err := s.Planner.Join(ctx, v.Position, plan.Pick, &st.Decisions, plan.Amends{}, nil)
			require.NoError(t, err)
			assert.Zero(t, j.Open, fmt.Sprint(st.Decisions.List))
			got, _, err := s.Planner.TextAt(ctx, j.Tree, "list")
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}
