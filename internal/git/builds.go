package git

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// buildsIn returns the directory in which those of all repositories' checkouts lie: in the person's cache, so that no
// tool that looks for dependencies in the directories above finds those of a working tree. It makes no directory. ok is
// false where the cache cannot be written.
func buildsIn() (dir string, ok bool) {
	cache, err := os.UserCacheDir()
	return filepath.Join(cache, "dorvik", "builds"), err == nil && writable(cache)
}

// writable reports whether a directory can be written to, or made.
func writable(dir string) bool {
	for {
		st, err := os.Stat(dir)
		if err == nil {
			const write = 2 // W_OK of access(2)
			return st.IsDir() && syscall.Access(dir, write) == nil
		}
		up := filepath.Dir(dir)
		if up == dir || !os.IsNotExist(err) {
			return false
		}
		dir = up
	}
}

// Builds returns the directory of the repository's checkouts: in that of dorvik.builds, or in the cache; else it
// is in the git directory.
func (r *Checkouts) Builds(ctx context.Context) (string, error) {
	set, err := r.config.ConfigPath(ctx, "dorvik.builds")
	dir, ok := buildsIn()
	switch {
	case err != nil:
		return "", err
	case filepath.IsAbs(set):
		dir = set
	case set != "":
		dir = filepath.Join(r.Dir, set)
	case !ok:
		return filepath.Join(r.GitDir, "dorvik"), nil
	}
	of := sha256.Sum256([]byte(r.GitDir))
	top := filepath.Base(strings.TrimSuffix(r.GitDir, "/.git"))
	return filepath.Join(dir, top+"-"+hex.EncodeToString(of[:6])), nil
}

// sweep removes the checkouts of repositories that are gone from the cache. Nobody's work is in them, only what
// builds left.
func sweep() {
	dir, ok := buildsIn()
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
