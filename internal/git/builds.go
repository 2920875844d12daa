package git

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/vcs"
)

// Builds returns the directory of the repository's checkouts: in that of dorvik.builds, or in the cache; else it
// is in the git directory.
func (r *Checkouts) Builds(ctx context.Context) (string, error) {
	set, err := r.config.ConfigPath(ctx, "dorvik.builds")
	return vcs.BuildsOf(r.Where(), set), err
}

// sweep removes the checkouts of repositories that are gone from the cache. Nobody's work is in them, only what
// builds left.
func sweep() {
	dir, ok := vcs.CacheOfBuilds()
	if !ok {
		return
	}
	checkouts, _ := filepath.Glob(filepath.Join(dir, "*", "*", ".git")) //nolint:errcheck // the pattern is right
	for _, file := range checkouts {
		of, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		record := strings.TrimSpace(strings.TrimPrefix(string(of), "gitdir:"))
		if _, err := os.Stat(record); os.IsNotExist(err) && strings.Contains(record, "/worktrees/") {
			os.RemoveAll(filepath.Dir(file))            //nolint:errcheck // it is tried again the next time
			os.Remove(filepath.Dir(filepath.Dir(file))) //nolint:errcheck // it may have others
		}
	}
}
