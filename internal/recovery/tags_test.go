package recovery

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/plan"
)

// Tags at commits that go are told before the push, and go by the setting or a choice. What the remote holds afterwards
// is asked and told.
func TestTagsThatBelongToAPush(t *testing.T) {
	for name, c := range map[string]struct {
		follow string
		choice change.Tags
		want   Tags
		there  string
		says   string
	}{
		"by default none": {"false", change.UsualTags, Tags{Belong: []string{"light", "v2"}}, "v0", ""},
		"the annotated ones": {"true", change.UsualTags, Tags{Belong: []string{"light", "v1", "v2"},
			Follow: []string{"v1", "v2"}}, "v0\nv1\nv2", "The tags v1 and v2 went, too."},
		"all": {"false", change.AllTags, Tags{Belong: []string{"light", "v2"}}, "light\nv0\nv2",
			"The tags light and v2 went, too."},
		"none all the same": {"true", change.NoTags, Tags{Belong: []string{"light", "v1", "v2"},
			Follow: []string{"v1", "v2"}}, "v0", ""},
	} {
		t.Run(name, func(t *testing.T) {
			tm, ctx := newTeam(t), t.Context()
			tm.mine.Git("config", "push.followTags", c.follow)
			tm.mine.Git("tag", "-a", "-m", "v0", "v0")
			tm.mine.Git("push", "-q", "origin", "v0")
			tm.mine.Git("tag", "-a", "-m", "v1", "v1")
			tm.mine.Git("tag", "old")
			tm.mine.Commit("mine", "m", "m\n")
			tm.mine.Git("tag", "-a", "-m", "v2", "v2")
			tm.mine.Git("tag", "light")
			tm.mine.Git("branch", "else")
			s := tm.session()
			p, err := s.Locate(ctx, true)
			require.NoError(t, err)
			d, err := s.Push.Departure(ctx, p, nil, p.Yours)
			require.NoError(t, err)
			assert.Equal(t, c.want, d.Tags)
			done, err := s.Push.Tip(ctx, p, change.Consent{Tags: c.choice})
			require.NoError(t, err)
			require.Nil(t, done.Refusal)
			assert.Equal(t, c.there, tm.remote.Git("tag"))
			assert.Equal(t, c.says, done.TagsSentence())
		})
	}
}

// A tag that the remote has otherwise is not replaced, and the branch goes all the same; after a rebase tags stay where
// they were.
func TestTagsThatStay(t *testing.T) {
	tm, ctx := newTeam(t), t.Context()
	tm.mine.Commit("mine", "m", "m\n")
	tm.mine.Git("tag", "v1")
	tm.other.Commit("theirs", "o", "o\n")
	tm.other.Git("tag", "v2")
	tm.other.Git("push", "-q", "origin", "main", "v2")
	s := tm.session()
	p, j, b := ready(t, s, plan.Rebase, settle.Yours)
	d, err := s.Push.Departure(ctx, p, j, b.Tip)
	require.NoError(t, err)
	assert.Equal(t, Tags{Stay: []string{"v1"}}, d.Tags)
	_, err = s.Accept(ctx, p, j, b, change.Consent{RewritePublished: true})
	require.NoError(t, err)
	tm.mine.Git("tag", "-f", "v2")
	p, err = s.Locate(ctx, true)
	require.NoError(t, err)
	done, err := s.Push.Tip(ctx, p, change.Consent{Tags: change.AllTags})
	require.NoError(t, err)
	require.Nil(t, done.Refusal)
	assert.Equal(t, "origin did not take the tag v2: it has another of that name, or refuses it.", done.TagsSentence())
	assert.Equal(t, tm.mine.Git("rev-parse", "main"), tm.remote.Git("rev-parse", "main"))
	assert.Equal(t, tm.other.Git("rev-parse", "v2"), tm.remote.Git("rev-parse", "v2"))
}
