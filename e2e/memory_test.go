package e2e

import (
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"
)

// runMeasured runs a command and gives its peak memory in bytes, where the
// system tells (Linux). It asks while the command runs: what wait gives
// afterwards counts the memory of the parent too.
func runMeasured(cmd *exec.Cmd) (peak int64, err error) {
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	status := "/proc/" + strconv.Itoa(cmd.Process.Pid) + "/status"
	for {
		select {
		case err := <-done:
			return peak, err
		case <-time.After(2 * time.Millisecond):
		}
		text, _ := os.ReadFile(status)
		if _, rest, ok := strings.Cut(string(text), "VmHWM:"); ok {
			if kb, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64); err == nil {
				peak = max(peak, kb<<10)
			}
		}
	}
}
