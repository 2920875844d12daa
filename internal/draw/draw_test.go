package draw

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/lookback"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/prove"
	"dorvik.dev/dorvik/internal/recovery"
)

// scene is the demo's clone, joined by a route if one is given.
func scene(t *testing.T, route plan.Route) *recovery.Workspace {
	gittest.Isolate(t)
	s, err := demo.Make(t.Context(), filepath.Join(t.TempDir(), "demo"), demo.AsRuna)
	require.NoError(t, err)
	gittest.At(t, s.Clone).Git("fetch", "-q")
	if route != "" {
		join(t, s.Clone, route)
	}
	w, err := recovery.OpenWorkspace(t.Context(), s.Clone)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return w
}

func join(t *testing.T, dir string, route plan.Route) {
	s, err := recovery.OpenSession(t.Context(), dir)
	require.NoError(t, err)
	defer s.Close()
	p, err := s.Locate(t.Context(), false)
	require.NoError(t, err)
	require.NoError(t, s.Ledger.Sync(p))
	j, err := s.SettleBy(t.Context(), p, route, []settle.Way{settle.Weave, settle.Theirs})
	require.NoError(t, err)
	u, err := s.Prover.ToCheck(t.Context(), p, j)
	require.NoError(t, err)
	_, err = s.Prover.Prove(t.Context(), p, &prove.Terms{Command: check.Command{Steps: []string{"true"}},
		Tree: j.Tree}, u.Built.Tip, func(string) {}, nil)
	require.NoError(t, err)
	_, err = s.Accept(t.Context(), p, j, u.Built, change.Consent{})
	require.NoError(t, err)
}

// told is the text that an independent reader finds in a drawing, in its order.
func told(t *testing.T, name string, data []byte) string {
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, data, 0o644))
	switch filepath.Ext(name) {
	case ".pdf":
		if _, err := exec.LookPath("pdftotext"); err != nil {
			t.Skip("pdftotext is not here; “make test” installs it")
		}
		out, err := exec.Command("pdftotext", "-layout", file, "-").CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	case ".svg":
		if _, err := exec.LookPath("rsvg-convert"); err != nil {
			t.Skip("rsvg-convert is not here; “make test” installs it")
		}
		out, err := exec.Command("rsvg-convert", file, "-o", file+".png").CombinedOutput()
		require.NoError(t, err, "%s", out)
		var b strings.Builder
		for _, m := range regexp.MustCompile(`(?s)<text[^>]*>(.*?)</text>`).FindAllStringSubmatch(string(data), -1) {
			b.WriteString(m[1] + "\n")
		}
		return strings.ReplaceAll(b.String(), "\u00a0", " ")
	}
	return string(data)
}

// inOrder holds that texts are found one after the other.
func inOrder(t *testing.T, text string, want ...string) {
	t.Helper()
	at := 0
	for _, w := range want {
		i := strings.Index(text[at:], w)
		if !assert.GreaterOrEqual(t, i, 0, "%q is not there, or not in its place", w) {
			return
		}
		at += i + len(w)
	}
}

