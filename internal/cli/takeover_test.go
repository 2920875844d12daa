package cli

import (
	"os"
	"path/filepath"
	"testing"

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTakeOver: what git left half done is said, asked about, finished, joined anew or taken back,
// and undone.
func TestTakeOver(t *testing.T) {
	for _, begin := range [][]string{{"merge", "origin/main"}, {"rebase", "--autostash", "origin/main"}} {
		t.Run(begin[0], func(t *testing.T) {
			s := scene(t)
			r := gittest.At(t, s.Clone)
			r.Git("fetch", "-q")
			was := r.Git("rev-parse", "main")
			dirty := r.Git("status", "--porcelain")
			require.NotEmpty(t, dirty)
			_, err := r.Try(begin...)
			require.Error(t, err)
			before := r.Git("status")

			code, out, _ := dorvik("-C", s.Clone, "look", "--json", "--no-fetch")
			assert.Zero(t, code)
			v := asJSON(t, out)
			assert.Equal(t, begin[0], v["half_done"])
			assert.Equal(t, "main", v["branch"])
			assert.NotEmpty(t, v["open"])
			code, out, errs := dorvik("-C", s.Clone, "look")
			assert.Zero(t, code, errs)
			assert.Contains(t, out, "Git stopped in the middle of a "+begin[0])

			code, out, errs = dorvik("-C", s.Clone, "recover", "--json", "--prefer", "suggested,theirs", "--no-check")
			assert.Equal(t, 3, code)
			assert.Equal(t, "conflicts", asJSON(t, out)["result"])
			assert.Contains(t, errs, "--take-over finish  goes on from here")
			assert.Equal(t, before, r.Git("status"), "nothing is changed unasked")
			code, _, _ = dorvik("-C", s.Clone, "recover", "--take-over", "somehow")
			assert.Equal(t, 2, code)

			for _, how := range []string{"back", "finish", "anew"} {
				code, out, errs = dorvik("-C", s.Clone, "recover", "--take-over", how, "--prefer", "suggested,theirs",
					"--no-check", "--json")
				require.Zero(t, code, errs)
				v = asJSON(t, out)
				assert.Equal(t, map[string]string{"back": "nothing-to-do", "finish": "joined", "anew": "joined"}[how],
					v["result"])
				assert.NotContains(t, r.Git("status"), "progress")
				assert.Equal(t, dirty, r.Git("status", "--porcelain"), "work of before is there, %s", how)
				assert.Equal(t, how == "back", was == r.Git("rev-parse", "main"))
				if how == "finish" {
					assert.Equal(t, begin[0], v["route"])
				}
				code, out, _ = dorvik("-C", s.Clone, "logbook", "--json")
				require.Zero(t, code)
				last := asJSON(t, out)["entries"].([]any)[0].(map[string]any)
				assert.Equal(t, "take-over", last["what"])
				code, _, errs = dorvik("-C", s.Clone, "undo")
				require.Zero(t, code, errs)
				assert.Equal(t, before, r.Git("status"), "after %s", how)
			}
			code, _, errs = dorvik("-C", s.Clone, "recover", "--take-over", "finish", "--prefer", "suggested,theirs",
				"--no-check", "--push")
			require.Zero(t, code, errs)
			assert.Equal(t, r.Git("rev-parse", "main"), r.Git("rev-parse", "origin/main"))
		})
	}
}

// TestPatchesFromMails are told, with git's own next step, and can be taken back; nothing else is offered.
func TestPatchesFromMails(t *testing.T) {
	s := scene(t)
	r := gittest.At(t, s.Clone)
	r.Git("reset", "-q", "--hard")
	elsewhere := gittest.New(t)
	elsewhere.Commit("start", "f", "one\n")
	elsewhere.Commit("patched", "f", "two\n")
	r.Commit("like it", "f", "other\n")
	before := r.Git("rev-parse", "HEAD")
	r.Write(".git/mail", elsewhere.Git("format-patch", "--stdout", "-1")+"\n")
	_, err := r.Try("am", ".git/mail")
	require.Error(t, err)
	for _, how := range []string{"finish", "anew"} {
		code, _, errs := dorvik("-C", s.Clone, "recover", "--take-over", how, "--no-check")
		assert.NotZero(t, code, how)
		assert.Contains(t, errs, map[string]string{"finish": "git am --continue", "anew": "Patches from mails"}[how])
	}
	_, out, _ := dorvik("-C", s.Clone, "look")
	assert.Contains(t, out, "at the 1st of 1 patch")
	assert.Contains(t, out, "git am --continue")
	assert.Contains(t, out, "not --take-over anew")
	r.Write("f", "edited\n")
	code, _, errs := dorvik("-C", s.Clone, "recover", "--take-over", "back")
	require.Zero(t, code, errs)
	assert.Equal(t, before, r.Git("rev-parse", "HEAD"))
	assert.Equal(t, "edited\n", r.Read("f"))
	assert.NotContains(t, r.Git("status"), "am session")
	code, _, errs = dorvik("-C", s.Clone, "undo")
	require.Zero(t, code, errs)
	assert.Contains(t, r.Git("status"), "am session")
}

// TestCarry: uncommitted work in the way stops a recovery, and --carry brings it along.
func TestCarry(t *testing.T) {
	s := scene(t)
	r := gittest.At(t, s.Clone)
	r.Write("fares/fares.go", r.Read("fares/fares.go")+"\n// not committed yet\n")
	r.Write("README.md", r.Read("README.md")+"\nmore\n")
	dirty := r.Git("diff")
	code, out, _ := dorvik("-C", s.Clone, "look", "--json")
	require.Zero(t, code)
	v := asJSON(t, out)
	assert.ElementsMatch(t, []any{"fares/fares.go", "README.md", "cmd/skerry/main.go"}, v["carried"])
	assert.Contains(t, v["in_the_way"], "fares/fares.go")
	args := []string{"-C", s.Clone, "recover", "--prefer", "suggested,theirs", "--no-check", "--json"}
	code, _, errs := dorvik(args...)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "fares/fares.go")
	assert.Equal(t, dirty, r.Git("diff"))
	code, out, errs = dorvik(append(args, "--carry")...)
	require.Zero(t, code, errs)
	v = asJSON(t, out)
	assert.Contains(t, v["carried"], map[string]any{"path": "fares/fares.go", "state": "joined"})
	assert.Contains(t, errs, "Your uncommitted work was carried along")
	assert.Contains(t, r.Git("diff", "fares/fares.go"), "+// not committed yet")
	assert.NotContains(t, r.Git("show", "HEAD:fares/fares.go"), "not committed yet")
	code, _, errs = dorvik("-C", s.Clone, "undo")
	require.Zero(t, code, errs)
	assert.Equal(t, dirty, r.Git("diff"))
}

