package workdir

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/ledger"
)

func holdPath(own string) string { return filepath.Join(own, "dorvik", "busy") }

// Held reports whether a process is changing the repository with this folder of its own.
func Held(own string) bool {
	f, err := os.Open(holdPath(own))
	if err != nil {
		return false
	}
	defer f.Close()
	return syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil
}

// Hold locks a repository until the file is closed, by this process and all that inherit the file. If another process
// holds it for five seconds, the error is ledger.ErrInUse.
func Hold(own string) (*os.File, error) {
	f, err := os.OpenFile(holdPath(own), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("keeping the recovery in %s: %w", own, err)
	}
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err == nil {
			return f, nil
		}
		if time.Now().After(until) {
			f.Close()
			return nil, ledger.ErrInUse
		}
	}
}