// TestDrawingsHoldTheirTexts makes every drawing of a recovery under way, and of the same when it is
// made by either route, and has other programs read them.
func TestDrawingsHoldTheirTexts(t *testing.T) {
	under := map[Kind][]string{
		KindHistory: {"History of main", "Print the berth on the ticket", "7721813", "Runa Holt", "yours, not pushed",
			"Round fares up to ten cents", "same change as", "Winter timetable", "where the lines part"},
		KindOverlap: {"Overlap of main and origin/main", "fares/fares.go", "same lines, needs a decision",
			"timetable/tide.go", "only theirs"},
		KindRoutes:   {"Ways to join", "Rebase, suggested", "not needed: d34e868 holds the same change"},
		KindActivity: {"parted", "4 Mar", "Runa Holt", "4 commits", "COMMITS", "Fix typo in pier notice"},
		KindReport: {"Joining main and origin/main", "are to be joined by rebase", "THE TWO LINES", "CONFLICTS",
			"1 of 2", "Not settled yet.", "THE CHECK", "HOW TO GO BACK", "nothing was changed"},
	}
	after := map[plan.Route][]string{
		plan.Rebase: {"were joined by rebase", "2 conflicts were settled by Ada Sund.",
			"passes its check", "fares/fares.go:42", "Ada Sund settled it by: weave.",
			"Suggested was: theirs, then yours",
			"LEFT OUT", "Ness, slip only", "main went from 7721813cb840618097a316d2081c0ee0aad7679f",
			"It is not on origin/main",
			"Mato Veld: 1 of 4 files changed: routes.json", "the waypoint 1"},
		plan.Merge: {"were joined by merge", "passes its check", "settled it by: weave.", "LEFT OUT",
			"the waypoint 1"},
	}
	for _, route := range []plan.Route{"", plan.Rebase, plan.Merge} {
		w := scene(t, route)
		for _, kind := range Kinds() {
			for _, format := range kind.Formats() {
				ending := "." + format
				t.Run(string(route)+string(kind)+ending, func(t *testing.T) {
					a := Asked{Kind: kind, File: "x" + ending, Letter: route == "", Dark: route == plan.Merge}
					data, err := Make(t.Context(), w.History, a)
					require.NoError(t, err)
					again, err := Make(t.Context(), w.History, a)
					require.NoError(t, err)
					assert.True(t, bytes.Equal(data, again), "the same bytes for the same")
					text := strings.Join(strings.Fields(told(t, "x"+ending, data)),
						" ") // lines are broken where they are full
					want := under[kind]
					if route != "" && kind == KindReport {
						want = after[route]
					}
					if ending == ".md" { // its headings are no capitals, and its blanks no columns
						text, want = strings.ToUpper(text), append([]string(nil), want...)
						text = strings.ReplaceAll(text, `\`, "")
						for i := range want {
							want[i] = strings.ToUpper(want[i])
						}
					}
					if route == "" || kind == KindReport {
						inOrder(t, text, want...)
					}
				})
			}
		}
	}
}

// TestAReportOfWhatWasPushed does not promise what is not done any more.
func TestAReportOfWhatWasPushed(t *testing.T) {
	w := scene(t, plan.Merge)
	gittest.At(t, w.Repo.Where().Dir).Git("push", "-q", "origin", "main")
	data, err := Make(t.Context(), w.History, Asked{Kind: KindReport, File: "x.md", Waypoint: "1"})
	require.NoError(t, err)
	inOrder(t, string(data), "origin/main has it.", "It was pushed, and others may build on it",
		"at 7721813, is kept as refs/dorvik/waypoint/1")
	assert.NotContains(t, string(data), "dorvik undo")
}

// TestAMoveForwardIsToldAsOne: every drawing of a fast-forward says what it was.
func TestAMoveForwardIsToldAsOne(t *testing.T) {
	gittest.Isolate(t)
	s, err := demo.Make(t.Context(), filepath.Join(t.TempDir(), "demo"), demo.AsRuna)
	require.NoError(t, err)
	mato := s.Teammates[1].Clone
	session, err := recovery.OpenSession(t.Context(), mato)
	require.NoError(t, err)
	defer session.Close()
	p, err := session.Locate(t.Context(), true)
	require.NoError(t, err)
	_, err = session.FastForward(t.Context(), p, change.Consent{})
	require.NoError(t, err)
	for kind, want := range map[Kind]string{KindReport: "nothing of yours was in the way, and nothing was joined",
		KindRoutes: "Nothing was to be joined", KindOverlap: "Nothing overlaps", KindActivity: "2 commits",
		KindHistory: "Round fares up to ten cents"} {
		data, err := Make(t.Context(), session.History, Asked{Kind: kind, File: "x.svg"})
		require.NoError(t, err)
		assert.Contains(t, strings.Join(strings.Fields(told(t, "x.svg", data)), " "), want)
	}
}

// laidOut gives the model of a drawing.
func laidOut(t *testing.T, src *lookback.History, kind Kind, opt Options) *Drawing {
	d, err := kind.row().drawn(t.Context(), src, Asked{Kind: kind}, opt)
	require.NoError(t, err)
	return d
}

// TestNothingIsCutOrOverlaps looks at the model itself, of histories with long and foreign
// subjects: every shape is on its page, and no text is over another.
func TestNothingIsCutOrOverlaps(t *testing.T) {
	w := hardScene(t)
	for _, kind := range Kinds() {
		for _, opt := range []Options{{}, {Paged: true}, {Paged: true, Letter: true}} {
			d := laidOut(t, w.History, kind, opt)
			for i, p := range d.Pages {
				var texts []Box
				for _, s := range p.Shapes {
					b := s.box()
					at := fmt.Sprintf("%s, page %d of %d: %#v", kind, i+1, len(d.Pages), s)
					require.GreaterOrEqual(t, b.X0, 0.0, at)
					require.GreaterOrEqual(t, b.Y0, 0.0, at)
					require.LessOrEqual(t, b.X1, d.W, at)
					require.LessOrEqual(t, b.Y1, d.H, at)
					if _, ok := s.(Text); !ok {
						continue
					}
					for _, o := range texts {
						over := b.X0 < o.X1-0.5 && o.X0 < b.X1-0.5 && b.Y0 < o.Y1-0.5 && o.Y0 < b.Y1-0.5
						require.False(t, over, "texts overlap: %s", at)
					}
					texts = append(texts, b)
				}
			}
		}
	}
	d := laidOut(t, w.History, KindHistory, Options{Paged: true})
	assert.Greater(t, len(d.Pages), 1, "a long history goes on")
}

// hardScene is a history that is not easily drawn: fan-outs, long words, other scripts.
func hardScene(t *testing.T) *recovery.Workspace {
	gittest.Isolate(t)
	s, err := demo.Make(t.Context(), filepath.Join(t.TempDir(), "demo"), demo.AsRuna)
	require.NoError(t, err)
	repo := gittest.At(t, s.Clone)
	repo.Git("checkout", "-q", "-f", "main")
	subjects := []string{strings.Repeat("Wait for the bus of Lunna before sailing, as the timetable has said since "+
		"spring. ", 4),
		strings.Repeat("Verspätungsbenachrichtigung", 12), "渡し船の時刻表を直す。冬は一日に四便だけになる", "Расписание паромов на зиму",
		"שעות ההפלגה", "A ferry 🚢 with a sign no face has", "tabs\tand control \x01 characters", "한국어 시간표"}
	for i := range 24 {
		repo.Git("checkout", "-q", "-b", fmt.Sprint("side", i), "main~"+fmt.Sprint(i%4))
		file := fmt.Sprintf("notices/%s/%d.txt", strings.Repeat("a-folder-with-a-long-name/", i%6), i)
		repo.Commit(subjects[i%len(subjects)], file, "x\n")
		repo.Git("checkout", "-q", "main")
		if i%3 > 0 {
			repo.Git("merge", "-q", "--no-ff", "-m", "Merge "+subjects[i%len(subjects)], fmt.Sprint("side", i))
		}
	}
	repo.Git("fetch", "-q")
	w, err := recovery.OpenWorkspace(t.Context(), s.Clone)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return w
}

// TestEveryScript: characters of other scripts are written as themselves where a face has them,
// and what none has is seen to be missing.
func TestEveryScript(t *testing.T) {
	s := newSheet("Scripts", Options{Paged: true})
	for _, text := range []string{"Fähre", "паром", "φέρυ", "渡し船", "轮渡", "페리", "מעבורת to Eid", "🚢"} {
		s.say(0, sans, 12, Ink, text)
	}
	var b bytes.Buffer
	require.NoError(t, s.finish().PDF(&b))
	inOrder(t, told(t, "x.pdf", b.Bytes()), "Fähre", "паром", "φέρυ", "渡し船", "轮渡", "페리", "to Eid", "□")
	assert.Equal(t, "תרובעמ to Eid", visual("מעבורת to Eid"), "as it is seen, from the left")
	assert.Greater(t, width(sans, 10, "渡"), 8.0, "it is as wide as it is drawn")
}

func TestWhatCannotBeDrawn(t *testing.T) {
	w := scene(t, "")
	for _, c := range []struct {
		a    Asked
		want string
	}{
		{Asked{Kind: KindOverlap, File: "x.png"}, "x.png: a drawing of the kind overlap is written to a file that " +
			"ends in .svg or .pdf"},
		{Asked{Kind: KindReport, File: "x"}, "ends in .pdf, .svg or .md"},
		{Asked{Kind: KindOverlap, File: "x.md"}, "ends in .svg or .pdf"},
		{Asked{Kind: "pie", File: "x.svg"}, "there is no drawing \"pie\": there are history, overlap, routes, " +
			"activity, report"},
		{Asked{Kind: KindReport, File: "x.svg", Waypoint: "9"}, "There is no waypoint 9 here."},
		{Asked{Kind: KindHistory, File: "x.svg", Revs: []string{"nowhere"}}, `no commit named "nowhere"`},
	} {
		_, err := Make(t.Context(), w.History, c.a)
		assert.ErrorContains(t, err, c.want)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Make(ctx, w.History, Asked{Kind: KindReport, File: "x.svg"})
	assert.ErrorIs(t, err, context.Canceled)

	file := filepath.Join(t.TempDir(), "x.svg")
	require.NoError(t, Write(file, []byte("one")))
	assert.ErrorContains(t, Write(file, []byte("two")), "is there already")
	assert.ErrorContains(t, Write(filepath.Join(file, "y"), nil), "not a directory")
	left, err := os.ReadDir(filepath.Dir(file))
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing is left beside it")
}

// TestMarkdownMeansOnlyItself: what people wrote does not become Markdown of its own.
func TestMarkdownMeansOnlyItself(t *testing.T) {
	assert.Equal(t, `\# a \*b\* \[c\]\(d\) \<e\>`, strings.NewReplacer("(", `\(`, ")",
		`\)`).Replace(plainText("# a *b* [c](d) <e>")))
	var b bytes.Buffer
	m := &marked{w: &b}
	m.fenced("a\n```\nb")
	assert.Equal(t, "````\na\n```\nb\n````\n\n", b.String())
}
