package recovery

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/diagnose"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// TestErrorsOfWhatWasSettled: an error in a line that was settled, or of a name that a way left out, is known to come
// from that, also where later commits moved the line; any other is not.
func TestErrorsOfWhatWasSettled(t *testing.T) {
	t.Parallel()
	const start = "package x\n\nfunc a() int {\n\treturn 1\n}\n"
	for _, c := range []struct {
		name  string
		route plan.Route
		way   settle.Way
		at    diagnose.Place
		want  string
	}{
		{"the line itself", plan.Merge, settle.Yours, diagnose.Place{Path: "a.go", Line: 4, Text: "mismatched types"},
			"You settled this line, by “yours”."},
		{"at a stop", plan.Rebase, settle.Theirs, diagnose.Place{Path: "a.go", Line: 7, Text: "mismatched types"},
			"You settled this line, by “theirs”."},
		{"a line of nobody's choice", plan.Merge, settle.Yours, diagnose.Place{Path: "a.go", Line: 3, Text: "x"}, ""},
		{"a name that was left out", plan.Merge, settle.Yours, diagnose.Place{Path: "b.go", Line: 2,
			Text: "undefined: theirHelp"},
			"You settled a.go by “yours”, which leaves theirHelp out."},
		{"of another language", plan.Merge, settle.Yours, diagnose.Place{Path: "b.py", Line: 2, Text: "theirHelp"}, ""},
		{"a name that is there", plan.Merge, settle.Yours, diagnose.Place{Path: "b.go", Line: 2,
			Text: "undefined: mine"},
			""},
	} {
		t.Run(c.name, func(t *testing.T) {
			tm := newTeam(t)
			tm.mine.Commit("start", "a.go", start)
			tm.mine.Git("push", "-q")
			tm.other.Git("pull", "-q")
			mine := strings.Replace(start, "return 1\n}\n", "return mine\n}\n\nfunc mine() {}\n", 1)
			tm.mine.Commit("mine", "a.go", mine)
			tm.mine.Commit("on top", "a.go", strings.Replace(mine, "package x\n", "package x\n\n// two\n// more\n", 1))
			tm.other.Commit("theirs", "a.go", strings.Replace(start, "return 1\n}\n",
				"return theirHelp()\n}\n\nfunc theirHelp() {}\n",
				1), "b.go", "package x\n", "b.py", "\n")
			tm.other.Git("push", "-q")
			s := tm.session()
			_, j, _ := ready(t, s, c.route, c.way)
			if c.route == plan.Merge && c.at.Path == "a.go" {
				c.at.Line += 3
			}
			got, err := s.Planner.CausesOf(t.Context(), j, decisions(s), []diagnose.Place{c.at})
			require.NoError(t, err)
			if c.want == "" {
				assert.Nil(t, got[0])
				return
			}
			require.NotNil(t, got[0])
			assert.Equal(t, c.want, got[0].Sentence())
			assert.Equal(t, c.route == plan.Rebase, got[0].Commit.Commit != nil)
		})
	}
}
