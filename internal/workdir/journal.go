package workdir

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/ledger"
)

// A journal holds a change while it is made. Its first line has the version of the format and the SHA-256 of the rest,
// which is the change as JSON.
const journalVersion = "dorvik journal 2 "

// JournalError reports a journal that cannot be read.
type JournalError struct {
	Path string
	Look string // the command that shows branch and files
}

func (e *JournalError) Error() string {
	return "an earlier run was interrupted while it changed the branch, and its account of that cannot be read: look " +
		"with “" + e.Look + "” whether branch and files are as you want them. The next start sets the account aside"
}

// ReadJournal reads a journal. found is false if there is none. ok is false if it is damaged or of another version.
func ReadJournal(path string, into any) (found, ok bool, err error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if err != nil {
		return false, false, fmt.Errorf("reading what an earlier run left half done: %w", err)
	}
	head, body, _ := strings.Cut(string(data), "\n")
	return true, head == journalVersion+ledger.HashOf(body) && exact.Unmarshal([]byte(body), into) == nil, nil
}

// WriteJournal replaces a journal and syncs it to disk.
func WriteJournal(path string, of any) error {
	body, err := exact.Marshal(of)
	if err == nil {
		err = ledger.Step("write down")
	}
	if err != nil {
		return err
	}
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
