package svnapply_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/applytest"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/svntest"
)

// bring selects another line, joins with it, and checks in. It returns what svn itself makes of it in a copy.
func bring(t *testing.T, c *svntest.Copy, line string) {
	svns := svntest.At(t, copied(t, c.Dir), c.User)
	svns.Svn("update", "-q")
	svns.Svn("merge", "-q", "--accept", "postpone", "^/"+line)
	s, err := recovery.OpenSession(t.Context(), c.Dir)
	require.NoError(t, err)
	defer s.Close()
	take(t, s, "^/"+line)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.Equal(t, plan.NotTrivial, p.Trivial())
	_, err = applytest.Join(t.Context(), s, plan.Merge)
	require.NoError(t, err)
	want, is := state(t, svns.Dir), state(t, c.Dir)
	for _, of := range []map[string]string{want, is} { // svn notes revisions that are not on the line, too
		delete(of, "-properties")
		delete(of, "-revisions")
	}
	assert.Equal(t, want, is, "as svn has it")
	assert.Empty(t, c.Svn("mergeinfo", "--show-revs", "eligible", "^/"+line, "."))
	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, plan.UpToDate, p.Trivial(), "%v", subjects(p))
	pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, pushed.Refusal)
	assert.Empty(t, c.Svn("status"))
}

func take(t *testing.T, s *recovery.Session, said string) {
	line, err := s.Lines.Find(t.Context(), said)
	require.NoError(t, err)
	require.NoError(t, s.Lines.Fetch(t.Context(), line))
	require.NoError(t, s.Lines.Take(t.Context(), &line))
}

func subjects(p *plan.Position) (out []string) {
	for _, n := range p.Divergence.Theirs {
		out = append(out, n.Subject())
	}
	return out
}

// TestLinesAreBroughtIn: trunk into a branch, the branch back into trunk, and both again.
func TestLinesAreBroughtIn(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	trunk := svntest.Checkout(t, url+"/trunk", "ilka")
	trunk.Write("text", lines)
	trunk.Write("d/other", lines)
	trunk.Commit("start")
	trunk.Svn("copy", "-q", "-m", "branch", "^/trunk", "^/branches/b")
	branch := svntest.Checkout(t, url+"/branches/b", "runa")
	edit := func(c *svntest.Copy, word, to string) {
		c.Svn("update", "-q")
		c.Write("text", strings.Replace(c.Read("text"), word, to, 1))
		c.Commit("edit " + to)
	}
	edit(trunk, "two", "TRUNK")
	edit(branch, "seven", "BRANCH")
	bring(t, branch, "trunk")
	edit(trunk, "four", "FOUR")
	edit(branch, "one", "ONE")
	trunk.Svn("update", "-q")
	bring(t, trunk, "branches/b")
	edit(branch, "eight", "EIGHT")
	bring(t, branch, "trunk")
	bring(t, trunk, "branches/b")
	assert.Equal(t, "ONE TRUNK FOUR BRANCH EIGHT", strings.Join(upper(trunk.Read("text")), " "))
}

func upper(text string) (out []string) {
	for _, word := range strings.Fields(text) {
		if word == strings.ToUpper(word) {
			out = append(out, word)
		}
	}
	return out
}