// TestWhatWasSettledBeforeIsReported: conflicts that the person settled before Dorvik came are in the report as the
// merge holds them.
func TestWhatWasSettledBeforeIsReported(t *testing.T) {
	gittest.Isolate(t)
	_, mine, other := gittest.Team(t, "a.txt", "one\ntwo\nthree\n", "b.txt", "one\ntwo\n")
	mine.Commit("numbers", "a.txt", "one\n2\nthree\n", "b.txt", "one\n2\n")
	other.Commit("capitals", "a.txt", "one\nTWO\nthree\n", "b.txt", "one\nTWO\n")
	other.Git("push", "-q")
	mine.Git("fetch", "-q")
	_, err := mine.Try("merge", "origin/main")
	require.Error(t, err)
	mine.Write("a.txt", "ONE\n2\nthree\n")
	mine.Git("add", "a.txt")
	report := func() string {
		file := filepath.Join(t.TempDir(), "report.md")
		code, _, errs := dorvik("-C", mine.Dir, "draw", "report", "-o", file)
		require.Zero(t, code, errs)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		return string(text)
	}
	code, _, errs := dorvik("-C", mine.Dir, "recover", "--take-over", "finish", "--prefer", "theirs", "--no-check")
	require.Zero(t, code, errs)
	said := report()
	assert.NotContains(t, said, "Not settled yet")
	assert.Regexp(t, `(?s)a\.txt.*settled it by: yours\..*b\.txt.*settled it by: theirs\.`, said)
	assert.Regexp(t, `(?s)Left out.*b\.txt:2, .*: 2\n.*a\.txt:2, .*: TWO`, said)
	assert.Contains(t, said, "a.txt: changed beside what was joined and decided")
}
