// Package e2e runs the real program in a real terminal (tmux), by keys alone.
package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	_ "dorvik.dev/dorvik/internal/cli" // so that a change to the programs runs these tests again
	"dorvik.dev/dorvik/internal/demo"
	"dorvik.dev/dorvik/internal/gittest"
	_ "dorvik.dev/dorvik/internal/host"
	_ "dorvik.dev/dorvik/internal/tui"
	"dorvik.dev/dorvik/internal/vcs"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "dorvik-e2e-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "dorvik")
	build := exec.Command("go", "build", "-ldflags=-s -w", "-o", dir, "dorvik.dev/dorvik/cmd/...")
	build.Env = append(os.Environ(), "CGO_ENABLED=0") // as make build has it
	if out, err := build.CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// terminal is the program in a tmux of its own.
type terminal struct {
	t     *testing.T
	sock  string
	scene *demo.Scene
	keys  int
	args  string // of the program
	in    system

	running bool
}

// patience is how long a screen may take to come; a test that waits this long
// fails, it never passes by it.
const patience = 40 * time.Second

func newTerminal(t *testing.T) *terminal {
	x := emptyTerminal(t)
	out, err := exec.Command(binary, "demo", "--no-ui", "--dir", filepath.Join(t.TempDir(), "demo")).Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(out, x.scene))
	return x
}

// emptyTerminal has no scene yet.
func emptyTerminal(t *testing.T) *terminal {
	if testing.Short() {
		t.Skip("this runs the program in a terminal; “make test” does it")
	}
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Fatal("tmux is missing; “make test” installs it")
	}
	gittest.Isolate(t)
	for _, kv := range os.Environ() {
		if name, _, _ := strings.Cut(kv, "="); strings.HasPrefix(name, "GIT_AUTHOR_") || strings.HasPrefix(name,
			"GIT_COMMITTER_") {
			os.Unsetenv(name) // the demo's clones say who one is
		}
	}
	term := &terminal{t: t, in: systems[0], sock: filepath.Join(t.TempDir(), "tmux"), scene: &demo.Scene{}}
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", term.sock, "kill-server").Run() })
	return term
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", x.sock, "-f", "/dev/null"}, args...)...).CombinedOutput()
	require.NoError(x.t, err, "%s", out)
	return string(out)
}

// open starts the program in your clone, once more if it ran before; the shell stays when it ends, so that
// its last words can be read.
func (x *terminal) open(size string, words ...string) {
	x.t.Helper()
	cols, rows, _ := strings.Cut(size, "x")
	line := strings.Join(words, " ") + " " + binary + " -C " + x.scene.Clone + " " + x.args +
		"; echo ended with $?; sleep 600"
	if x.running {
		x.tmux("resize-window", "-t", "s", "-x", cols, "-y", rows)
		x.tmux("respawn-pane", "-k", "-t", "s", "sh", "-c", line)
		return
	}
	x.running = true
	x.tmux("new-session", "-d", "-s", "s", "-x", cols, "-y", rows, "--", "sh", "-c", line)
}

func (x *terminal) screen() string { return x.tmux("capture-pane", "-p", "-t", "s") }

// see waits until the screen shows all the texts.
func (x *terminal) see(texts ...string) string {
	x.t.Helper()
	var screen string
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(40 * time.Millisecond) {
		screen = x.screen()
		missing := false
		for _, s := range texts {
			there := strings.Contains(screen, s) || x.in.oneWay && strings.Contains(screen, vcs.InSubversion.Say(s))
			missing = missing || !there
		}
		if !missing {
			return screen
		}
	}
	require.Fail(x.t, "the screen never shows "+strings.Join(texts, " and "), screen)
	return ""
}

func (x *terminal) press(keys ...string) {
	x.t.Helper()
	for _, k := range keys {
		x.tmux("send-keys", "-t", "s", "--", k)
		x.keys++
	}
}

