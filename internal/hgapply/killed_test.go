package hgapply_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/applytest"
	"dorvik.dev/dorvik/internal/faulttest"
	"dorvik.dev/dorvik/internal/hgtest"
)

// TestKilledAtAnyTime kills Dorvik, or Dorvik and its hg, at random times. The next start finds old or new, whole.
func TestKilledAtAnyTime(t *testing.T) {
	tries := 1
	if n, err := strconv.Atoi(os.Getenv("DORVIK_KILLS")); err == nil {
		tries = n
	}
	c := newCrew(t)
	c.laden()
	c.pull()
	r := rand.New(rand.NewPCG(28, 0))
	for _, what := range []string{"merge", "rebase", "undo"} {
		from := hgtest.Copy(t, c.runa.Dir)
		if what == "undo" {
			require.NoError(t, applytest.Run(from, "rebase", 0, false))
		}
		before, done := state(t, from), hgtest.Copy(t, from)
		begun := time.Now()
		require.NoError(t, applytest.Run(done, what, 0, false))
		took, after := time.Since(begun), state(t, done)
		old, new := 0, 0
		for k := range tries {
			dir := hgtest.Copy(t, from)
			wait := time.Duration(r.Int64N(int64(took)))
			killedAfter(t, dir, what, wait, k%2 == 0)
			require.NoError(t, applytest.Run(dir, "open", 0, false), "%s, killed after %v", what, wait)
			is, want := state(t, dir), before
			if is["-parent"] == after["-parent"] {
				want = after
				new++
			} else {
				old++
			}
			if !assert.Equal(t, want, is, "%s, killed after %v of %v, hg too: %v", what, wait, took, k%2 == 0) {
				return
			}
		}
		t.Logf("%s: %d times old, %d times new", what, old, new)
	}
}

// TestKilledAtAnyOperation has Dorvik or its hg be killed, or fail, at operations on files. The next start finds old or
// new, whole; or the person is told why not, and a start after that finds it.
func TestKilledAtAnyOperation(t *testing.T) {
	c := newCrew(t)
	c.laden()
	c.pull()
	picked, every := faulttest.Picked()
	for _, what := range []string{"merge", "rebase", "undo"} {
		if what != "rebase" && !every && os.Getenv("DORVIK_OPERATIONS") == "" {
			continue // the soak tries all
		}
		t.Run(what, func(t *testing.T) {
			from := hgtest.Copy(t, c.runa.Dir)
			if what == "undo" {
				require.NoError(t, applytest.Run(from, "rebase", 0, false))
			}
			before, done := state(t, from), hgtest.Copy(t, from)
			require.NoError(t, applytest.Run(done, what, 0, false))
			after := state(t, done)
			faulttest.Try(t, what, func() string { return hgtest.Copy(t, from) }, picked, func(dir, point string) {
				defer func() {
					if t.Failed() {
						t.Log(point)
					}
				}()
				err := applytest.Run(dir, "open", 0, false)
				if err != nil && hgFailed.MatchString(point) {
					c.allIsKept(err, dir, before)
					return
				}
				require.NoError(t, err, point)
				is, want := state(t, dir), before
				if is["-parent"] == after["-parent"] {
					want = after
				}
				assert.Equal(t, want, is, point)
				assert.NoFileExists(t, filepath.Join(dir, ".hg/dorvik/moving.json"), point)
			})
		})
	}
}

// hgFailed matches the one point at which hg damages its storage: it cannot write its list of what to cut off, and cuts
// off by half of it at once.
var hgFailed = regexp.MustCompile(`^(an error of the disk|a full disk|no permission) .* on \.hg/store/journal;`)

// allIsKept holds that damage is told, and that a new clone gets all changesets from what is kept.
func (c *crew) allIsKept(told error, dir string, before map[string]string) {
	assert.ErrorContains(c, told, "All changesets are kept: clone the repository again")
	again := c.server.Clone("Runa Holm <runa@skerry.example>")
	bundles, err := filepath.Glob(filepath.Join(dir, ".hg/dorvik/kept/*/*.hg"))
	require.NoError(c, err)
	for _, bundle := range bundles {
		again.Hg("unbundle", "-q", bundle)
	}
	log := again.Hg("log", "-T", "{desc|firstline} {phase} "+idOrMerge+"\n")
	for _, line := range strings.Split(before["-log"], "\n") {
		assert.Contains(c, log, line)
	}
	again.Sound()
}

// killedAfter acts in a process of its own and kills it after a time, with its hg or without: that goes on for a moment
// then.
func killedAfter(t *testing.T, dir, what string, wait time.Duration, hgToo bool) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "DORVIK_ACT="+what, "DORVIK_DIR="+dir)
	require.NoError(t, cmd.Start())
	time.Sleep(wait)
	var children []int
	if hgToo {
		children = childrenOf(cmd.Process.Pid)
	}
	_ = cmd.Process.Kill()
	for _, pid := range children {
		if p, err := os.FindProcess(pid); err == nil {
			_ = p.Kill()
		}
	}
	_ = cmd.Wait()
	for until := time.Now().Add(20 * time.Second); !hgToo && busy(dir) && time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
}

// childrenOf lists the processes that a process started.
func childrenOf(pid int) (out []int) {
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, file := range tasks {
		data, _ := os.ReadFile(file)
		for _, word := range bytes.Fields(data) {
			if child, err := strconv.Atoi(string(word)); err == nil {
				out = append(out, child)
			}
		}
	}
	return out
}

// busy reports whether some process works in a folder.
func busy(dir string) bool {
	list, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, at := range list {
		if to, err := os.Readlink(at); err == nil && to == dir {
			return true
		}
	}
	return false
}
