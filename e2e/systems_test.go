package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/hgtest"
	"dorvik.dev/dorvik/internal/svntest"
)

// system is a version-control system that a scenario runs over, and how a test asks it things.
type system struct {
	name, branch, remote string
	oneWay               bool   // there is no merge to choose
	rejected, onTop      string // how a refused push and a rebase are named

	tip    func(t *testing.T, dir string) string   // of the branch
	since  func(t *testing.T, dir string) int      // commits after the point where the demo's lines part
	status func(t *testing.T, dir string) string   // of the files, without what the system does not know
	sound  func(t *testing.T, dir string)          // fails if the repository is damaged
	push   func(t *testing.T, dir, message string) // commits all files as Ilka, and pushes
	// pullIntoRebase pulls and rebases, which stops. It returns what the status is to be at the end.
	pullIntoRebase func(t *testing.T, dir string) string
	settled        func(t *testing.T, dir, path string) // says that a file is settled
}

// systems is the table of them.
var systems = []system{
	{"git", "main", "origin", false, "A push would be rejected", "rebase",
		func(t *testing.T, dir string) string { return gittest.At(t, dir).Git("rev-parse", "main") },
		func(t *testing.T, dir string) int {
			at := gittest.At(t, dir)
			return len(strings.Fields(at.Git("rev-list", at.Git("rev-list", "--grep=^Winter timetable$",
				"main")+"..main")))
		},
		func(t *testing.T, dir string) string { return gittest.At(t, dir).Git("status", "--porcelain", "-uno") },
		func(t *testing.T, dir string) { gittest.At(t, dir).Git("fsck", "--strict") },
		func(t *testing.T, dir, message string) {
			at := gittest.At(t, dir)
			at.Git("add", "-A")
			at.Git("-c", "user.name=Ilka Renn", "-c", "user.email=ilka@skerry.example", "commit", "-q", "-m", message)
			at.Git("push", "-q")
		},
		func(t *testing.T, dir string) string {
			_, err := gittest.At(t, dir).Try("pull", "-q", "--rebase", "--autostash")
			require.Error(t, err)
			return "M cmd/skerry/main.go"
		},
		func(t *testing.T, dir, path string) { gittest.At(t, dir).Git("add", path) }},
	{"hg", "default", "default", false, "A push would be rejected", "rebase",
		func(t *testing.T, dir string) string { return hgAt(t, dir, "log", "-r", "tip", "-T", "{node}") },
		func(t *testing.T, dir string) int {
			return len(strings.Fields(hgAt(t, dir, "log", "-r", "only(tip, desc('Winter timetable'))", "-T",
				"{node}\n")))
		},
		func(t *testing.T, dir string) string { return hgAt(t, dir, "status", "-mard") },
		func(t *testing.T, dir string) { hgtest.At(t, dir, "").Sound() },
		func(t *testing.T, dir, message string) {
			hgAt(t, dir, "commit", "--addremove", "-m", message)
			hgAt(t, dir, "push", "-q")
		},
		func(t *testing.T, dir string) string {
			at := hgtest.At(t, dir, "")
			defer at.Stop()
			at.Hg("shelve", "-q")
			at.Hg("pull", "-q")
			_, code := at.Try("rebase", "-q", "--tool", ":merge")
			require.NotZero(t, code)
			return ""
		},
		func(t *testing.T, dir, path string) { hgAt(t, dir, "resolve", "-q", "--mark", path) }},
	{"svn", "trunk", "repository", true, "A check-in would be refused", "update",
		func(t *testing.T, dir string) string {
			if _, err := os.Stat(filepath.Join(dir, ".svn")); err == nil { // of what is checked out
				return svntest.At(t, dir, "").Svn("info", "--show-item", "last-changed-revision", "-r", "HEAD")
			}
			return svntest.At(t, dir, "").Svn("info", "--show-item", "last-changed-revision", "file://"+dir+"/trunk")
		},
		func(t *testing.T, dir string) int {
			return strings.Count(svntest.At(t, dir, "").Svn("log", "-q", "-r", "3:HEAD"), "\nr")
		},
		func(t *testing.T, dir string) string {
			status := svntest.At(t, dir, "").Svn("status", "-q")
			first, _, _ := strings.Cut(status, "\n\n--- Changelist") // what is in no change list
			return strings.Join(strings.Fields(first), " ")
		},
		func(t *testing.T, dir string) {
			if _, err := os.Stat(filepath.Join(dir, ".svn")); err != nil {
				out, err := exec.Command("svnadmin", "verify", "-q", dir).CombinedOutput()
				require.NoError(t, err, "%s", out)
			}
		},
		func(t *testing.T, dir, message string) {
			c := svntest.At(t, dir, "Ilka Renn")
			c.Commit(message)
		},
		func(t *testing.T, dir string) string {
			t.Skip("svn leaves an update half done, not a rebase")
			return ""
		},
		func(*testing.T, string, string) {}},
}

func hgAt(t *testing.T, dir string, args ...string) string {
	at := hgtest.At(t, dir, "")
	defer at.Stop()
	return at.Hg(args...)
}

// onEach runs a scenario over each system.
func onEach(t *testing.T, scenario func(t *testing.T, x *terminal)) {
	for _, in := range systems {
		t.Run(in.name, func(t *testing.T) { scenario(t, demoOf(t, in.name)) })
	}
}

// demoOf is a terminal with the demo's repositories of a system.
func demoOf(t *testing.T, name string) *terminal {
	x := emptyTerminal(t)
	switch name {
	case "hg":
		hgtest.Isolate(t)
	case "svn":
		svntest.Isolate(t)
	}
	x.in = systems[slices.IndexFunc(systems, func(s system) bool { return s.name == name })]
	out, err := exec.Command(binary, "demo", "--no-ui", "--system", name, "--dir",
		filepath.Join(t.TempDir(), "demo")).Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(out, x.scene))
	return x
}

// tip is where your branch is.
func (x *terminal) tip() string { return x.in.tip(x.t, x.scene.Clone) }

// file is a folder whose files a test reads and writes, whatever the system.
func (x *terminal) file(dir string) *gittest.Repo { return gittest.At(x.t, dir) }