func (x *terminal) remoteTip() string {
	return x.in.tip(x.t, x.scene.Remote)
}

func (x *terminal) mine() *gittest.Repo { return gittest.At(x.t, x.scene.Clone) }

// fetched waits for the first full look.
func (x *terminal) fetched() {
	x.t.Helper()
	x.see(x.in.rejected, x.in.remote+" was asked", "Ilka Renn", "4 theirs")
}

// settleByRebase goes from the first look to Check, taking what is suggested.
func (x *terminal) settleByRebase() {
	x.t.Helper()
	x.fetched()
	x.press("Enter")
	x.see("Why " + x.in.onTop + ":")
	x.press("Enter")
	x.see("Settle 0 of 2")
	x.press("Enter")
	x.see("Settle 1 of 2")
	x.press("Enter")
	x.see("All settled")
	x.press("Enter")
}

// mendAndCheck goes from the first check to the Push stage.
func (x *terminal) mendAndCheck() {
	x.t.Helper()
	x.see("found from go.mod", "agree and run it")
	x.press("Enter")
	x.see("1 error", "undefined: DepthAt", "THE PLACE", "together they do not")
	x.press("Enter")
	x.see("keep this")
	x.press("C-Right", "P", "i", "e", "r", "C-s")
	x.see("The joined code passes", "Mended: timetable/sailing.go")
	x.press("Enter")
	x.see("Ready to join and push.", "BEFORE IT GOES", "has not moved")
}

func TestTheDemoByBothRoutes(t *testing.T) {
	for _, route := range []string{"rebase", "merge"} {
		t.Run(route, func(t *testing.T) {
			onEach(t, func(t *testing.T, x *terminal) {
				if route == "merge" && x.in.oneWay {
					t.Skip("there is no merge")
				}
				x.open("142x40")
				x.fetched()
				x.see("2 files will need a decision; 7 join by themselves")
				x.press("Enter")
				x.see("Why "+x.in.onTop+":", "2 decisions, at 2 commits")
				if x.in.oneWay {
					x.see("′ on top of what is new", "without touching your files.")
				} else {
					x.see("′ replayed, with a new id", "2 decisions, once", "without touching your branch or files.")
				}
				if route == "merge" {
					x.press("Right")
				}
				x.press("Enter")
				x.see("Settle 0 of 2", "WAYS TO SETTLE IT", "suggested:", "◐ you")
				x.press("Enter")
				x.see("Settle 1 of 2")
				x.press("Enter")
				x.see("All settled")
				x.press("Enter")
				x.mendAndCheck()
				x.see("Your mend changed 1 line somebody wrote", "uncommitted work stays as it is")
				if x.in.oneWay {
					x.see("3 revisions go on top of what is new", "join in your files, check in later")
				}
				tip := x.tip()
				x.press("Enter")
				x.see("Pushed.", "now holds")
				if x.in.oneWay {
					x.press("l")
					x.see("trunk was checked in, at r9.", "trunk was joined by update")
				}
				assert.Less(t, x.keys, 25, "keys pressed")
				x.press("q")
				x.see("ended with 0", "dorvik: pushed.")

				mine := x.file(x.scene.Clone)
				assert.Equal(t, x.remoteTip(), x.tip())
				assert.NotEqual(t, tip, x.remoteTip())
				assert.Equal(t, map[string]int{"rebase": 7, "merge": 9}[route], x.in.since(t, x.scene.Clone),
					"commits since the common ancestor")
				fares, tides := mine.Read("fares/fares.go"), mine.Read("timetable/sailing.go")
				assert.Contains(t, fares, "rate := band.PerHalfMetre\n\treturn roundUp(rate*v.HalfMetres(), 10)")
				assert.Contains(t, tides, "DepthAtPier(s.From")
				assert.Contains(t, mine.Read("docs/harbours.md"),
					"- Holm, pier, all vehicles, April to September\n- Ness, slip only")
				assert.Equal(t, "M cmd/skerry/main.go", strings.TrimSpace(x.in.status(t, x.scene.Clone)),
					"uncommitted work is as it was")
				for _, dir := range []string{x.scene.Clone, x.scene.Remote} {
					x.in.sound(t, dir)
				}
			})
		})
	}
}

