package hgapply_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/hgtest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
)

// stops are the operations that hg leaves half done, each with what begins it.
var stops = map[string]func(r *hgtest.Folder){
	"merge": func(r *hgtest.Folder) { r.Try("merge", "-q", "--tool", ":merge") },
	"rebase": func(r *hgtest.Folder) {
		r.Try("rebase", "-q", "--tool", ":merge", "-d", "desc('theirs')")
	},
	"rebase at the second": func(r *hgtest.Folder) {
		r.Try("rebase", "-q", "--tool", ":merge", "-d", "desc('theirs')")
		r.Write("f", strings.Replace(base, "two", "SETTLED", 1))
		r.Hg("resolve", "-q", "--mark", "f")
		r.Try("rebase", "-q", "--tool", ":merge", "--continue")
	},
	"graft": func(r *hgtest.Folder) {
		r.Hg("update", "-q", "desc('theirs')")
		r.Try("graft", "-q", "--tool", ":merge", "desc('mine')", "desc('mine again')")
	},
}

// newStopped is a repository in which hg left an operation half done.
func newStopped(t *testing.T, what string) *crew {
	return copyOf(t, what, func(i *hgtest.Folder) {
		i.Write("f", base)
		i.Write("g", base)
		i.Commit("start")
	}, func(c *crew) {
		c.part()
		stops[what](c.runa)
	})
}

// part has both change two files.
func (c *crew) part() {
	r := c.runa
	r.Write("f", strings.Replace(base, "two", "MINE", 1))
	r.Commit("mine")
	r.Write("g", strings.Replace(base, "two", "MINE", 1))
	r.Commit("mine again")
	r.Write("m", "m\n")
	r.Commit("mine at last")
	c.ilka.Write("f", strings.Replace(base, "two", "THEIRS", 1))
	c.ilka.Write("g", strings.Replace(base, "two", "THEIRS", 1))
	c.ilka.Write("t", "t\n")
	c.ilka.Commit("theirs")
	c.ilka.Hg("push", "-q")
	r.Hg("pull", "-q")
}

// midway is the state with what hg knows of the operation.
func midway(t *testing.T, dir string) map[string]string {
	out := state(t, dir)
	at := hgtest.At(t, dir, "nobody")
	out["-open"], _ = at.Try("files", "set:unresolved()")
	for _, name := range []string{"rebasestate", "graftstate", "merge/state2"} {
		if data, err := os.ReadFile(filepath.Join(dir, ".hg", name)); err == nil {
			out["-"+name] = string(data)
		}
	}
	out["-status"] = strings.ReplaceAll(out["-status"], "A t", "M t") // hg says M of what the second parent has
	maps.DeleteFunc(out, func(path, _ string) bool { return strings.HasSuffix(path, ".orig") })
	return out
}

// TestHalfDone goes on with what hg left half done, joins it anew, or takes it back; and undoes each.
func TestHalfDone(t *testing.T) {
	for what := range stops {
		for i, how := range []ledger.TakeOver{ledger.Finish, ledger.Anew, "back"} {
			few := what == "rebase at the second" && i != 1 || what == "merge" && i == 0 || what == "graft" && i == 0
			if !few && os.Getenv("DORVIK_FILES") == "" {
				continue // the soak tries all
			}
			t.Run(fmt.Sprintf("%s %s", what, how), func(t *testing.T) {
				c := newStopped(t, what)
				before := midway(t, c.runa.Dir)
				require.NotEmpty(t, before["-open"])
				s := c.session()
				defer s.Close()
				ctx := t.Context()
				st, err := s.Workspace.Stuck(ctx)
				require.NoError(t, err)
				assert.True(t, strings.HasPrefix(st.Sentence(), "Mercurial stopped in the middle of a"), st.Sentence())
				if how == "back" {
					_, err = s.GiveBack(ctx)
					require.NoError(t, err)
				} else {
					if how == ledger.Anew && st.NotAnew() != "" {
						t.Skip(st.NotAnew())
					}
					require.NoError(t, s.TakeOver(ctx, how))
					takeOver(t, s)
				}
				after := midway(t, c.runa.Dir)
				assert.Empty(t, after["-open"])
				assert.Empty(t, after["-status"])
				assert.Empty(t, s.Repo.Busy())
				switch {
				case how == "back" && what == "graft":
					assert.Equal(t, strings.Replace(base, "two", "THEIRS", 1), c.runa.Read("f"))
				case how == "back":
					assert.Equal(t, strings.Replace(base, "two", "MINE", 1), c.runa.Read("f"))
					assert.Equal(t, "mine at last", c.runa.Hg("log", "-r", ".", "-T", "{desc}"))
				default:
					want := strings.Replace(base, "two", "MINE\nTHEIRS", 1)
					if what == "graft" && how == ledger.Anew { // what was brought over is left out
						want = strings.Replace(base, "two", "THEIRS", 1)
					}
					if what == "graft" && how == ledger.Finish { // the branch's is yours
						want = strings.Replace(base, "two", "THEIRS\nMINE", 1)
					}
					assert.Equal(t, want, c.runa.Read("g"))
					if what == "rebase at the second" { // it was settled before
						want = strings.Replace(base, "two", "SETTLED", 1)
					}
					assert.Equal(t, want, c.runa.Read("f"))
					assert.Equal(t, "t\n", c.runa.Read("t"))
				}
				_, err = s.Applier.GoBack(ctx, "")
				require.NoError(t, err)
				assert.Equal(t, before, midway(t, c.runa.Dir), "half done again")
			})
		}
	}
}

// takeOver settles what is asked and accepts.
func takeOver(t *testing.T, s *recovery.Session) {
	ctx := t.Context()
	p, err := s.Locate(ctx, false)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	j, err := s.SettleBy(ctx, p, plan.Rebase, []settle.Way{settle.YoursTheirs, settle.Theirs})
	require.NoError(t, err)
	require.Zero(t, j.Open)
	b, err := s.Planner.Build(ctx, p, j)
	require.NoError(t, err)
	_, err = s.Accept(ctx, p, j, b, change.Consent{})
	require.NoError(t, err)
}

// TestOnlyHgCanFinishIt: what Dorvik cannot read is told with hg's own way on.
func TestOnlyHgCanFinishIt(t *testing.T) {
	c := newStopped(t, "graft")
	r := c.runa
	r.Hg("graft", "--abort")
	r.Hg("update", "-q", "desc('mine at last')")
	r.Write("f", strings.Replace(base, "two", "SHELVED", 1))
	r.Hg("shelve", "-q")
	r.Hg("update", "-q", "desc('theirs')")
	r.Try("unshelve", "-q", "--tool", ":merge")
	s, err := recovery.OpenSession(t.Context(), r.Dir)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Locate(t.Context(), false)
	require.Error(t, err)
	assert.Equal(t, "hg unshelve stopped in the middle. “hg unshelve --continue” goes on, and “hg unshelve --abort” takes it "+
		"back. Nothing was changed", err.Error())
}
