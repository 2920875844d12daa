package recovery

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A pick that builds on earlier commits of its line says so, and takes them along in their order.
func TestAPickTakesAlongWhatItNeeds(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.other.Git("switch", "-q", "-c", "side")
	one := tm.other.Commit("one", "list", "a\nb\nc\n")
	tm.other.Commit("apart", "else", "x\n")
	two := tm.other.Commit("two", "list", "a\nB\nc\n")
	three := tm.other.Commit("three", "list", "a\nBB\nc\n")
	tm.other.Git("push", "-q", "origin", "side")
	tm.mine.Git("fetch", "-q")
	s := tm.session()
	require.NoError(t, s.Pick(ctx, []string{three}, 0))
	v, err := s.Survey(ctx, false, nil)
	require.NoError(t, err)
	require.NotNil(t, v.Needs)
	var names, ids []string
	for _, c := range v.Needs.Commits {
		names, ids = append(names, c.Subject()), append(ids, c.ID.String())
	}
	assert.Equal(t, []string{"one", "two"}, names)
	assert.Equal(t, []string{one, two}, ids)
	assert.Equal(t, []int{1, 0}, []int{v.Needs.Asks, v.Needs.With})
	require.Len(t, v.Needs.Picks, 3)

	require.NoError(t, s.Pick(ctx, []string{three, one, two}, 0))
	st := s.Ledger.State()
	assert.Equal(t, v.Needs.Picks, st.Picks, "picks keep the order in which they were made there")
	v, err = s.Survey(ctx, false, nil)
	require.NoError(t, err)
	assert.Nil(t, v.Needs)
	assert.Zero(t, v.Plan.Asking().Open)
}

// A pick that joins cleanly and uses a name that an earlier commit of its line brought says so, with what that needs in
// turn.
func TestAPickNeedsNames(t *testing.T) {
	const mod = "module skerry\n\ngo 1.24\n"
	for name, c := range map[string]struct {
		line    []string // "subject: path text", the last of which is picked
		here    string   // on the branch, in place of nothing
		commits []string
		names   []string
	}{
		"a function": {[]string{
			"Depth: tide/depth.go package tide\n\nfunc Depth() int { return 3 }\n",
			"Ice: ice.txt Ice\n",
			"Berth: tide/berth.go package tide\n\nfunc Berth() int { return Depth() + 1 }\n",
		}, "", []string{"Depth"}, []string{"Depth"}},
		"what that needs in turn": {[]string{
			"Tide: tide/tide.go package tide\n\nfunc Tide() int { return 3 }\n",
			"Depth: tide/depth.go package tide\n\nfunc Depth() int { return Tide() }\n",
			"Berth: tide/berth.go package tide\n\nfunc Berth() int { return Depth() + 1 }\n",
		}, "", []string{"Tide", "Depth"}, []string{"Depth", "Tide"}},
		"in another language": {[]string{
			"Depth: depth.py def depth_at(pier):\n    return 3\n",
			"Berth: berth.py from depth import depth_at\n\n\ndef berth(pier):\n    return depth_at(pier) + 1\n",
		}, "", []string{"Depth"}, []string{"depth_at"}},
		"nothing": {[]string{
			"Depth: tide/depth.go package tide\n\nfunc Depth() int { return 3 }\n",
			"Berth: tide/berth.go package tide\n\nfunc Berth() int { return 1 }\n",
		}, "", nil, nil},
		"what is here in another commit": {[]string{
			"Depth: tide/depth.go package tide\n\nfunc Depth() int { return 3 }\n",
			"Berth: tide/berth.go package tide\n\nfunc Berth() int { return Depth() + 1 }\n",
		}, "tide/depth.go package tide\n\nfunc Depth() int { return 3 }\n", nil, nil},
	} {
		t.Run(name, func(t *testing.T) {
			tm, ctx := newTeam(t), t.Context()
			tm.other.Commit("module", "go.mod", mod)
			tm.other.Git("push", "-q")
			tm.mine.Git("pull", "-q")
			tm.other.Git("switch", "-q", "-c", "side")
			picked := ""
			for _, one := range c.line {
				subject, rest, _ := strings.Cut(one, ": ")
				path, text, _ := strings.Cut(rest, " ")
				picked = tm.other.Commit(subject, path, text)
			}
			tm.other.Git("push", "-q", "origin", "side")
			tm.mine.Git("fetch", "-q")
			if path, text, ok := strings.Cut(c.here, " "); ok {
				tm.mine.Commit("here", path, text)
			}
			s := tm.session()
			require.NoError(t, s.Pick(ctx, []string{picked}, 0))
			v, err := s.Survey(ctx, false, nil)
			require.NoError(t, err)
			if c.commits == nil {
				assert.Nil(t, v.Needs)
				return
			}
			require.NotNil(t, v.Needs)
			var subjects []string
			for _, n := range v.Needs.Commits {
				subjects = append(subjects, n.Subject())
			}
			assert.Equal(t, c.commits, subjects)
			assert.ElementsMatch(t, c.names, v.Needs.Names)
			assert.Contains(t, v.Needs.Sentences(), "It uses "+v.Needs.Names[0])
		})
	}
}
