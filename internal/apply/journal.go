package apply

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/workdir"
)

// The journal holds a transition while it is made: one file in the git directory. Its name tells the direction. Turning
// back renames it, which works on a full disk, too.
const (
	journalForward = "moving.json"
	journalBack    = "returning.json"
)

func (tr *Transition) journal(gitDir string) string {
	name := journalForward
	if tr.Turned {
		name = journalBack
	}
	return filepath.Join(gitDir, "dorvik", name)
}

// readJournal reads the journal. It returns nil if there is none, and a *workdir.JournalError if it is damaged or of
// another version.
func readJournal(gitDir string) (*Transition, error) {
	for _, turned := range []bool{true, false} {
		path, tr := (&Transition{Turned: turned}).journal(gitDir), &Transition{}
		found, ok, err := workdir.ReadJournal(path, tr)
		if err != nil {
			return nil, err
		}
		if !found {
			continue
		}
		if !ok || tr.Lay == nil {
			return nil, &workdir.JournalError{Path: path, Look: "git status"}
		}
		tr.Turned = turned
		return tr, nil
	}
	return nil, nil
}

// write replaces the journal and syncs it to disk.
func (tr *Transition) write(gitDir string) error { return workdir.WriteJournal(tr.journal(gitDir), tr) }

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

// HalfDone returns the interrupted change, or nil. alive is true if a process is still working on it.
func (w *WorkTree) HalfDone() (half *change.HalfDone, alive bool, err error) {
	tr, err := readJournal(w.Repo.GitDir)
	if tr == nil {
		return nil, false, err
	}
	half = &change.HalfDone{Kind: tr.Kind, Branch: tr.Branch, From: tr.From, To: tr.To}
	return half, workdir.Held(w.Repo.GitDir), nil
}

// hold locks the repository for this process and the gits it starts. A git that outlives a killed Dorvik keeps the
// lock.
func (a *Applier) hold() (err error) {
	a.Repo.Hold, err = workdir.Hold(a.Repo.GitDir)
	return err
}
