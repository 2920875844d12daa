package hgapply_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
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
	"rebase that keeps": func(r *hgtest.Folder) {
		r.Hg("bookmark", "mine")
		r.Hg("bookmark", "-r", "desc('mine again')", "-i", "low")
		r.Try("rebase", "-q", "--keep", "--tool", ":merge", "-d", "desc('theirs')")
	},
	"rebase, settled": func(r *hgtest.Folder) {
		r.Try("rebase", "-q", "--tool", ":merge", "-d", "desc('theirs')")
		r.Write("f", strings.Replace(base, "two", "SETTLED", 1))
		r.Hg("resolve", "-q", "--mark", "f")
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
	at, done := hgtest.Borrow(t, dir)
	defer done()
	out["-open"], _ = at.Try("files", "set:unresolved()")
	for _, name := range []string{"rebasestate", "graftstate", "histedit-state", "shelvedstate", "merge/state2"} {
		if data, err := os.ReadFile(filepath.Join(dir, ".hg", name)); err == nil {
			out["-"+name] = string(data)
		}
	}
	status := strings.Split(out["-status"], "\n")
	for i, line := range status { // hg says M of what the second parent has
		status[i] = strings.Replace(line, "A ", "M ", 1)
	}
	slices.Sort(status)
	out["-status"] = strings.Join(status, "\n")
	maps.DeleteFunc(out, func(path, _ string) bool { return strings.HasSuffix(path, ".orig") })
	return out
}

