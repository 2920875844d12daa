package svnapply_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/applytest"
	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/replay"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
	"dorvik.dev/dorvik/internal/svntest"
)

// TestSingleEditsAreCheckedIn: of a file one edit goes in a list, another in a second one, and the rest stays.
func TestSingleEditsAreCheckedIn(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	text := lines + "nine\nten\neleven\ntwelve\n"
	i.Write("text", text)
	i.Write("listed", lines)
	i.Write("whole", lines)
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	with := func(pairs ...string) string { return strings.NewReplacer(pairs...).Replace(text) }
	all := with("two", "TWO", "seven", "SEVEN", "twelve", "TWELVE")
	r.Write("text", all)
	r.Write("listed", "mine\n"+lines)
	r.Write("whole", "mine\n"+lines)
	r.Svn("changelist", "-q", "zlist", "listed")
	before := state(t, r.Dir)
	c := &crew{T: t, url: url, ilka: i, runa: r}
	s := c.session(r.Dir)
	commit := func(text, message string, more ...string) {
		_, err := s.Commits.Make(t.Context(), recovery.Draft{Paths: append(more, "text"),
			Texts: map[string]string{"text": text}, Message: message}, change.Consent{})
		require.NoError(t, err)
		assert.Equal(t, all, r.Read("text"), "the file stays")
	}
	commit(with("two", "TWO"), "Second")
	undone := state(t, r.Dir)
	commit(with("two", "TWO", "seven", "SEVEN"), "First, by its name", "whole")

	yours := func() (out []string) {
		p, err := s.Locate(t.Context(), true)
		require.NoError(t, err)
		for _, n := range p.Divergence.Yours {
			e, err := s.Planner.Store.Find(t.Context(), n.Tree, "text")
			require.NoError(t, err)
			text, err := s.Planner.Store.Text(t.Context(), e.ID)
			require.NoError(t, err)
			out = append(out, n.Subject()+": "+strings.Join(upper(text), " "))
		}
		return out
	}
	assert.Equal(t, []string{"First, by its name: TWO SEVEN", "Second: TWO", "zlist: "}, yours())
	_, err := s.Applier.GoBack(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, undone, state(t, r.Dir))
	assert.Equal(t, []string{"Second: TWO", "zlist: "}, yours())
	commit(with("two", "TWO", "seven", "SEVEN"), "First, by its name", "whole")

	// somebody is first: the parts are joined with that
	i.Write("text", with("four", "FOUR"))
	i.Commit("theirs")
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, plan.NotTrivial, p.Trivial())
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	assert.Equal(t, []string{"First, by its name: TWO FOUR SEVEN", "Second: TWO FOUR", "zlist: FOUR"}, yours())
	assert.Equal(t, strings.Replace(all, "four", "FOUR", 1), r.Read("text"))

	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, pushed.Refusal)
	i.Svn("update", "-q")
	assert.Equal(t, with("four", "FOUR", "two", "TWO", "seven", "SEVEN"), i.Read("text"))
	assert.Equal(t, strings.Replace(all, "four", "FOUR", 1), r.Read("text"))
	assert.Equal(t, "M       text", r.Svn("status"), "the rest")
	for rev, want := range map[string]string{"4": "FOUR", "5": "TWO FOUR", "6": "TWO FOUR SEVEN"} {
		assert.Equal(t, want, strings.Join(upper(i.Svn("cat", "-r", rev, "text")), " "), rev)
	}
	assert.Equal(t, []string{"zlist", "Second", "First, by its name"}, messages(i, "4:6"))
	assert.NotEmpty(t, before)
}

// TestAPartIsOfWhatIsCheckedOut: a part that is noted of another content than what is checked out does not count.
func TestAPartIsOfWhatIsCheckedOut(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	i.Write("text", lines)
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	r.Write("text", strings.NewReplacer("two", "TWO", "eight", "EIGHT").Replace(lines))
	r.Write("other", lines)
	r.Svn("add", "-q", "other")
	r.Svn("changelist", "-q", "list", "other")
	c := &crew{T: t, url: url, ilka: i, runa: r}
	s := c.session(r.Dir)
	_, err := s.Commits.Make(t.Context(), recovery.Draft{Paths: []string{"text"}, Message: "Half",
		Texts: map[string]string{"text": strings.Replace(lines, "two", "TWO", 1)}}, change.Consent{})
	require.NoError(t, err)
	i.Write("text", strings.Replace(lines, "five", "FIVE", 1))
	i.Commit("theirs")
	r.Svn("update", "-q") // by svn, which joins the whole file
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.Len(t, p.Divergence.Yours, 1)
	assert.Equal(t, "list", p.Divergence.Yours[0].Subject())
	require.Len(t, p.Dirty, 1)
	assert.Equal(t, "text", p.Dirty[0].Path)
}

