package check

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// DriverLimit is the default time limit for a merge driver.
const DriverLimit = 30 * time.Second

// Drive runs a configured merge driver as gitattributes(5) documents it: %O, %A and %B are files with base, yours and
// theirs, %L is the marker size and %P the path. The result is the content of %A. ok is false if the driver reports a
// conflict. It is ended after limit.
func Drive(ctx context.Context, limit time.Duration, dir, command, path string, markerSize int, base, yours,
	theirs []byte) (result []byte, ok bool, err error) {
	tmp, err := os.MkdirTemp("", "dorvik-driver-")
	if err != nil {
		return nil, false, fmt.Errorf("running a merge driver: %w", err)
	}
	defer os.RemoveAll(tmp)
	replace := []string{"%%", "%", "%L", strconv.Itoa(markerSize), "%P", quoted(path)}
	for name, content := range map[string][]byte{"O": base, "A": yours, "B": theirs} {
		file := filepath.Join(tmp, name)
		if err := os.WriteFile(file, content, 0o600); err != nil {
			return nil, false, fmt.Errorf("running a merge driver: %w", err)
		}
		replace = append(replace, "%"+name, quoted(file))
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", strings.NewReplacer(replace...).Replace(command))
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	var failed *exec.ExitError
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return nil, false, fmt.Errorf("the merge driver “%s” took longer than %v and was ended; look into it, or take "+
			"“merge” off %s in .gitattributes", command, limit, path)
	case ctx.Err() != nil:
		return nil, false, ctx.Err()
	case errors.As(err, &failed) && failed.ExitCode() > 0 && failed.ExitCode() < 128:
		return nil, false, nil
	case err != nil:
		return nil, false, fmt.Errorf("the merge driver “%s” failed: %w\n%s", command, err,
			bytes.TrimSpace(out.Bytes()))
	}
	result, err = os.ReadFile(filepath.Join(tmp, "A"))
	return result, err == nil, err
}

func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
