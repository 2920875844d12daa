package apply

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/ledger"
)

// The journal holds a transition while it is made: one file in the git
// directory. Its first line has the version of the format and the SHA-256 of
// the rest, which is the transition as JSON. Its name tells the direction.
// Turning back renames it, which works on a full disk, too.
const (
	journalForward = "moving.json"
	journalBack    = "returning.json"
	journalVersion = "dorvik journal 2 "
)

func (tr *Transition) journal(gitDir string) string {
	name := journalForward
	if tr.Turned {
		name = journalBack
	}
	return filepath.Join(gitDir, "dorvik", name)
}

// JournalError reports a journal that cannot be read.
type JournalError struct{ Path string }

func (e *JournalError) Error() string {
	return "an earlier run was interrupted while it changed the branch, and its account of that cannot be read: look " +
		"with “git status” whether branch and files are as you want them. The next start sets the account aside"
}

// readJournal reads the journal. It returns nil if there is none, and a *JournalError if it is damaged or of another
// version.
func readJournal(gitDir string) (*Transition, error) {
	for _, turned := range []bool{true, false} {
		path := (&Transition{Turned: turned}).journal(gitDir)
		data, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("reading what an earlier run left half done: %w", err)
		}
		head, body, _ := strings.Cut(string(data), "\n")
		tr := &Transition{}
		if head != journalVersion+ledger.HashOf(body) || json.Unmarshal([]byte(body), tr) != nil || tr.Lay == nil {
			return nil, &JournalError{path}
		}
		tr.Turned = turned
		return tr, nil
	}
	return nil, nil
}

// write replaces the journal and syncs it to disk.
func (tr *Transition) write(gitDir string) error {
	body, err := json.Marshal(tr)
	if err == nil {
		err = ledger.Step("write down")
	}
	if err != nil {
		return err
	}
	path := tr.journal(gitDir)
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("writing down what will be changed: %w; nothing was changed", err)
	}
	_, err = f.WriteString(journalVersion + ledger.HashOf(string(body)) + "\n" + string(body))
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		os.Remove(path + ".new")
		return fmt.Errorf("writing down what will be changed: %w; nothing was changed", err)
	}
	return nil
}

// turn records that the transition is being undone. An interrupted undo continues as an undo.
func (tr *Transition) turn(gitDir string) error {
	if tr.Turned {
		return nil
	}
	from := tr.journal(gitDir)
	tr.Turned = true
	if err := os.Rename(from, tr.journal(gitDir)); err != nil {
		tr.Turned = false
		return fmt.Errorf("noting that the change is taken back: %w", err)
	}
	return nil
}

// erase removes the journal.
func (tr *Transition) erase(gitDir string) error {
	if err := os.Remove(tr.journal(gitDir)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("noting that the change is done: %w", err)
	}
	return nil
}

func holdPath(gitDir string) string { return filepath.Join(gitDir, "dorvik", "busy") }

// HalfDone returns the interrupted change, or nil. alive is true if a process is still working on it.
func (w *WorkTree) HalfDone() (half *change.HalfDone, alive bool, err error) {
	tr, err := readJournal(w.Repo.GitDir)
	if tr == nil {
		return nil, false, err
	}
	half = &change.HalfDone{Kind: tr.Kind, Branch: tr.Branch, From: tr.From, To: tr.To}
	f, err := os.Open(holdPath(w.Repo.GitDir))
	if err != nil {
		return half, false, nil
	}
	defer f.Close()
	alive = syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil
	return half, alive, nil
}

// hold locks the repository for this process and the gits it starts. A git that outlives a killed Dorvik keeps the
// lock.
func (a *Applier) hold() error {
	f, err := os.OpenFile(holdPath(a.Repo.GitDir), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("keeping the recovery in the git directory: %w", err)
	}
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err == nil {
			a.Repo.Hold = f
			return nil
		}
		if time.Now().After(until) {
			f.Close()
			return ledger.ErrInUse
		}
	}
}
