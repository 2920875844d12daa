package svn

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
)

// unnamed is the message of changes that are in no change list, until they have one.
const unnamed = "Your changes"

// Notes are what svn does not keep of change lists.
type Notes struct {
	Texts map[string]string `json:"texts,omitempty"` // messages, by the lists' names; others have their name as message
	// Parts are the files of which single edits are in a list, and the rest is in another or in none. svn has each file
	// in one list, which is that of the rest.
	Parts map[string][]Part `json:"parts,omitempty"`
	// Order has the lists in the order in which they are checked in, where it matters.
	Order []string `json:"order,omitempty"`
	// Apart says that changes in no list are no commit, though there are no lists: some are being chosen.
	Apart bool `json:"apart,omitempty"`
}

// Part is what a list has of the changes to a file.
type Part struct {
	List     string
	From, To object.Entry // the file before and after: what is checked out or the part before, and what goes
}

// Clone returns notes that can be changed.
func (n Notes) Clone() Notes {
	n.Texts, n.Parts, n.Order = maps.Clone(n.Texts), maps.Clone(n.Parts), slices.Clone(n.Order)
	if n.Texts == nil {
		n.Texts = map[string]string{}
	}
	return n
}

// of returns the parts of a file that still count: those that follow each other from what is checked out. What was
// checked in since is left out.
func (n Notes) of(path string, base object.Entry) []Part {
	parts := n.Parts[path]
	for len(parts) > 0 && !parts[0].From.Same(base) {
		if !parts[0].To.Same(base) {
			return nil // something else is checked out by now
		}
		parts = parts[1:]
	}
	return parts
}

// sorted returns lists in the order in which they are checked in.
func (n Notes) sorted(lists []string) []string {
	rank := func(list string) int {
		if i := slices.Index(n.Order, list); i >= 0 {
			return i
		}
		return len(n.Order)
	}
	lists = slices.Clone(lists)
	slices.Sort(lists)
	slices.SortStableFunc(lists, func(a, b string) int { return rank(a) - rank(b) })
	return lists
}

// Notes returns the notes of change lists.
func (r *place) Notes() (n Notes, err error) {
	if r.notes != nil {
		return *r.notes, nil
	}
	data, err := os.ReadFile(r.notesFile())
	if errors.Is(err, fs.ErrNotExist) {
		return n, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &n)
	}
	if err != nil {
		return n, fmt.Errorf("reading the messages of your change lists: %w; remove %s, and their names are taken",
			err, r.notesFile())
	}
	return n, nil
}

// notesFile keeps the notes.
func (r *place) notesFile() string { return filepath.Join(r.settingsAt, "dorvik", "lists.json") }

// message returns the message of a change list: what was written, or its name.
func (r *place) message(list string) (string, error) {
	n, err := r.Notes()
	if text := n.Texts[list]; text != "" || err != nil {
		return text, err
	}
	if list == "" {
		return unnamed, nil
	}
	return list, nil
}

// SetNotes replaces the notes. Messages that are their lists' names are left out.
func (r *place) SetNotes(n Notes) error {
	n = n.Clone()
	maps.DeleteFunc(n.Texts, func(list, text string) bool { return text == list || list == "" && text == unnamed })
	data, err := json.Marshal(n)
	if err == nil {
		err = beside.WriteFile(r.notesFile(), data)
	}
	if err != nil {
		return fmt.Errorf("storing the messages of your change lists: %w", err)
	}
	return nil
}

// Ungroup has changes in no change list be uncommitted work even where there are no lists, or one commit again.
func (r *place) Ungroup(_ context.Context, apart bool) error {
	n, err := r.Notes()
	if err != nil || n.Apart == apart {
		return err
	}
	n.Apart = apart
	return r.SetNotes(n)
}
