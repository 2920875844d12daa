package git

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// buildsOf returns the directory of the checkouts of a repository, by its git directory: in the person's cache, so that
// no tool that looks for dependencies in the directories above finds those of the working tree. Where the cache cannot
// be written, it is in the git directory. It makes no directory.
func buildsOf(gitDir string) string {
	cache, err := os.UserCacheDir()
	if err != nil || !writable(cache) {
		return filepath.Join(gitDir, "dorvik")
	}
	of := sha256.Sum256([]byte(gitDir))
	top := filepath.Base(strings.TrimSuffix(gitDir, "/.git"))
	return filepath.Join(cache, "dorvik", "builds", top+"-"+hex.EncodeToString(of[:6]))
}

// writable reports whether a directory can be written to, or made.
func writable(dir string) bool {
	for {
		st, err := os.Stat(dir)
		if err == nil {
			const write = 2 // W_OK of access(2)
			return st.IsDir() && syscall.Access(dir, write) == nil
		}
		if up := filepath.Dir(dir); up == dir || !os.IsNotExist(err) {
			return false
		} else {
			dir = up
		}
	}
}

// Builds returns the directory of the repository's checkouts.
func (r *Place) Builds() string { return buildsOf(r.GitDir) }

// sweep removes the checkouts of repositories that are gone. Nobody's work is in them, only what builds left.
func sweep(builds string) {
	checkouts, _ := filepath.Glob(filepath.Join(filepath.Dir(builds), "*", "*", ".git"))
	for _, file := range checkouts {
		of, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		record := strings.TrimSpace(strings.TrimPrefix(string(of), "gitdir:"))
		if _, err := os.Stat(record); os.IsNotExist(err) && strings.Contains(record, "/worktrees/") {
			dir := filepath.Dir(file)
			os.RemoveAll(dir)            //nolint:errcheck // it is tried again the next time
			os.Remove(filepath.Dir(dir)) //nolint:errcheck // it may have others
		}
	}
}
