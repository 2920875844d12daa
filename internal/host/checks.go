package host

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/hostapi"
)

// checkLimit is the time that a check may take, and mostOutput the bytes of its output that are kept.
const (
	checkLimit = 2 * time.Minute
	mostOutput = 4096
)

// checkAll checks the tips of all branches and waiting proposals of a repository that were not checked yet, in the
// background and one after the other.
func (h *Host) checkAll(ctx context.Context, repository string) {
	repo, ok := h.repository(repository)
	if !ok || repo.Rules.Check == "" {
		return
	}
	at := git.Bare(h.path(repository))
	defer at.Close()
	names, err := at.Names(ctx)
	if err != nil {
		return
	}
	var tips []string
	for _, n := range names {
		if strings.HasPrefix(n.Full, "refs/heads/") {
			tips = append(tips, n.Commit.String())
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	list, err := h.proposals(repository)
	if err != nil {
		return
	}
	for _, p := range list {
		if p.State == hostapi.Waiting {
			tips = append(tips, p.Tip)
		}
	}
	var todo []string
	for _, tip := range tips {
		if _, known := h.checks[tip]; !known {
			h.checks[tip] = hostapi.Check{State: hostapi.Running}
			todo = append(todo, tip)
		}
	}
	if len(todo) == 0 {
		return
	}
	h.running.Add(1)
	go func() {
		defer h.running.Done()
		for _, tip := range todo {
			c := h.check(repository, tip, repo.Rules.Check)
			h.mu.Lock()
			h.checks[tip] = c
			h.mu.Unlock()
			h.changed(repository)
		}
	}()
}

// check runs a command on the files of a commit.
func (h *Host) check(repository, tip, command string) hostapi.Check {
	ctx, cancel := context.WithTimeout(context.Background(), checkLimit)
	defer cancel()
	go func() {
		select {
		case <-h.ended:
			cancel()
		case <-ctx.Done():
		}
	}()
	failed := func(why string) hostapi.Check { return hostapi.Check{State: hostapi.Failed, Output: why} }
	dir, err := os.MkdirTemp("", "dorvik-host-")
	if err != nil {
		return failed(err.Error())
	}
	defer os.RemoveAll(dir)
	files := filepath.Join(dir, "files")
	for _, args := range [][]string{{"read-tree", tip}, {"checkout-index", "-a", "--prefix=" + files + "/"}} {
		cmd := exec.CommandContext(ctx, "git", append([]string{"--git-dir=" + h.path(repository), "--work-tree=" + dir},
			args...)...)
		cmd.Env = append(os.Environ(), "GIT_INDEX_FILE="+filepath.Join(dir, "index"))
		if out, err := cmd.CombinedOutput(); err != nil {
			return failed(string(out) + err.Error())
		}
	}
	cmd := exec.CommandContext(ctx, "sh", "-c", command)
	cmd.Dir = files
	out, err := cmd.CombinedOutput()
	out = bytes.TrimSpace(out)
	if over := len(out) - mostOutput; over > 0 {
		out = out[over:]
	}
	if err != nil {
		return failed(strings.TrimSpace(string(out) + "\n" + err.Error()))
	}
	return hostapi.Check{State: hostapi.Passed}
}