// TestWithoutListsSomeIsChosen: where there are no change lists, all is one commit until some is chosen.
func TestWithoutListsSomeIsChosen(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	i.Write("a", lines)
	i.Write("b", lines)
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	r.Write("a", "mine\n"+lines)
	r.Write("b", "mine\n"+lines)
	s := (&crew{T: t, url: url, ilka: i, runa: r}).session(r.Dir)
	look := func() (yours, dirty int) {
		p, err := s.Locate(t.Context(), false)
		require.NoError(t, err)
		return len(p.Divergence.Yours), len(p.Dirty)
	}
	_, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	for _, is := range []struct {
		do           func() error
		yours, dirty int
	}{
		{func() error { return nil }, 1, 0},
		{func() error { return s.Commits.Begin(t.Context()) }, 0, 2},
		{func() error { return s.Commits.End(t.Context()) }, 1, 0},
		{func() error {
			_, err := s.Commits.Make(t.Context(), recovery.Draft{Paths: []string{"a"}}, change.Consent{})
			assert.Error(t, err, "it has no message")
			return nil
		}, 1, 0},
		{func() error {
			_, err := s.Commits.Make(t.Context(), recovery.Draft{Paths: []string{"a"}, Message: "Some"},
				change.Consent{})
			return err
		}, 1, 1},
	} {
		require.NoError(t, is.do())
		yours, dirty := look()
		assert.Equal(t, []int{is.yours, is.dirty}, []int{yours, dirty})
	}
	assert.Equal(t, "M       b\n\n--- Changelist 'Some':\nM       a", r.Svn("status"))
}

// TestACheckInThatWasCutOff: the part is in the repository, and svn here does not know it yet. The next join finds that
// it is there already, and the rest stays.
func TestACheckInThatWasCutOff(t *testing.T) {
	svntest.Isolate(t)
	url := svntest.Repository(t)
	i := svntest.Checkout(t, url+"/trunk", "ilka")
	i.Write("text", lines)
	i.Commit("start")
	r := svntest.Checkout(t, url+"/trunk", "runa")
	half, all := strings.Replace(lines, "two", "TWO", 1), strings.NewReplacer("two", "TWO", "eight", "EIGHT").Replace(
		lines)
	r.Write("text", all)
	s := (&crew{T: t, url: url, ilka: i, runa: r}).session(r.Dir)
	_, err := s.Commits.Make(t.Context(), recovery.Draft{Paths: []string{"text"}, Message: "Half",
		Texts: map[string]string{"text": half}}, change.Consent{})
	require.NoError(t, err)
	before, err := os.ReadFile(r.Dir + "/.svn/wc.db")
	require.NoError(t, err)
	p, err := s.Locate(t.Context(), true)
	require.NoError(t, err)
	pushed, err := s.Push.Tip(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	require.Nil(t, pushed.Refusal)
	require.NoError(t, os.WriteFile(r.Dir+"/.svn/wc.db", before, 0o644)) // as if it had been killed before the end

	p, err = s.Locate(t.Context(), true)
	require.NoError(t, err)
	require.Equal(t, plan.NotTrivial, p.Trivial())
	pl, err := s.Planner.Plan(t.Context(), p, &settle.Decisions{}, nil)
	require.NoError(t, err)
	assert.True(t, pl.Rebase.Clean())
	assert.Equal(t, replay.AlreadyThere, pl.Rebase.Steps[0].Outcome)
	_, err = applytest.Join(t.Context(), s, plan.Rebase)
	require.NoError(t, err)
	assert.Equal(t, all, r.Read("text"))
	assert.Equal(t, "M       text", r.Svn("status"))
	assert.Equal(t, half, r.Svn("cat", "text")+"\n")
}
