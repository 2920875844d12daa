package recovery

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
)

// TestAttributesAgreeWithGit joins random texts under attributes from all places
// they can come from, drivers among them.
func TestAttributesAgreeWithGit(t *testing.T) {
	t.Parallel()
	gittest.Isolate(t)
	s := &story{Rand: rand.New(rand.NewPCG(7, 7))}
	repo := gittest.New(t)
	home := t.TempDir()
	repo.Write("../users", "*.u merge=union\n*.x -merge\n")
	require.NoError(t, os.Rename(filepath.Join(repo.Dir, "../users"), filepath.Join(home, "users")))
	repo.Git("config", "core.attributesFile", filepath.Join(home, "users"))
	repo.Git("config", "merge.last.driver", "tail -n 3 %B > %A; test %L = 9 && test -n %P")
	gittest.Own(t, "dorvik.last.agreed", "true")
	repo.Git("config", "merge.never.driver", "exit 1")
	gittest.Own(t, "dorvik.never.agreed", "true")
	require.NoError(t, os.MkdirAll(filepath.Join(repo.Dir, ".git", "info"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(repo.Dir, ".git", "info", "attributes"), []byte("over*.x merge\n"),
		0o644))
	repo.Write(".gitattributes", "*.b binary\n*.drive merge=last conflict-marker-size=9\n*.none "+
		"merge=undefined\n*.never merge=never\n")
	repo.Write("d/.gitattributes", "*.b merge\n*.u !merge\nlist* merge=union\n")
	var files []string
	for n := range 40 {
		for _, f := range []string{"a%d.u", "b%d.b", "plain%d", "d/b%d.b", "d/a%d.u", "d/list%d", "c%d.x",
			"over%d.x", "k%d.drive", "k%d.none", "k%d.never"} {
			files = append(files, fmt.Sprintf(f, n))
		}
	}
	edit := func(text string) string {
		f := map[string]file{"f": {"100644", text}}
		for range 1 + s.IntN(3) {
			lines := strings.SplitAfter(f["f"].text, "\n")
			at := s.IntN(len(lines))
			f["f"] = file{"100644", strings.Join(lines[:at], "") + s.lines("f", s.IntN(3)) +
				strings.Join(lines[min(len(lines), at+s.IntN(3)):], "")}
		}
		return f["f"].text
	}
	base := map[string]string{}
	for _, f := range files {
		base[f] = s.lines("f", 4+s.IntN(12))
		repo.Write(f, base[f])
	}
	repo.Commit("base")
	for _, branch := range []string{"yours", "theirs"} {
		repo.Git("checkout", "-q", "-b", branch, "main")
		for _, f := range files {
			repo.Write(f, edit(base[f]))
		}
		repo.Commit(branch)
	}
	w, _, j, err := joined(t, repo, "yours", "theirs", plan.Merge)
	require.NoError(t, err)
	out, _ := repo.Try("merge-tree", "--write-tree", "--name-only", "--no-messages", "yours", "theirs")
	tree, contested, _ := strings.Cut(strings.TrimSpace(out), "\n")
	assert.ElementsMatch(t, strings.Split(contested, "\n"), conflictPaths(j.Stops))
	ids := map[string]string{}
	for line := range strings.SplitSeq(repo.Git("ls-tree", "-r", tree), "\n") {
		entry, path, _ := strings.Cut(line, "\t")
		ids[path] = strings.Fields(entry)[2]
	}
	clean := 0
	for _, f := range files {
		if strings.Contains(out, "\n"+f+"\n") || strings.HasSuffix(out, "\n"+f) {
			continue
		}
		got, err := w.Planner.Store.Find(t.Context(), j.Tree, f)
		require.NoError(t, err)
		assert.Equal(t, ids[f], got.ID.String(), f)
		clean++
	}
	assert.Greater(t, clean, 100)
}

// TestAttributesStartNoCommands holds that what a repository's attributes say never
// becomes part of a driver's command.
func TestAttributesStartNoCommands(t *testing.T) {
	gittest.Isolate(t)
	repo := gittest.New(t)
	ran := filepath.Join(t.TempDir(), "ran")
	repo.Commit("base", ".gitattributes", "* merge=mine conflict-marker-size=7;touch${IFS}"+ran+"\n", "$(touch x)'f",
		base)
	repo.Git("branch", "theirs")
	repo.Commit("yours", "$(touch x)'f", strings.Replace(base, "one", "ONE", 1))
	repo.Git("checkout", "-q", "theirs")
	repo.Commit("theirs", "$(touch x)'f", strings.Replace(base, "five", "FIVE", 1))
	repo.Git("config", "merge.mine.driver", "echo %L %P > %A")
	gittest.Own(t, "dorvik.mine.agreed", "true")
	w, _, j, err := joined(t, repo, "main", "theirs", plan.Merge)
	require.NoError(t, err)
	text, _, err := w.Planner.TextAt(t.Context(), j.Tree, "$(touch x)'f")
	require.NoError(t, err)
	assert.Equal(t, "7 $(touch x)'f\n", text)
	assert.NoFileExists(t, ran)
	assert.NoFileExists(t, filepath.Join(repo.Dir, "x"))
}

// withDriver makes a repository in which the attributes of a file that two branches
// edited name a merge driver.
func withDriver(t *testing.T) *gittest.Repo {
	gittest.Isolate(t)
	repo := gittest.New(t)
	repo.Commit("base", ".gitattributes", "f merge=mine\n", "f", base)
	repo.Git("branch", "theirs")
	repo.Commit("yours", "f", strings.Replace(base, "one", "ONE", 1))
	repo.Git("checkout", "-q", "theirs")
	repo.Commit("theirs", "f", strings.Replace(base, "five", "FIVE", 1))
	return repo
}

func TestADriverRunsOnlyWhenAgreedTo(t *testing.T) {
	repo := withDriver(t)
	ran := filepath.Join(t.TempDir(), "ran")
	for _, c := range []struct{ command, agreed, note, want string }{
		{fmt.Sprintf("touch %s; echo driven > %%A", ran), "", "runs only once you agree", "ONE"},
		{fmt.Sprintf("touch %s; echo driven > %%A", ran), "true", "joined by your merge driver", "driven\n"},
		{"exit 1", "true", "left this to you", ""},
		{"kill -9 $$", "true", "left to you: the merge driver “kill -9 $$” failed", ""},
	} {
		repo.Git("config", "merge.mine.driver", c.command)
		if c.agreed != "" {
			gittest.Own(t, "dorvik.mine.agreed", c.agreed)
		}
		w, _, j, err := joined(t, repo, "main", "theirs", plan.Merge)
		require.NoError(t, err)
		require.Len(t, j.Remarks(), 1)
		assert.Contains(t, j.Remarks()[0].Words, c.note)
		assert.Equal(t, c.want != "", j.Clean())
		if c.agreed == "" {
			assert.NoFileExists(t, ran)
		}
		if c.want != "" {
			text, _, err := w.Planner.TextAt(t.Context(), j.Tree, "f")
			require.NoError(t, err)
			assert.Contains(t, text, c.want)
		}
	}
}

func TestADriverIsAgreedToHereAndEndedInTime(t *testing.T) {
	t.Parallel()
	repo := withDriver(t)
	repo.Git("config", "merge.mine.driver", "sleep 600")
	s, err := OpenSession(t.Context(), repo.Dir)
	require.NoError(t, err)
	defer s.Close()
	s.Workspace.Drivers.Limit = time.Millisecond
	join := func() *plan.Join {
		p, err := s.Workspace.Compare(t.Context(), "main", "theirs", false)
		require.NoError(t, err)
		j, err := s.Planner.Join(t.Context(), p, plan.Merge, &settle.Decisions{}, plan.Amends{}, nil)
		require.NoError(t, err)
		return j
	}
	asks, err := s.Workspace.Drivers.Unagreed(t.Context(), join())
	require.NoError(t, err)
	require.Equal(t, []prove.MergeDriver{{Name: "mine", Command: "sleep 600"}}, asks)
	require.NoError(t, s.Ledger.Agree(asks[0].String()))
	j := join()
	require.Len(t, j.Remarks(), 1)
	assert.Contains(t, j.Remarks()[0].Words, "took longer than 1ms and was ended")
	assert.False(t, j.Clean(), "it is left to a person")
	asks, err = s.Workspace.Drivers.Unagreed(t.Context(), j)
	require.NoError(t, err)
	assert.Empty(t, asks)
	repo.Git("config", "merge.mine.driver", "another")
	assert.False(t, s.Ledger.AgreedTo(prove.MergeDriver{Name: "mine", Command: "another"}.String()),
		"another command is asked about again")
}
