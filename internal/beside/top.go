package beside

import (
	"os"
	"path/filepath"
)

// TopOf returns the nearest folder upwards, from one on, that has a system's own folder of a name, such as .hg. ok is
// false where none has.
func TopOf(dir, own string) (top string, ok bool) {
	at, err := filepath.Abs(dir)
	if err == nil {
		at, err = filepath.EvalSymlinks(at)
	}
	if err != nil {
		return "", false
	}
	for ; ; at = filepath.Dir(at) {
		if info, err := os.Stat(filepath.Join(at, own)); err == nil && info.IsDir() {
			return at, true
		}
		if at == filepath.Dir(at) {
			return "", false
		}
	}
}
