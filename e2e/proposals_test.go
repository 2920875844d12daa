package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/hostapi"
)

// hosted is a terminal with the scene at a host, which serves until the test ends or end is called.
func hosted(t *testing.T) (x *terminal, end func()) {
	x = emptyTerminal(t)
	cmd := exec.Command(binary, "demo", "--host", "--no-ui", "--dir", filepath.Join(t.TempDir(), "demo"))
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	ended := false
	end = func() {
		if !ended {
			ended = true
			_ = cmd.Process.Signal(os.Interrupt)
			_, _ = io.Copy(io.Discard, out)
			_ = cmd.Wait()
		}
	}
	t.Cleanup(end)
	require.NoError(t, json.NewDecoder(out).Decode(x.scene))
	require.NotEmpty(t, x.scene.Host)
	return x, end
}

// shown returns what the host shows of its proposals.
func (x *terminal) shown() (states []hostapi.State) {
	res, err := http.Get(strings.Replace(x.scene.Host, "/skerry", "/api/skerry/proposals", 1))
	require.NoError(x.t, err)
	defer res.Body.Close()
	var list hostapi.List
	require.NoError(x.t, json.NewDecoder(res.Body).Decode(&list))
	for _, p := range list.Proposals {
		states = append(states, p.State)
	}
	return states
}

// proposals opens the list and waits until all is worked out.
func (x *terminal) proposals() {
	x.t.Helper()
	x.see("origin was asked")
	x.press("P")
	x.see("PROPOSALS", "├─● 1", "├─≠ 3", "2 decisions, 1 misfit", "├─▲ 6", "joins, 1 misfit")
}

// Your own proposal cannot be joined: one key brings main into it, and after all stages the host shows that it joins.
func TestOnesOwnProposalIsMadeToJoin(t *testing.T) {
	x, _ := hosted(t)
	main := x.remoteTip()
	x.open("142x40")
	x.see("half-metres and origin/half-metres hold the same commits.")
	x.proposals()
	x.press("Down", "Down")
	x.see("▶    ├─≠ 3", "Enter brings main into your branch half-metres, so that it can be joined; main does not change.")
	x.press("Enter")
	x.see("half-metres → origin/main", "This brings main into your branch, so that it can be joined.",
		"2 files will need a decision", "choose a way to join")
	x.press("Enter")
	x.see("Why merge:")
	x.press("Enter")
	x.see("CONFLICTS  0 of 2 settled")
	x.press("Enter")
	x.see("1 of 2 settled")
	x.press("Enter")
	x.see("2 of 2 settled")
	x.press("Enter")
	x.see("MAY NOT WORK TOGETHER")
	x.press("t")
	x.see("1 place mended", "Mended: timetable/sailing.go", "agree and run it")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("join here and push to origin/half-metres")
	x.press("Enter")
	x.see("✓ Pushed.", "AT THE HOST", "The host shows half-metres at", "shows what you pushed.")
	assert.Equal(t, main, x.remoteTip(), "main does not change")
	x.press("Enter")
	x.see("Yours and theirs are one line now.")
	x.press("P")
	x.see("├─● 3   Vans pay by the half metre", "you, ")
}

// Five in a row at one place take one decision. One of a fork that does not build is left out, the others are pushed,
// and the host shows them accepted.
func TestARowOfProposals(t *testing.T) {
	x, _ := hosted(t)
	x.open("142x40")
	x.proposals()
	x.press("t", "t", "Down", "t", "t", "t")
	x.see("  5 ├─▲ 6", "join the 5 taken")
	x.press("Enter")
	x.see("A ROW OF PROPOSALS", "Nobody agreed yet to run", "main → proposal 1")
	x.press("Enter")
	x.see("Only y agrees")
	x.press("y")
	x.see("Proposal 4 needs you. 1 conflict needs a decision.", "✓ 2")
	x.press("q") // the row is kept
	x.see("ended with 0")
	x.open("142x40")
	x.see("CONFLICTS  0 of 1 settled", "docs/harbours.md", "main → proposal 4") // where it was left
	x.press("Enter")
	x.see("1 of 1 settled")
	x.press("Enter")
	x.see("The joined code passes")
	x.press("Enter")
	x.see("Ready to join.", "join it, and go on with the row")
	x.press("Enter")
	x.see("main → origin/main", "All had their turn. 5 proposals into main: 4 joined, 1 left out.",
		"1 decision as before", "left out: “go build")
	x.press("Enter")
	x.see("push to origin/main")
	x.press("Enter")
	x.see("✓ Pushed.", "What was joined is in it.", "THE ROW", "by Orla Finn: joined, 1 decision as before",
		"Proposal 5, “Add Voe” by Orla Finn, is accepted",
		"Its check passed there.")
	assert.Equal(t, []hostapi.State{"accepted", "accepted", "waiting", "accepted", "accepted", "waiting"}, x.shown())
	remote := gittest.At(t, x.scene.Remote)
	assert.Contains(t, remote.Git("log", "--format=%an", "main"), "Orla Finn")
	list := remote.Git("show", "main:docs/harbours.md")
	for _, name := range []string{"Muness", "Skaill", "Voe"} {
		assert.Equal(t, 1, strings.Count(list, "- "+name+","), list)
	}
}

// The host goes away in the middle of a row: what is joined stays, the push says why it did not go, and the row can be
// taken back.
func TestTheHostIsGoneInTheMiddle(t *testing.T) {
	x, end := hosted(t)
	out, err := exec.Command(binary, "-C", x.scene.Clone, "proposals", "--json").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), `"misfits": 1`)
	x.mine().Git("switch", "-q", "main")
	cmd := exec.Command(binary, "-C", x.scene.Clone, "proposals", "--join", "2,4,5", "--no-check")
	said, _ := cmd.CombinedOutput()
	assert.Equal(t, 3, cmd.ProcessState.ExitCode(), "%s", said)
	end()
	run := func(code int, args ...string) string {
		cmd := exec.Command(binary, append([]string{"-C", x.scene.Clone}, args...)...)
		said, _ := cmd.CombinedOutput()
		assert.Equal(t, code, cmd.ProcessState.ExitCode(), "%s", said)
		return string(said)
	}
	said2 := run(5, "proposals", "--go-on", "--no-check", "--prefer", "theirs-yours", "--push")
	assert.Contains(t, said2, "3 proposals into main: 3 joined, 0 left out.")
	assert.Contains(t, said2, "the remote cannot be reached")
	assert.Contains(t, run(0, "proposals", "--take-back"), "The joins of the row are undone.")
	assert.Equal(t, x.mine().Git("rev-parse", "origin/main"), x.mine().Git("rev-parse", "main"))
}
