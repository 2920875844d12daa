package vcs

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// CacheOfBuilds returns the directory in which the checkouts of all repositories lie: in the person's cache, so that no
// tool that looks for dependencies in the directories above finds those of a working tree. It makes no directory. ok is
// false where the cache cannot be written.
func CacheOfBuilds() (dir string, ok bool) {
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

// BuildsOf returns the directory of a repository's checkouts: in the one of the setting dorvik.builds, which is
// relative to the working tree, or in the cache; else in the system's own folder.
func BuildsOf(at Where, set string) string {
	dir, ok := CacheOfBuilds()
	switch {
	case filepath.IsAbs(set):
		dir = set
	case set != "":
		dir = filepath.Join(at.Dir, set)
	case !ok:
		return filepath.Join(at.Own, "dorvik")
	}
	of := sha256.Sum256([]byte(at.Own))
	top := at.Own
	if filepath.Dir(at.Own) == at.Dir {
		top = at.Dir
	}
	return filepath.Join(dir, filepath.Base(top)+"-"+hex.EncodeToString(of[:6]))
}

// ParseDuration reads the value of a time setting: minutes, or a number with a unit. An empty one is zero.
func ParseDuration(key, said string) (time.Duration, error) {
	if said == "" {
		return 0, nil
	}
	if minutes, err := time.ParseDuration(said + "m"); err == nil {
		return max(0, minutes), nil
	}
	every, err := time.ParseDuration(said)
	if err != nil || every < 0 {
		return 0, errors.New(key + " is " + said + ", which is no time: say minutes, or 90s")
	}
	return every, nil
}