func TestATeammatePushesInBetween(t *testing.T) { onEach(t, teammatePushes) }

func teammatePushes(t *testing.T, x *terminal) {
	x.open("142x40")
	x.settleByRebase()
	x.mendAndCheck()
	ilka := x.scene.Teammates[0].Clone
	x.file(ilka).Write("notices/storm.txt", "No sailings on Friday.\n")
	x.in.push(t, ilka, "Storm notice")

	x.press("Enter")
	x.see("Somebody pushed first, so the push was refused.", "5 theirs · 4 yours", "Storm notice")
	x.press("Enter")
	x.see("Why " + x.in.onTop + ":")
	x.press("Enter")
	// Nothing is asked again: the decisions and the mend stand.
	x.see("The joined code passes", "Mended: timetable/sailing.go", "2 settled")
	x.press("Enter")
	x.see("Ready to join and push.", "Storm notice")
	x.press("Enter")
	x.see("Pushed.")
	assert.Equal(t, x.remoteTip(), x.tip())
	assert.Equal(t, "No sailings on Friday.\n", x.file(x.scene.Clone).Read("notices/storm.txt"))
	x.press("q")
	x.see("ended with 0")
}

func TestQuitInSettleAndGoOn(t *testing.T) { onEach(t, quitAndGoOn) }

func quitAndGoOn(t *testing.T, x *terminal) {
	mine := x.file(x.scene.Clone)
	x.open("142x40")
	x.fetched()
	x.press("Enter")
	x.see("Why " + x.in.onTop + ":")
	if !x.in.oneWay {
		x.press("Right")
	}
	x.press("Enter")
	x.see("Settle 0 of 2", "docs/harbours.md")
	x.press("3") // theirs, against the suggestion
	x.press("Enter")
	x.see("Settle 1 of 2")
	x.press("q")
	x.see("ended with 0", "nothing was changed. 1 decision is kept")
	assert.Equal(t, "M cmd/skerry/main.go", strings.TrimSpace(x.in.status(t, x.scene.Clone)))

	x.open("80x24")
	x.see("Settle 1 of 2", "Continuing where you left off: 1 decision was kept", "fares/fares.go")
	x.press("u")
	x.see("Settle 0 of 2", "is undone", "docs/harbours.md")
	x.press("w")
	x.see("WRITE IT YOURSELF")
	x.press("End", "!", "C-s")
	x.see("Settle 1 of 2", "fares/fares.go")
	x.press("1", "Enter")
	x.see("Settle 2 of 2")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s", "y")
	x.see("Ready to join and push.")
	x.press("b")
	x.see("Nothing is pushed yet")
	assert.Contains(t, mine.Read("docs/harbours.md"), "September!\n")
	x.press("q")
	x.see("ended with 0", "not pushed yet")

	x.open("80x24")
	x.see("You joined here before and have not pushed yet", "push to "+x.in.remote+"/"+x.in.branch)
	x.press("u")
	x.see("The join is undone")
	assert.NotContains(t, mine.Read("docs/harbours.md"), "Holm")
	assert.Equal(t, "M cmd/skerry/main.go", strings.TrimSpace(x.in.status(t, x.scene.Clone)))
	x.press("q")
	x.see("ended with 0")
}