// TestHalfDone goes on with what hg left half done, joins it anew, or takes it back; and undoes each.
func TestHalfDone(t *testing.T) {
	for what := range stops {
		for _, how := range []ledger.TakeOver{ledger.Finish, ledger.Anew, ledger.Back} {
			name := fmt.Sprint(what, " ", how)
			if !slices.Contains([]string{"rebase, settled finish", "rebase at the second back", "merge finish",
				"graft finish"}, name) && os.Getenv("DORVIK_FILES") == "" {
				continue // the soak tries all
			}
			t.Run(name, func(t *testing.T) {
				c := newStopped(t, what)
				before := midway(t, c.runa.Dir)
				require.Equal(t, what == "rebase, settled", before["-open"] == "")
				s := c.session()
				defer s.Close()
				ctx := t.Context()
				st, err := s.Workspace.Stuck(ctx)
				require.NoError(t, err)
				assert.True(t, strings.HasPrefix(st.Sentence(), "Mercurial stopped in the middle of a"), st.Sentence())
				if how == ledger.Back {
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
				case how == ledger.Back && what == "graft":
					assert.Equal(t, strings.Replace(base, "two", "THEIRS", 1), c.runa.Read("f"))
				case how == ledger.Back:
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
					if what == "rebase at the second" || what == "rebase, settled" { // it was settled before
						want = strings.Replace(base, "two", "SETTLED", 1)
					}
					assert.Equal(t, want, c.runa.Read("f"))
					assert.Equal(t, "t\n", c.runa.Read("t"))
					if what == "rebase that keeps" {
						assert.Equal(t, "low  mine", c.runa.Hg("log", "-r", "desc('mine again')", "-T", "{bookmarks} ")+
							c.runa.Hg("log", "-r", ".", "-T", "{activebookmark}"), "both are there")
					}
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

// TestARebaseThatIsNotFollowed says why, and takes it back.
func TestARebaseThatIsNotFollowed(t *testing.T) {
	for why, begin := range map[string]func(r *hgtest.Folder) []string{
		"its list has “collapse”, which Dorvik does not know": func(*hgtest.Folder) []string {
			return []string{"--collapse", "-m", "all", "-b", "."}
		},
		"its list has “changesets of a line that you were not on”, which Dorvik does not know": func(
			r *hgtest.Folder) []string {
			r.Hg("update", "-q", "desc('start')")
			return []string{"-s", "desc('re:^mine$')"}
		},
		"its list has “another line of changesets”, which Dorvik does not know": func(r *hgtest.Folder) []string {
			r.Hg("update", "-q", "desc('re:^mine$')")
			r.Write("side", "side\n")
			r.Commit("side")
			return []string{"-s", "desc('re:^mine$')"}
		},
	} {
		c := copyOf(t, "parted", func(i *hgtest.Folder) {
			i.Write("f", base)
			i.Write("g", base)
			i.Commit("start")
		}, (*crew).part)
		args := begin(c.runa)
		before := midway(t, c.runa.Dir)
		c.runa.Try(append([]string{"rebase", "-q", "--tool", ":merge", "-d", "desc('theirs')"}, args...)...)
		require.NotEqual(t, before, midway(t, c.runa.Dir))
		s := c.session()
		st, err := s.Workspace.Stuck(t.Context())
		require.NoError(t, err)
		assert.Nil(t, st.Resume)
		assert.Equal(t, why, st.Why)
		_, err = s.GiveBack(t.Context())
		require.NoError(t, err)
		assert.Equal(t, before, midway(t, c.runa.Dir), why)
		s.Close()
	}
}

// mess makes a line of four changesets that change one file, with bookmarks.
func mess(c *crew) {
	r := c.runa
	for _, word := range []string{"A", "B", "C", "D"} {
		r.Write("f", strings.Replace(base, "two", word, 1))
		r.Write(word, word)
		r.Commit(word)
	}
	r.Hg("bookmark", "-r", "desc('re:^B')", "-i", "low")
	r.Hg("bookmark", "mine")
}

// edits are lists of histedit that stop, and what the files and changesets are when Dorvik has gone on with it: where
// both sides have something, both are taken.
var edits = map[string]struct{ list, f, log string }{
	"pick":        {"drop A|pick B|pick C|pick D", "D\nC\nB\ntwo", "start ;B low;C ;D mine;"},
	"after":       {"pick A|pick C|pick D|drop B", "D\nC\nA", "start ;A low;C ;D mine;"},
	"fold":        {"pick A|fold C|pick B|pick D", "D\nB\nC\nA", "start ;A++C ;B low;D mine;"},
	"roll":        {"pick A|roll C|pick B|pick D", "D\nB\nC\nA", "start ;A ;B low;D mine;"},
	"mess":        {"drop A|mess B|pick C|pick D", "D\nC\nB\ntwo", "start ;B low;C ;D mine;"},
	"edit, clean": {"pick A|edit B|pick C|pick D", "D", "start ;A ;B low;C ;D mine;"},
}

// TestHistedit goes on with a histedit that stopped, or takes it back; and undoes each.
func TestHistedit(t *testing.T) {
	for what, of := range edits {
		for _, how := range []ledger.TakeOver{ledger.Finish, ledger.Back} {
			few := what == "fold" && how == ledger.Finish || what == "after" && how == ledger.Back
			if !few && os.Getenv("DORVIK_FILES") == "" {
				continue // the soak tries all
			}
			t.Run(what+" "+string(how), func(t *testing.T) {
				c := copyOf(t, "histedit", func(i *hgtest.Folder) {
					i.Write("f", base)
					i.Commit("start")
				}, mess)
				r := c.runa
				was := state(t, r.Dir)
				list := filepath.Join(t.TempDir(), "list")
				text := regexp.MustCompile(`(\w+) (\w)(\||$)`).ReplaceAllStringFunc(of.list, func(rule string) string {
					verb, name, _ := strings.Cut(strings.TrimSuffix(rule, "|"), " ")
					return verb + " " + r.Hg("log", "-r", "desc('re:^"+name+"')", "-T", "{node|short}") + "\n"
				})
				require.NoError(t, os.WriteFile(list, []byte(text), 0o644))
				said, _ := r.Try("histedit", "--config", "ui.merge=:merge", "desc('re:^A')", "--commands", list)
				before := midway(t, r.Dir)
				require.Contains(t, before, "-histedit-state", said)
				s := c.session()
				defer s.Close()
				if how == ledger.Back {
					_, err := s.GiveBack(t.Context())
					require.NoError(t, err)
					is := state(t, r.Dir)
					maps.DeleteFunc(is, func(path, _ string) bool { return strings.HasSuffix(path, ".orig") })
					assert.Equal(t, was, is)
				} else {
					require.NoError(t, s.TakeOver(t.Context(), how))
					takeOver(t, s)
					assert.Equal(t, of.log, r.Hg("log", "-r", "sort(::., rev)", "-T",
						"{join(splitlines(desc), '+')} {join(bookmarks, ' ')};"))
					assert.Equal(t, strings.Replace(base, "two", of.f, 1), r.Read("f"))
				}
				_, err := s.Applier.GoBack(t.Context(), "")
				require.NoError(t, err)
				assert.Equal(t, before, midway(t, r.Dir), "half done again")
			})
		}
	}
}

// shelve has uncommitted work meet a changeset that changed the same lines, and others: by unshelving it, with more
// work on top of the changeset or without, or by taking it along to that.
func shelve(how string) func(c *crew) {
	return func(c *crew) {
		r := c.runa
		r.Hg("bookmark", "mine")
		edit := func() {
			r.Write("f", strings.Replace(base, "two", "SHELVED", 1))
			r.Write("g", strings.Replace(base, "seven", "SHELVED", 1))
			r.Write("added", "added\n")
			r.Hg("add", "-q", "added")
			r.Hg("rm", "-q", "gone")
			r.Write("loose", "loose\n")
		}
		theirs := func() {
			r.Write("f", strings.Replace(base, "two", "THEIRS", 1))
			r.Write("g", strings.Replace(base, "two", "THEIRS", 1))
			r.Commit("theirs")
		}
		if how == "update" {
			theirs()
			r.Hg("update", "-q", "desc('start')")
			edit()
			r.Try("update", "-q", "--tool", ":merge", "desc('theirs')")
			return
		}
		edit()
		r.Hg("shelve", "-q", "-u")
		theirs()
		if how == "unshelve on work" {
			r.Write("more", "more\n")
			r.Hg("add", "-q", "more")
			r.Write("h", "edited\n")
		}
		r.Try("unshelve", "-q", "--tool", ":merge")
	}
}

// TestWorkThatDoesNotFit settles what an unshelve or an update left in conflict, or takes it back; and undoes each.
func TestWorkThatDoesNotFit(t *testing.T) {
	for _, how := range []string{"unshelve", "unshelve on work", "update"} {
		for _, back := range []bool{false, true} {
			if how == "unshelve" && (back || os.Getenv("DORVIK_FILES") == "") {
				continue // the soak tries more
			}
			t.Run(fmt.Sprintf("%s, back: %v", how, back), func(t *testing.T) {
				c := copyOf(t, how, func(i *hgtest.Folder) {
					for _, name := range []string{"f", "g", "h", "gone"} {
						i.Write(name, base)
					}
					i.Commit("start")
				}, shelve(how))
				r := c.runa
				before := midway(t, r.Dir)
				assert.Equal(t, "f", before["-open"])
				s := c.session()
				defer s.Close()
				st, err := s.Workspace.Stuck(t.Context())
				require.NoError(t, err)
				if how == "update" {
					assert.Contains(t, st.Sentence(), "your files contain conflicts that belong to no merge or rebase")
				} else {
					assert.Contains(t, st.Sentence(),
						"what was shelved was brought back, and does not fit what is here")
				}
				work := map[string]struct{ before, after string }{
					"unshelve":         {"", "M f\nM g\nA added\nA loose\nR gone"},
					"unshelve on work": {"M h\nA more", "M f\nM g\nM h\nA added\nA loose\nA more\nR gone"},
					"update":           {"", "M f\nM g\nA added\nR gone"},
				}[how]
				if back {
					_, err := s.GiveBack(t.Context())
					if how == "update" {
						require.ErrorContains(t, err, "did not record how the files were")
						return
					}
					require.NoError(t, err)
					assert.Equal(t, strings.Replace(base, "two", "THEIRS", 1), r.Read("f"))
					assert.Equal(t, work.before, r.Hg("status", "-mard"))
					assert.FileExists(t, filepath.Join(r.Dir, ".hg/shelved/mine.hg"))
				} else {
					require.NoError(t, s.TakeOver(t.Context(), ledger.Finish))
					takeOver(t, s)
					assert.Equal(t, strings.Replace(base, "two", "SHELVED\nTHEIRS", 1), r.Read("f"))
					assert.Equal(t, strings.NewReplacer("two", "THEIRS", "seven", "SHELVED").Replace(base), r.Read("g"))
					assert.Equal(t, work.after, r.Hg("status", "-mard"))
					assert.NoFileExists(t, filepath.Join(r.Dir, ".hg/shelved/mine.hg"))
				}
				if how != "update" {
					assert.Equal(t, "mine", r.Hg("log", "-r", ".", "-T", "{activebookmark}"))
				}
				assert.Empty(t, r.Hg("log", "-r", "secret()", "-T", "{desc}"))
				assert.Equal(t, "theirs", r.Hg("log", "-r", ".", "-T", "{desc}"))
				said, _ := r.Try("files", "set:unresolved()")
				assert.Empty(t, said)
				_, err = s.Applier.GoBack(t.Context(), "")
				require.NoError(t, err)
				assert.Equal(t, before, midway(t, r.Dir), "half done again")
				r.Hg(map[bool]string{true: "update", false: "unshelve"}[how == "update"],
					map[bool]string{true: "--clean", false: "--abort"}[how == "update"])
				r.Sound()
			})
		}
	}
}

// TestOnlyHgCanFinishIt: an update that was interrupted, and a histedit whose editor failed, are told with hg's own way
// on.
func TestOnlyHgCanFinishIt(t *testing.T) {
	says := func(c *crew) string {
		s := c.session()
		defer s.Close()
		_, err := s.Locate(t.Context(), false)
		require.Error(t, err)
		return err.Error()
	}
	c := newCrew(t)
	require.NoError(t, os.WriteFile(filepath.Join(c.runa.Dir, ".hg/updatestate"), []byte("\n"), 0o644))
	assert.Equal(t, "hg update was interrupted. “hg update --clean .” goes on without your uncommitted work. Nothing was "+
		"changed", says(c))
	require.NoError(t, os.Remove(filepath.Join(c.runa.Dir, ".hg/updatestate")))
	list := filepath.Join(t.TempDir(), "list")
	require.NoError(t, os.WriteFile(list, []byte(c.runa.Hg("log", "-r", "draft()", "-T",
		"{ifeq(p1.phase, 'public', 'pick', 'fold')} {node|short}\n")), 0o644))
	c.runa.Try("histedit", "--config", "ui.editor=false", "-r", "min(draft())", "--commands", list)
	assert.Equal(t, "hg histedit stopped where only hg itself can go on: “hg histedit --continue” does, and “hg histedit "+
		"--abort” takes it back. Nothing was changed", says(c))
}
