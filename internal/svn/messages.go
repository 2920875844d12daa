package svn

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/beside"
)

// unnamed is the message of changes that are in no change list, until they have one.
const unnamed = "Your changes"

// Messages returns the messages that were written for change lists, by their names.
func (r *place) Messages() (map[string]string, error) {
	out := map[string]string{}
	if r.texts != nil {
		return r.texts, nil
	}
	data, err := os.ReadFile(r.messagesFile())
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &out)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the messages of your change lists: %w; remove %s, and their names are taken",
			err, r.messagesFile())
	}
	return out, nil
}

// messagesFile keeps the messages of change lists whose name is not all of it.
func (r *place) messagesFile() string { return filepath.Join(r.settingsAt, "dorvik", "messages.json") }

// message returns the message of a change list: what was written, or its name.
func (r *place) message(list string) (string, error) {
	all, err := r.Messages()
	if text := all[list]; text != "" || err != nil {
		return text, err
	}
	if list == "" {
		return unnamed, nil
	}
	return list, nil
}

// SetMessages replaces the messages of change lists. Those that are their lists' names are left out.
func (r *place) SetMessages(all map[string]string) error {
	kept := map[string]string{}
	for list, text := range all {
		if text != list && (list != "" || text != unnamed) {
			kept[list] = text
		}
	}
	data, err := json.Marshal(kept)
	if err == nil {
		err = beside.WriteFile(r.messagesFile(), data)
	}
	if err != nil {
		return fmt.Errorf("storing the messages of your change lists: %w", err)
	}
	return nil
}
