package decided

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/gittest"
)

var update = flag.Bool("update", false, "write what was decided into the test data")

// told is a decision in a line.
func told(d Decision) string {
	where := d.Path
	if !d.Whole {
		where += fmt.Sprint(":", d.Line)
	}
	kind := string(d.Kind)
	if kind == "" {
		kind = "nothing asked"
	}
	return fmt.Sprintf("%s %s: %s %q", where, kind, d.Way, d.Result)
}

// TestDecided has git make merges whose results are edited by hand. Each file of the test
// data is a history: base/, yours/ and theirs/ hold the files of each side, result/ those of
// the merge commit, and decided what was decided in it. A file that is "gone" is removed.
func TestDecided(t *testing.T) {
	files, err := os.ReadDir("testdata")
	require.NoError(t, err)
	for _, f := range files {
		t.Run(strings.TrimSuffix(f.Name(), ".txtar"), func(t *testing.T) {
			a, err := txtar.ParseFile("testdata/" + f.Name())
			require.NoError(t, err)
			repo := gittest.New(t)
			lay := func(of string) {
				for _, f := range a.Files {
					name, ok := strings.CutPrefix(f.Name, of+"/")
					switch {
					case !ok:
					case string(f.Data) == "gone\n":
						repo.Git("rm", "-q", "--ignore-unmatch", "--cached", name)
						require.NoError(t, os.RemoveAll(repo.Dir+"/"+name))
					default:
						repo.Write(name, string(f.Data))
					}
				}
				repo.Git("add", "-A")
			}
			lay("base")
			repo.Git("commit", "-qm", "base")
			repo.Git("branch", "theirs")
			lay("yours")
			repo.Git("commit", "-qm", "yours")
			repo.Git("checkout", "-q", "theirs")
			lay("theirs")
			repo.Git("commit", "-qm", "theirs")
			repo.Git("checkout", "-q", "-")
			_, _ = repo.Try("merge", "--no-commit", "--no-ff", "theirs") // in conflict it fails
			lay("result")
			repo.Git("commit", "-qm", "merge")

			opened, err := git.Open(t.Context(), repo.Dir)
			require.NoError(t, err)
			defer opened.Close()
			o := object.NewOverlay(object.SHA1, opened)
			id, err := object.ParseID(repo.Git("rev-parse", "HEAD"))
			require.NoError(t, err)
			c, err := o.Commit(t.Context(), id)
			require.NoError(t, err)
			account, err := Of(t.Context(), merge.NewEngine(o), settle.NewFiles(o), c)
			require.NoError(t, err)
			got := fmt.Sprintf("%d by themselves\n", account.Joined)
			for _, d := range account.Decisions {
				got += told(d) + "\n"
			}
			if *update { // by hand, after looking at it
				a.Files[len(a.Files)-1].Data = []byte(got)
				require.NoError(t, os.WriteFile("testdata/"+f.Name(), txtar.Format(a), 0o644))
				return
			}
			assert.Equal(t, string(a.Files[len(a.Files)-1].Data), got)
		})
	}
}
