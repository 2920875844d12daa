package svn

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
)

// unnamed is the message of changes that are in no change list, until they have one.
const unnamed = "Your changes"

// messages reads the messages of change lists by their names.
func (r *place) messages() (map[string]string, error) {
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

// message returns the message of a change list: what was written, or its name.
func (r *place) message(list string) (string, error) {
	all, err := r.messages()
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

// Messages returns the messages that were written for change lists, by their names.
func (r *place) Messages() (map[string]string, error) { return r.messages() }

// Lists returns the change list of each commit that is not checked in. That of changes in no list has an empty name.
func (r *work) Lists(ctx context.Context) (map[object.ID]string, error) {
	s, err := r.look(ctx)
	if err != nil {
		return nil, err
	}
	out := map[object.ID]string{}
	for _, g := range s.groups {
		out[g.commit] = g.list
	}
	return out, nil
}
