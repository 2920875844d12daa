package ledger

import (
	"bufio"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
)

// Agreements is what a person agreed to in a repository: commands that may run, and the trees for which. They are
// stored with the person's own settings and never in the repository, because an unpacked or cloned directory cannot
// agree for anybody.
type Agreements struct {
	file string // path of the file; empty if there is no place for it: agreements then hold for this run
	in   string // the repository's directory
	mark string // file in it that identifies the repository
	list []agreement
}

// agreement is one line of the file.
type agreement struct {
	In   string    `json:"in"`
	Mark string    `json:"mark"` // content of the repository's own mark
	To   string    `json:"to"`
	On   string    `json:"on,omitempty"` // tree on which it was agreed to; empty if none
	When time.Time `json:"when"`
}

const (
	longestAgreement = 1 << 10 // longest text that is stored, in bytes; of longer ones the SHA-256
	longestLine      = 1 << 14 // longest line of the file, in bytes; longer ones are skipped
	largestAgreed    = 1 << 20 // size of the file in bytes at which it is shortened
	latestAgreed     = 500     // lines that are left then, the newest
	mostTrees        = 24      // most trees for one command in one repository
)

// openAgreements reads the agreements of a repository. An unreadable file is an error.
func openAgreements(gitDir string) (*Agreements, error) {
	a := &Agreements{in: gitDir, mark: filepath.Join(gitDir, "dorvik", "mark")}
	dir, err := os.UserConfigDir()
	if err != nil {
		return a, nil
	}
	a.file = filepath.Join(dir, "dorvik", "agreed")
	mark, err := os.ReadFile(a.mark)
	if err != nil || len(mark) == 0 { // nobody agreed to anything here
		return a, nil
	}
	all, err := readAgreements(a.file)
	if err != nil {
		return nil, fmt.Errorf("reading what you agreed to: %w", err)
	}
	for _, one := range all {
		if one.In == gitDir && one.Mark == string(mark) {
			a.list = append(a.list, one)
		}
	}
	return a, nil
}

// readAgreements parses a file. It skips torn lines and lines longer than any of Dorvik's.
func readAgreements(file string) (all []agreement, err error) {
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) { // Dorvik then asks again
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewReaderSize(f, longestLine)
	for {
		line, more, err := lines.ReadLine()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		var one agreement
		if !more && json.Unmarshal(line, &one) == nil {
			all = append(all, one)
		}
		for more && err == nil {
			_, more, err = lines.ReadLine()
		}
	}
}

// short returns the recorded form of what is agreed to.
func short(to string) string {
	if len(to) <= longestAgreement {
		return to
	}
	return "sha256 " + HashOf(to)
}

// Has reports whether something was agreed to, for any tree.
func (a *Agreements) Has(to string) bool {
	to = short(to)
	return slices.ContainsFunc(a.list, func(one agreement) bool { return one.To == to })
}

// On lists the trees for which something was agreed to, latest first.
func (a *Agreements) On(to string) (trees []object.ID) {
	to = short(to)
	for _, one := range slices.Backward(a.list) {
		id, err := object.ParseID(one.On)
		if one.To == to && err == nil && !slices.Contains(trees, id) && len(trees) < mostTrees {
			trees = append(trees, id)
		}
	}
	return trees
}

// Add records an agreement for trees or, without any, in general.
func (a *Agreements) Add(to string, when time.Time, trees ...object.ID) error {
	to = short(to)
	on := make([]string, max(1, len(trees)))
	for i, t := range trees {
		on[i] = t.String()
	}
	on = slices.DeleteFunc(on, func(on string) bool {
		return slices.ContainsFunc(a.list, func(one agreement) bool { return one.To == to && one.On == on })
	})
	for _, on := range on {
		one := agreement{In: a.in, To: to, On: on, When: when}
		if err := a.write(&one); err != nil {
			return fmt.Errorf("recording what you agreed to: %w", err)
		}
		a.list = append(a.list, one)
	}
	return nil
}

// write appends a line to the file, and shortens a file that is too long.
func (a *Agreements) write(one *agreement) (err error) {
	if a.file == "" {
		return nil
	}
	if one.Mark, err = a.marked(); err != nil {
		return err
	}
	line, err := json.Marshal(one)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(a.file), 0o700); err != nil {
		return err
	}
	if info, err := os.Stat(a.file); err == nil && info.Size() > largestAgreed {
		if err := shorten(a.file); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(a.file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(line, '\n'))
	return errors.Join(err, f.Close())
}

// shorten keeps the latest lines of a file.
func shorten(file string) error {
	all, err := readAgreements(file)
	if err != nil {
		return err
	}
	var text strings.Builder
	for _, one := range all[max(0, len(all)-latestAgreed):] {
		line, err := json.Marshal(one)
		if err != nil {
			return err
		}
		text.Write(append(line, '\n'))
	}
	if err := os.WriteFile(file+".new", []byte(text.String()), 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// marked returns the mark that identifies the repository at its path, and creates it if needed.
func (a *Agreements) marked() (string, error) {
	mark, err := os.ReadFile(a.mark)
	if err == nil && len(mark) > 0 {
		return string(mark), nil
	}
	if err := os.MkdirAll(filepath.Dir(a.mark), 0o700); err != nil {
		return "", err
	}
	text := rand.Text()
	return text, os.WriteFile(a.mark, []byte(text), 0o600)
}

// AgreedTo reports whether the person agreed, word by word, to run something in this repository.
func (l *Ledger) AgreedTo(what string) bool { return l.Agreements.Has(what) }

// Agree records that something may run in this repository.
func (l *Ledger) Agree(what string) error { return l.Agreements.Add(what, time.Now()) }

// Trusts reports whether the changes of a person may run here without a question.
func (l *Ledger) Trusts(email string) bool { return l.AgreedTo("always from " + email) }

// Trust records that the changes of a person, known by e-mail address, may run here without a question.
func (l *Ledger) Trust(email string) error { return l.Agree("always from " + email) }
