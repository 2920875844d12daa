package svnapply_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/applytest"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/ledger"
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
	trunk.Write("d/new", "new\n")
	trunk.Svn("add", "-q", "d/new")
	trunk.Svn("propset", "-q", "svn:executable", "*", "d/new")
	trunk.Commit("a new file")
	bring(t, branch, "trunk")
	assert.Contains(t, branch.Svn("log", "d/new"), "a new file", "it keeps its history")
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

// TestAMergeOfSvnIsTakenOver: what svn merge left in conflict is settled where it is: texts, shapes and properties.
// Nothing else that was changed is touched, and going back brings the conflicts back.
func TestAMergeOfSvnIsTakenOver(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	for _, name := range []string{"text", "deleted-here", "deleted-there", "settled", "half", "clean", "listed"} {
		i.Write(name, lines)
	}
	i.Svn("add", "-q", "--force", ".")
	i.Svn("propset", "-q", "skerry:note", "base", "text", ".")
	i.Commit("start")
	i.Svn("copy", "-q", "-m", "branch", "^/trunk", "^/branches/b")
	r := svntest.Checkout(t, url+"/branches/b", "runa")
	alter := func(c *svntest.Copy, name, to string) {
		c.Write(name, strings.NewReplacer("two", to, "seven", to+" too").Replace(c.Read(name)))
	}
	for _, name := range []string{"text", "deleted-here", "settled", "half"} {
		alter(i, name, "THEIRS")
	}
	i.Write("clean", strings.Replace(lines, "eight", "EIGHT", 1))
	i.Write("both-added", "theirs\n")
	i.Svn("propset", "-q", "skerry:note", "theirs", "text", ".")
	i.Svn("rm", "-q", "deleted-there")
	i.Commit("theirs")
	for _, name := range []string{"text", "deleted-there", "settled", "half", "clean"} {
		alter(r, name, "MINE")
	}
	r.Svn("rm", "-q", "deleted-here")
	r.Write("both-added", "mine\n")
	r.Svn("propset", "-q", "skerry:note", "mine", "text", ".")
	r.Commit("mine")
	r.Svn("update", "-q")
	r.Write("listed", "edited\n"+lines)
	r.Svn("changelist", "-q", "a list", "listed")
	r.Svn("changelist", "-q", "for later", "clean")
	r.Svn("merge", "-q", "--accept", "postpone", "^/trunk")
	r.Write("settled", strings.Replace(lines, "two", "MINE and THEIRS", 1)) // by hand
	half := r.Read("half")
	at, end := strings.Index(half, "<<<<<<< "), strings.Index(half, ">>>>>>> ")
	end += strings.IndexByte(half[end:], '\n') + 1
	r.Write("half", half[:at]+"MINE and THEIRS\n"+half[end:])
	before := state(t, r.Dir)

	c := &crew{T: t, url: url, ilka: i, runa: r}
	s := c.session(r.Dir)
	_, err := s.Locate(t.Context(), true)
	stuck := (*plan.StuckError)(nil)
	require.ErrorAs(t, err, &stuck)
	assert.Contains(t, stuck.Stuck.Sentence(), "conflicts")
	require.NoError(t, s.TakeOver(t.Context(), ledger.Finish))
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	made := s.Ledger.State().Decisions
	j, err := s.Planner.Join(t.Context(), p, plan.Merge, &made, plan.Amends{}, nil)
	require.NoError(t, err)
	var asked []string
	for _, q := range j.Questions() {
		asked = append(asked, q.Path)
	}
	slices.Sort(asked)
	assert.Equal(t, []string{".svn/properties/skerry:note", ".svn/properties/text/skerry:note", "both-added",
		"deleted-here", "deleted-there", "half", "half", "text", "text"}, asked)
	require.Equal(t, len(asked)-1, j.Open, "one was settled by hand")
	_, err = applytest.Join(t.Context(), s, plan.Merge)
	require.NoError(t, err)
	assert.Equal(t, strings.NewReplacer("two", "MINE\nTHEIRS", "seven", "MINE too\nTHEIRS too").Replace(lines),
		r.Read("text"))
	assert.Equal(t, strings.NewReplacer("two", "MINE and THEIRS", "seven", "MINE too\nTHEIRS too").Replace(lines),
		r.Read("half"))
	assert.Equal(t, strings.Replace(lines, "two", "MINE and THEIRS", 1), r.Read("settled"))
	assert.Contains(t, r.Read("clean"), "EIGHT")
	assert.Contains(t, statusOf(r), "--- Changelist 'a list':\nM       listed")
	assert.Contains(t, statusOf(r), "--- Changelist 'for later':\nM       clean")
	assert.NotRegexp(t, `(?m)^(C|.C|......C)|\?`, statusOf(r), "no conflict is left, and no stray copy")
	assert.Equal(t, "/trunk:3-5", r.Svn("propget", "svn:mergeinfo", "."))
	_, err = s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, before, state(t, r.Dir))
}

// TestPropertiesAreJoined: by their own rules, side by side where the order of lines does not matter, and never both
// under two names.
func TestPropertiesAreJoined(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	i.Write("text", lines)
	i.Svn("propset", "-q", "svn:mergeinfo", "/branches/a:2", ".")
	i.Svn("propset", "-q", "svn:ignore", "*.o\n*.tmp", ".")
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	for c, own := range map[*svntest.Copy][3]string{i: {"/branches/a:2-5", "*.exe", "theirs"},
		r: {"/branches/a:2,7\n/branches/b:3", "*.dll", "mine"}} {
		c.Svn("propset", "-q", "svn:mergeinfo", own[0], ".")
		c.Svn("propset", "-q", "svn:ignore", "*.o\n*.tmp\n"+own[1], ".")
		c.Svn("propset", "-q", "skerry:note", own[2], "text")
	}
	i.Commit("theirs")
	s := (&crew{T: t, url: url, ilka: i, runa: r}).session(r.Dir)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	pl, err := s.Planner.Plan(t.Context(), p, &settle.Decisions{}, nil)
	require.NoError(t, err)
	asked := map[string]settle.Way{}
	for _, q := range pl.Rebase.Questions() {
		if asked[q.Path] = q.Suggested; q.Suggested == settle.Weave {
			o, _ := q.Option(settle.Weave)
			assert.Equal(t, "*.dll\n*.exe\n", o.Text)
		}
		_, both := q.Option(settle.Both)
		assert.False(t, both, q.Path)
	}
	assert.Equal(t, map[string]settle.Way{".svn/properties/svn:ignore": settle.Weave,
		".svn/properties/text/skerry:note": ""}, asked)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	assert.Equal(t, "/branches/a:2-5,7\n/branches/b:3", r.Svn("propget", "svn:mergeinfo", "."))
}
