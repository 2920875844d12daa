package recovery

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// agreements are what the person at the keyboard agreed to in a repository: commands that may run, as they read then.
// They are kept where the person's own settings are, and never in the repository: what came with a folder that was
// unpacked, or cloned, cannot agree on anybody's behalf.
type agreements struct {
	file string // empty where there is no such place: then they hold for this run
	in   string
	to   map[string]bool

	order []string // the last is the latest
}

// agreement is one, as a line of the file.
type agreement struct {
	In   string    `json:"in"` // the repository's directory
	To   string    `json:"to"`
	When time.Time `json:"when"`
}

// openAgreements reads those for a repository. A file that cannot be read is an error: nothing is taken as agreed.
func openAgreements(gitDir string) (*agreements, error) {
	a := &agreements{in: gitDir, to: map[string]bool{}}
	dir, err := os.UserConfigDir()
	if err != nil {
		return a, nil
	}
	a.file = filepath.Join(dir, "dorvik", "agreed")
	f, err := os.Open(a.file)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) { // then it is asked again
		return a, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what you agreed to: %w", err)
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var one agreement
		if json.Unmarshal(lines.Bytes(), &one) == nil && one.In == gitDir { // a torn line says nothing
			a.to[one.To] = true
			a.order = append(a.order, one.To)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("reading what you agreed to: %w", err)
	}
	return a, nil
}

// add records an agreement, by one line at the end of the file.
func (a *agreements) add(to string, when time.Time) error {
	if a.to[to] {
		return nil
	}
	if a.file != "" {
		line, err := json.Marshal(agreement{a.in, to, when})
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(a.file), 0o700); err != nil {
			return fmt.Errorf("recording what you agreed to: %w", err)
		}
		f, err := os.OpenFile(a.file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		if err == nil {
			_, err = f.Write(append(line, '\n'))
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			return fmt.Errorf("recording what you agreed to: %w", err)
		}
	}
	a.to[to], a.order = true, append(a.order, to)
	return nil
}

// AgreedTo reports whether something may be run: it was agreed to in this repository, word by word.
func (s *Session) AgreedTo(what string) bool { return s.agreements.to[what] }

// Agree records that something may be run in this repository.
func (s *Session) Agree(what string) error { return s.agreements.add(what, time.Now()) }
