package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"dorvik.dev/dorvik/internal/gittest"

	"github.com/charmbracelet/x/ansi"
	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

// watched is the program on a pseudo-terminal whose output is noted with its time: what a terminal shows, but for the
// time it takes itself.
type watched struct {
	b     *testing.B
	cmd   *exec.Cmd
	tty   *os.File
	begun time.Time

	mu   sync.Mutex
	text strings.Builder // without codes
	last time.Time       // when something was written last
	more chan struct{}
}

// watch starts the program in a folder.
func watch(b *testing.B, dir string, rows, cols uint16, args ...string) *watched {
	w := &watched{b: b, cmd: exec.Command(binary, args...), more: make(chan struct{}, 1), begun: time.Now()}
	w.cmd.Dir, w.cmd.Env = dir, append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor")
	var err error
	w.tty, err = pty.StartWithSize(w.cmd, &pty.Winsize{Rows: rows, Cols: cols})
	require.NoError(b, err)
	go func() {
		buf := make([]byte, 1<<16)
		for {
			n, err := w.tty.Read(buf)
			w.mu.Lock()
			w.last = time.Now()
			w.text.WriteString(ansi.Strip(string(buf[:n])))
			w.mu.Unlock()
			select {
			case w.more <- struct{}{}:
			default:
			}
			if err != nil {
				return
			}
		}
	}()
	b.Cleanup(w.end)
	return w
}

func (w *watched) end() {
	_ = w.cmd.Process.Signal(syscall.SIGTERM) // so that it ends the check that it started
	stuck := time.AfterFunc(5*time.Second, func() { _ = w.cmd.Process.Kill() })
	_ = w.cmd.Wait()
	stuck.Stop()
	w.tty.Close()
}

// until waits for a text to be written after so much else, and gives when it was, from the start.
func (w *watched) until(text string, after int) time.Duration {
	w.b.Helper()
	for end := time.After(patience); ; {
		w.mu.Lock()
		seen, at := w.text.String(), w.last
		w.mu.Unlock()
		if strings.Contains(seen[min(after, len(seen)):], text) {
			return at.Sub(w.begun)
		}
		select {
		case <-w.more:
		case <-end:
			require.Fail(w.b, "it never shows "+text, seen)
		}
	}
}

// written is how much was.
func (w *watched) written() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.Len()
}

// press presses a key and gives how long it takes until so much is written at least, which is more than a spinner is.
func (w *watched) press(key string, least int) time.Duration {
	w.b.Helper()
	before, begun := w.written(), time.Now()
	_, err := w.tty.WriteString(key)
	require.NoError(w.b, err)
	for end := time.After(5 * time.Second); w.written() < before+least; {
		select {
		case <-w.more:
		case <-end:
			require.Fail(w.b,
				"nothing is drawn for the key "+strconv.Quote(key)+" after "+strconv.Itoa(w.written()-before))
		}
	}
	return time.Since(begun)
}

// cpu is the processor time that the program has used.
func (w *watched) cpu() time.Duration {
	text, err := os.ReadFile("/proc/" + strconv.Itoa(w.cmd.Process.Pid) + "/stat")
	require.NoError(w.b, err)
	f := strings.Fields(string(text)[strings.LastIndexByte(string(text), ')')+1:])
	ticks := 0
	for _, k := range []int{11, 12} {
		n, err := strconv.Atoi(f[k])
		require.NoError(w.b, err)
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}

// BenchmarkLook is when Look comes in 50,000 files, from the start of the process: the first paint, the two lines, and
// all of it.
func BenchmarkLook(b *testing.B) {
	gittest.Isolate(b)
	_, clone := made(b, "large", large)
	tip := clone.Git("rev-parse", "yours")[:7]
	for b.Loop() {
		best := [3]time.Duration{time.Hour, time.Hour, time.Hour}
		for range 5 {
			w := watch(b, clone.Dir, 40, 140)
			for i, text := range []string{"Look", tip, "OVERLAP"} {
				best[i] = min(best[i], w.until(text, 0))
			}
			w.end()
		}
		for i, unit := range []string{"ms-first-paint", "ms-lines", "ms-whole"} {
			b.ReportMetric(float64(best[i].Microseconds())/1000, unit)
		}
	}
}

// BenchmarkKeys is how long a key takes to the frame, at 200×60 in a file of 20,000 lines with 400 conflicts, while a check
// prints 10,000 lines a second; and what the screen takes of a processor where nothing moves.
func BenchmarkKeys(b *testing.B) {
	gittest.Isolate(b)
	_, clone := made(b, "places", manyPlaces)
	for b.Loop() {
		again := filepath.Join(b.TempDir(), "clone")
		clone.Git("clone", "-q", "-b", "yours", clone.Dir, again)
		at := gittest.At(b, again)
		at.Git("branch", "-q", "--set-upstream-to=origin/theirs")
		w := watch(b, again, 60, 200)
		w.until("OVERLAP", 0)
		time.Sleep(time.Second) // what is counted afterwards is
		before, begun := w.cpu(), time.Now()
		time.Sleep(5 * time.Second)
		b.ReportMetric(100*(w.cpu()-before).Seconds()/time.Since(begun).Seconds(), "%-idle")
		// A file of 400 conflicts: one after the other.
		walk := func(keys ...string) {
			for _, key := range keys {
				w.press(key, 1)
				time.Sleep(700 * time.Millisecond)
			}
		}
		p99 := func(unit string, keys ...string) {
			var took []time.Duration
			for range 200 {
				for _, key := range keys {
					took = append(took, w.press(key, 60))
					time.Sleep(15 * time.Millisecond)
				}
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, unit)
		}
		walk("\r", "\r")
		p99("ms-p99", "\t")
		// All are settled alike, the check is agreed to, and what it prints is read while it prints.
		walk("2", "+", "\r", "\r", "\r", "o")
		children, err := exec.Command("pgrep", "-P", strconv.Itoa(w.cmd.Process.Pid)).Output()
		require.NoError(b, err, "the check runs")
		require.NotEmpty(b, children)
		p99("ms-p99-checking", "\x1b[5~", "\x1b[6~")
		w.end()
	}
}
