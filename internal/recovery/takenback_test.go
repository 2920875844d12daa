package recovery

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
)

// TestWhatTheirsTookBackIsRemarkedOn makes a change on both sides, which theirs takes back. The join brings it again.
func TestWhatTheirsTookBackIsRemarkedOn(t *testing.T) {
	t.Parallel()
	gittest.Isolate(t)
	capped, uncapped := strings.Replace(base, "three", "capped", 1), base
	for name, c := range map[string]struct {
		theirs []string // the texts of f, one a commit
		mine   []string
		says   bool
	}{
		"taken back":             {[]string{capped, uncapped}, []string{capped}, true},
		"taken back twice":       {[]string{capped, uncapped, capped, uncapped}, []string{capped}, true},
		"replayed":               {[]string{capped, uncapped, capped}, []string{capped}, false},
		"not taken back":         {[]string{capped}, []string{capped}, false},
		"never made there":       {[]string{strings.Replace(base, "one", "x", 1)}, []string{capped}, false},
		"you took it back, too":  {[]string{capped, uncapped}, []string{capped, uncapped}, false},
		"you made it once again": {[]string{capped, uncapped}, []string{capped, uncapped, capped}, true},
	} {
		t.Run(name, func(t *testing.T) {
			r := gittest.New(t)
			r.Commit("start", "f", base)
			for branch, texts := range map[string][]string{"theirs": c.theirs, "mine": c.mine} {
				r.Git("switch", "-q", "-c", branch, "main")
				for i, text := range texts {
					r.Commit(branch+" "+string(rune('a'+i)), "f", text)
				}
			}
			for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
				w, p, j, err := joined(t, r, "mine", "theirs", route)
				require.NoError(t, err)
				text, _, err := w.Planner.TextAt(t.Context(), j.Tree, "f")
				require.NoError(t, err)
				assert.Equal(t, c.mine[len(c.mine)-1] == capped, strings.Contains(text, "capped"), route)
				var said []string
				for _, m := range j.Remarks() {
					said = append(said, m.Words)
				}
				if !c.says {
					assert.Empty(t, said, route)
					continue
				}
				yours, theirs := p.Divergence.Yours[0], p.Divergence.Theirs[0]
				assert.Equal(t,
					[]string{"your commit " + w.Planner.Short(yours.ID) + " “" + yours.Subject() + "” makes a change " +
						"again that Ada Sund took back in " + w.Planner.Short(theirs.ID)}, said, route)
				if route == plan.Rebase {
					p.Requests = replay.Requests{p.Divergence.Yours[0].ID: {Leave: true}}
					j, err = w.Planner.Join(t.Context(), p, plan.Rebase, &settle.Decisions{}, plan.Amends{}, nil)
					require.NoError(t, err)
					assert.Empty(t, j.Remarks(), "it is left out")
				}
			}
		})
	}
}