func TestScreensHoldAtEverySize(t *testing.T) {
	x := newTerminal(t)
	x.open("200x60", "env", "NO_COLOR=1")
	x.fetched()
	x.press("Enter", "Enter")
	x.see("Settle 0 of 2", "⟨−PerMetre⟩⟨+PerHalfMetre⟩")
	for _, size := range []string{"80x24", "60x18", "50x16", "142x40"} {
		cols, rows, _ := strings.Cut(size, "x")
		x.tmux("resize-window", "-t", "s", "-x", cols, "-y", rows)
		x.see("▶ Settle 0 of 2", "RESULT", "weave", "all keys")
	}
	x.tmux("resize-window", "-t", "s", "-x", "40", "-y", "10")
	x.see("Too small: dorvik needs 50×16.")
	x.tmux("resize-window", "-t", "s", "-x", "80", "-y", "24")
	x.press("?")
	x.see("EVERYWHERE", "they never swap")
	x.press("q")
	x.see("ended with 0")
	raw := x.tmux("capture-pane", "-e", "-p", "-t", "s")
	assert.NotContains(t, raw, "\x1b[38;", "no colour under NO_COLOR")
}

func TestCancelTheCheck(t *testing.T) {
	x := newTerminal(t)
	gittest.Own(t, "dorvik.check", "echo begun; sleep 300; echo ended")
	x.open("80x24")
	x.settleByRebase()
	x.see("Checking the joined code", "begun", "stop the check")
	x.press("C-c")
	x.see("Cancelled. Nothing was changed.")
	x.press("Enter")
	x.see("begun", "stop the check")
	x.press("q")
	x.see("ended with 0", "2 decisions are kept")
	left, _ := exec.Command("pgrep", "-f", "sleep 30[0]; echo ended").Output()
	assert.Empty(t, string(left), "nothing of the check goes on after quitting")
}

func TestPick(t *testing.T) {
	x := newTerminal(t)
	mine := x.mine()
	mine.Git("fetch", "-q")
	before, dirty := mine.Git("rev-parse", "HEAD"), mine.Git("status", "--porcelain")
	x.args = "pick origin/main~2..origin/main"
	x.open("142x40")
	x.see("2 commits to pick.", "theirs, picked", "join them before you push", "older ones are not picked",
		"origin was asked")
	x.press("Enter")
	x.see("the picked commits are replayed after yours", "1 decision, at 1 commit")
	x.press("Enter")
	x.see("Settle 0 of 1", "weave")
	x.press("q")
	x.see("2 commits are left to pick", "ended with 0")
	assert.Equal(t, before, mine.Git("rev-parse", "HEAD"))

	x.args = ""
	x.open("142x40")
	x.see("Settle 0 of 1", "weave")
	x.press("Enter")
	x.see("All settled")
	x.press("Enter")
	x.see("found from go.mod", "agree and run it")
	x.press("Enter")
	x.see("undefined: DepthAt", "together they do not", "s go on without")
	x.press("s")
	x.see("y go on without")
	x.press("y")
	x.see("2 commits go on your branch", "the check failed")
	x.press("Enter")
	x.see("Picked.", "undo the pick")
	assert.Equal(t, []string{"Round fares up to ten cents", "Rename DepthAt to DepthAtPier"},
		strings.Split(mine.Git("log", "-2", "--format=%s"), "\n"))
	assert.Equal(t, "Ilka Renn", mine.Git("log", "-1", "--format=%an"))
	assert.Equal(t, dirty, mine.Git("status", "--porcelain"))
	x.press("Enter")
	x.see("A push would be rejected", "6 yours", "in 4c9", "undo the join")
	x.press("u")
	x.see("2 commits to pick.", "The join is undone")
	assert.Equal(t, before, mine.Git("rev-parse", "HEAD"))
	x.press("x")
	x.see("A push would be rejected", "4 yours", "The pick is dropped")
	assert.Equal(t, dirty, mine.Git("status", "--porcelain"))
}

