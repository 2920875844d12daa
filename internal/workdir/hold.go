package workdir

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/ledger"
)

// HoldPath returns the file by which processes keep others out of a repository with this folder of its own.
func HoldPath(own string) string { return filepath.Join(own, "dorvik", "busy") }

// Held reports whether a process is changing the repository with this folder of its own.
func Held(own string) bool {
	f, err := os.Open(HoldPath(own))
	if err != nil {
		return false
	}
	defer f.Close()
	return syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil
}

// Hold locks a repository until the file is closed, by this process and all that inherit the file. If another process
// holds it for five seconds, the error is ledger.ErrInUse.
func Hold(own string) (*os.File, error) {
	f, err := os.OpenFile(HoldPath(own), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("keeping the recovery in %s: %w", own, err)
	}
	if err := HoldBy(f); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// HoldBy is Hold by a file that is open already, which programs may have inherited.
func HoldBy(f *os.File) error {
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err == nil {
			return nil
		}
		if time.Now().After(until) {
			return ledger.ErrInUse
		}
	}
}
