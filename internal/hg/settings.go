package hg

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/watch"
)

// configuration is the settings, as hg reads them. A setting KEY of Dorvik is in the section [dorvik], without the
// prefix.
type configuration struct {
	place  *place
	mu     sync.Mutex
	list   []vcs.Setting
	stamps map[string]time.Time // of the files that can have settings
	stale  bool                 // Dorvik wrote one of them since
}

// settings reads and writes them.
type settings struct {
	*objects
	keys   *beside.Keys
	config *configuration
}

// files are those that a person edits.
func (c *configuration) files() []string {
	out := []string{filepath.Join(c.place.own, "hgrc"), filepath.Join(c.place.own, "hgrc-not-shared")}
	if path, ok := os.LookupEnv("HGRCPATH"); ok {
		return append(out, filepath.SplitList(path)...)
	}
	if home, err := os.UserHomeDir(); err == nil {
		out = append(out, filepath.Join(home, ".hgrc"))
	}
	if dir, err := os.UserConfigDir(); err == nil {
		out = append(out, filepath.Join(dir, "hg", "hgrc"))
	}
	return out
}

// all returns the present settings; of the repository's hgrc they are not the person's own. The command server reads
// them at its start, so it is started again if one of their files was written.
func (c *configuration) all(ctx context.Context) ([]vcs.Setting, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now, fresh := map[string]time.Time{}, c.stamps != nil && !c.stale
	for _, file := range c.files() {
		if info, err := os.Stat(file); err == nil {
			now[file] = info.ModTime()
		}
		fresh = fresh && now[file].Equal(c.stamps[file])
	}
	if fresh {
		return c.list, nil
	}
	if c.stamps != nil || c.stale {
		c.place.hg.close()
	}
	out, err := c.place.run(ctx, "reading the settings", "config", "-T", "json")
	if err != nil {
		return nil, err
	}
	var list []struct {
		Name   string `json:"name"`
		Value  any    `json:"value"`
		Source string `json:"source"`
	}
	if err := json.Unmarshal([]byte(out), &list); err != nil {
		return nil, fmt.Errorf("reading the settings: %w", err)
	}
	c.list, c.stamps, c.stale = nil, now, false
	for _, s := range list {
		c.list = append(c.list, vcs.Setting{Name: s.Name, Value: fmt.Sprint(s.Value),
			Own: !strings.HasPrefix(s.Source, c.place.own)})
	}
	return c.list, nil
}

// Config returns a setting, or an empty text.
func (r *settings) Config(ctx context.Context, key string) (string, error) {
	return r.keys.Config(ctx, key)
}

// ConfigPath returns a path, with ~ expanded.
func (r *settings) ConfigPath(ctx context.Context, key string) (string, error) {
	return r.keys.ConfigPath(ctx, key)
}

// Flag returns a boolean.
func (r *settings) Flag(ctx context.Context, key string) (bool, error) { return r.keys.Flag(ctx, key) }

// Duration returns a time.
func (r *settings) Duration(ctx context.Context, key string) (time.Duration, error) {
	return r.keys.Duration(ctx, key)
}

// Values returns the value of a key or, with pattern, of all keys that an expression matches.
func (r *settings) Values(ctx context.Context, key string, pattern bool) ([]vcs.Setting, error) {
	return r.keys.Values(ctx, key, pattern)
}

// Settings returns the values of all keys that an expression matches.
func (r *settings) Settings(ctx context.Context, pattern string) (map[string]string, error) {
	return r.keys.Settings(ctx, pattern)
}

// SetConfig writes a setting into the repository's hgrc.
func (r *settings) SetConfig(_ context.Context, key, value string) error {
	return r.editConfig(key, &value)
}

// UnsetConfig removes a setting from the repository's hgrc.
func (r *settings) UnsetConfig(_ context.Context, key string) error { return r.editConfig(key, nil) }

// editConfig sets a key, or removes it.
func (r *settings) editConfig(key string, value *string) error {
	if err := beside.EditSetting(filepath.Join(r.own, "hgrc"), key, value); err != nil {
		return err
	}
	r.config.mu.Lock()
	defer r.config.mu.Unlock()
	r.config.stale = true // a file that is written twice within a tick looks as before
	return nil
}

// Dialect returns Mercurial's.
func (r *settings) Dialect() vcs.Dialect { return vcs.InMercurial }

// Committer returns who commits, now.
func (r *settings) Committer(ctx context.Context) (object.Signature, error) {
	user, err := r.Config(ctx, "ui.username")
	if err != nil {
		return object.Signature{}, err
	}
	for _, name := range []string{"HGUSER", "EMAIL"} {
		if said := os.Getenv(name); said != "" && (name == "HGUSER" || user == "") {
			user = said
			break
		}
	}
	if user == "" {
		return object.Signature{}, errors.New(
			"hg does not know who you are; set username in the section [ui] of your " +
				".hgrc, as in username = Runa Holm <runa@example.org>, and try again")
	}
	now := time.Now()
	_, ahead := now.Zone()
	return signatureOf(&changeset{user: os.ExpandEnv(user), when: now.Unix(), west: -ahead}), nil
}

// Editor returns the command with which hg opens an editor.
func (r *settings) Editor(ctx context.Context) (string, error) {
	if said := os.Getenv("HGEDITOR"); said != "" {
		return said, nil
	}
	said, err := r.Config(ctx, "ui.editor")
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if said == "" {
			said = os.Getenv(name)
		}
	}
	if said == "" {
		said = "vi"
	}
	return said, err
}

// AwaitSettings waits until one of the files of settings was written.
func (r *settings) AwaitSettings(ctx context.Context) error {
	if err := watch.Written(ctx, r.config.files()); err != nil {
		return fmt.Errorf("watching the settings: %w", err)
	}
	return nil
}