// demoIn opens the demo itself, in a folder of the test, and finds its repositories. It gives the
// folder in which another demo is made.
func (x *terminal) demoIn(size string) (tmp string) {
	x.t.Helper()
	dir, tmp := filepath.Join(x.t.TempDir(), "played"), x.t.TempDir()
	cols, rows, _ := strings.Cut(size, "x")
	x.tmux("new-session", "-d", "-s", "s", "-x", cols, "-y", rows, "--", "sh", "-c",
		"TMPDIR="+tmp+" "+binary+" demo --dir "+dir+"; echo ended with $?; sleep 600")
	x.scene = &demo.Scene{Clone: filepath.Join(dir, "skerry"), Remote: filepath.Join(dir, "remote.git"),
		Teammates: []demo.Clone{{Name: "Ilka Renn", Clone: filepath.Join(dir, "ilka")}}}
	return tmp
}

// TestLookingBackAndATeammatePulls goes from Push to the history, to a commit, to its file's lines
// and back; then a teammate pulls, and the demo is begun again and played from the other side.
func TestLookingBackAndATeammatePulls(t *testing.T) {
	x := newTerminal(t)
	tmp := x.demoIn("142x40")
	x.settleByRebase()
	x.mendAndCheck()
	x.press("Enter")
	x.see("Pushed.", "now holds", "WHAT THE OTHERS GET")
	x.press("h")
	x.see("HISTORY  main", "yours, on the remote; was 7721813", "left behind by a rebase; waypoint 1 keeps it")
	x.press("Down", "Enter")
	x.see("Add Ness to the harbour list", "WHAT IT CHANGED  2 files", "docs/harbours.md")
	x.press("Enter")
	x.see("+ - Ness, slip only")
	x.press("Escape")
	x.see("WHAT IT CHANGED")
	x.press("a")
	x.see("docs/harbours.md   as of", "WHO WROTE IT", "◑ Mato Veld", "1 line of yours", "1 line of theirs", "12 lines")
	x.press("Escape")
	x.see("WHAT IT CHANGED")
	x.press("Escape")
	x.see("HISTORY  main")
	x.press("/", "b", "y", ":", "m", "a", "t", "o", "Enter")
	x.see("3 found in")
	x.press("Escape")
	x.see("13 commits")
	x.press("Escape")
	x.see("Pushed.")

	x.press("i")
	x.see("THE TEAMMATES", "have Ilka pull")
	x.press("Enter")
	x.see("before  5e77693", "moved forward by 3 commits, nothing to join", "of your lines")
	ilka := gittest.At(t, x.scene.Teammates[0].Clone)
	assert.Equal(t, x.remoteTip(), ilka.Git("rev-parse", "main"))
	assert.Contains(t, ilka.Read("fares/fares.go"), "roundUp(rate*v.HalfMetres(), 10)")
	assert.Empty(t, ilka.Git("status", "--porcelain"))
	x.press("End", "Enter")
	x.see("Runa Holt pushed 4 commits to origin/main", "5e77693 Round fares up to ten cents")
	x.press("z")
	begun := func() int {
		made, err := filepath.Glob(filepath.Join(tmp, "dorvik-demo-*"))
		require.NoError(t, err)
		return len(made)
	}
	require.Eventually(t, func() bool { return begun() == 2 }, patience, 40*time.Millisecond,
		"made anew, and once more")
	x.see("Runa Holt pushed 4 commits", "origin was asked")
	x.press("q")
	last := x.see("ended with 0")
	assert.Equal(t, 3, strings.Count(last, "The demo's repositories stay in"))
}

// TestPickTwoFromAList marks two commits of another branch and brings them over.
func TestPickTwoFromAList(t *testing.T) {
	x := newTerminal(t)
	mine := x.mine()
	mine.Git("checkout", "-q", "-b", "winter", "main~1")
	for _, name := range []string{"Berth lights", "Ice on the slip", "Night bell"} {
		mine.Write("notices/"+strings.ReplaceAll(name, " ", "-")+".txt", name+"\n")
		mine.Git("add", "notices")
		mine.Git("commit", "-q", "-m", name)
	}
	mine.Git("checkout", "-q", "main")
	x.open("100x30")
	x.fetched()
	x.press("h")
	x.see("HISTORY  main")
	x.press("c")
	x.see("BRANCHES", "winter", "origin/main", "2 branches")
	x.press("Home")
	if !strings.Contains(x.screen(), "▶ winter") {
		x.press("Down")
	}
	x.see("▶ winter")
	x.press("Enter")
	x.see("HISTORY  winter", "Night bell")
	x.press("/", "b", "e", "l", "l", "Tab")
	x.see("▶ ", "1 found in")
	x.press("t", "t")
	x.see("2 commits are marked")
	x.press("g")
	x.see("2 commits to pick.", "origin was asked")
	x.press("Enter")
	x.see("go on", "the picked commits are replayed")
	x.press("Enter")
	x.see("agree and run it")
	x.press("s")
	x.see("Go on without?")
	x.press("y")
	x.see("Ready.")
	x.press("Enter")
	x.see("2 commits are on your branch")
	assert.Equal(t, "Night bell\nIce on the slip\nPrint the berth on the ticket", mine.Git("log", "-3", "--format=%s"))
}

// TestNothingByAccident: where nothing is suggested nothing is marked, and Enter takes nothing; the shape of a file
// is settled first, both kept; the rest edit by edit, and many alike after what that does was seen.
func TestNothingByAccident(t *testing.T) {
	x := newTerminal(t)
	mine := x.mine()
	mine.Git("checkout", "-q", "--", ".")
	mine.Commit("a picture of yours", "assets/pier.png", "\x00yours")
	x.open("142x40")
	x.fetched()
	x.press("Enter")
	x.see("Why rebase:")
	x.press("Enter")
	x.see("Settle 0 of 3")
	x.press("Tab", "Tab")
	x.see("No way is clearly right. Choose one.", "3  keep both")
	x.press("Enter", "Enter")
	x.see("Nothing is marked, so nothing was taken", "Settle 0 of 3")
	x.press("3")
	x.see("▶ 3  keep both")
	x.press("Enter")
	x.see("Settle 1 of 3")
	x.press("t")
	x.see("SINGLE EDITS", "4 of 4 edits taken")
	x.press("Down", "t")
	x.see("3 of 4 edits taken", "take this edit")
	x.press("t", "Enter")
	x.see("Settle 2 of 3", "docs/harbours.md")
	x.press("u")
	x.see("Settle 1 of 3", "is undone")
	x.press("+")
	x.see("MANY AT ONCE", "2 conflicts, nothing is left out", "enter settle 2 conflicts so")
	x.press("Enter")
	x.see("2 conflicts are settled so", "Settle 3 of 3")
	x.press("q")
	x.see("ended with 0")
	x.open("142x40")
	x.see("3 decisions were kept")
}

// TestTheTerminalIsGivenBack, whatever ends the program, and a paste that never ends does not take the keys.
func TestTheTerminalIsGivenBack(t *testing.T) {
	x := newTerminal(t)
	for _, signal := range []string{"TERM", "HUP", "INT", "QUIT", "ABRT", ""} {
		x.open("142x40")
		x.fetched()
		if signal == "" {
			x.tmux(strings.Fields("send-keys -t s -H 1b 5b 32 30 30 7e 61 62")...)
			time.Sleep(1500 * time.Millisecond) // a pause that no paste has
			x.press("q")
		} else {
			pid := strings.TrimSpace(x.tmux("display", "-p", "-t", "s", "#{pane_pid}"))
			out, err := exec.Command("pkill", "-"+signal, "-P", pid).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		x.see("ended with 0")
		assert.Equal(t, "0 1 0 0", strings.TrimSpace(x.tmux("display", "-p", "-t", "s",
			"#{alternate_on} #{cursor_flag} #{mouse_any_flag} #{keypad_cursor_flag}")), signal)
		tty := strings.TrimSpace(x.tmux("display", "-p", "-t", "s", "#{pane_tty}"))
		out, err := exec.Command("stty", "-a", "-F", tty).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Regexp(t, `(?s) icanon .* echo `, string(out), signal)
	}
}
