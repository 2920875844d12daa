package hg

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/watch"
)

// configuration is the settings, as hg reads them. A setting KEY of Dorvik is in the section [dorvik], without the
// prefix.
type configuration struct {
	place  *place
	mu     sync.Mutex
	list   []setting
	stamps map[string]time.Time // of the files that can have settings
	stale  bool                 // Dorvik wrote one of them since
}

type setting struct {
	name, value string
	own         bool // the person's, and not of the repository's hgrc
}

// settings reads and writes them.
type settings struct {
	*objects
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

// all returns the present settings. The command server reads them at its start, so it is started again if one of their
// files was written.
func (c *configuration) all(ctx context.Context) ([]setting, error) {
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
		c.list = append(c.list, setting{s.Name, fmt.Sprint(s.Value), !strings.HasPrefix(s.Source, c.place.own)})
	}
	return c.list, nil
}

// value returns the value of a key.
func (r *settings) value(ctx context.Context, key string) (value string, ok bool, err error) {
	all, err := r.config.all(ctx)
	for _, s := range all {
		if strings.EqualFold(s.name, key) {
			value, ok = s.value, true
		}
	}
	return value, ok, err
}

// Config returns a setting, or an empty text.
func (r *settings) Config(ctx context.Context, key string) (string, error) {
	value, _, err := r.value(ctx, key)
	return value, err
}

// ConfigPath returns a path, with ~ expanded.
func (r *settings) ConfigPath(ctx context.Context, key string) (string, error) {
	value, err := r.Config(ctx, key)
	if rest, ok := strings.CutPrefix(value, "~/"); ok {
		home, herr := os.UserHomeDir()
		return filepath.Join(home, rest), errors.Join(err, herr)
	}
	return value, err
}

// Flag returns a boolean in any of hg's spellings.
func (r *settings) Flag(ctx context.Context, key string) (bool, error) {
	value, ok, err := r.value(ctx, key)
	if err != nil || !ok {
		return false, err
	}
	switch strings.ToLower(value) {
	case "1", "yes", "true", "on", "always":
		return true, nil
	case "0", "no", "false", "off", "never", "":
		return false, nil
	}
	return false, fmt.Errorf("%s is %s, which is neither yes nor no", key, value)
}

// Duration returns a time.
func (r *settings) Duration(ctx context.Context, key string) (time.Duration, error) {
	value, err := r.Config(ctx, key)
	if err != nil {
		return 0, err
	}
	return vcs.ParseDuration(key, value)
}

// Values returns the value of a key or, with pattern, of all keys that an expression matches. Names are in lower case.
// Those of the repository's hgrc are not the person's own: they can come with a copied folder.
func (r *settings) Values(ctx context.Context, key string, pattern bool) (out []vcs.Setting, err error) {
	all, err := r.config.all(ctx)
	if err != nil {
		return nil, err
	}
	is := func(name string) bool { return strings.EqualFold(name, key) }
	if pattern {
		re, err := regexp.Compile(key)
		if err != nil {
			return nil, fmt.Errorf("reading the settings %s: %w", key, err)
		}
		is = func(name string) bool { return re.MatchString(strings.ToLower(name)) }
	}
	for _, s := range all {
		if is(s.name) {
			one := vcs.Setting{Name: key, Value: s.value, Own: s.own}
			if pattern {
				one.Name = strings.ToLower(s.name)
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// Settings returns the values of all keys that an expression matches.
func (r *settings) Settings(ctx context.Context, pattern string) (map[string]string, error) {
	list, err := r.Values(ctx, pattern, true)
	out := map[string]string{}
	for _, s := range list {
		out[s.Name] = s.Value
	}
	return out, err
}

// SetConfig writes a setting into the repository's hgrc.
func (r *settings) SetConfig(_ context.Context, key, value string) error {
	return r.editConfig(key, &value)
}

// UnsetConfig removes a setting from the repository's hgrc.
func (r *settings) UnsetConfig(_ context.Context, key string) error { return r.editConfig(key, nil) }

// editConfig replaces the lines of a key, or adds one at the end of its section; with nil it removes them.
func (r *settings) editConfig(key string, value *string) error {
	section, name, ok := strings.Cut(key, ".")
	if !ok || value != nil && strings.ContainsAny(*value, "\n\r") {
		return fmt.Errorf("%s cannot be set to that", key)
	}
	file := filepath.Join(r.own, "hgrc")
	data, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		return fmt.Errorf("setting %s: %w", key, err)
	}
	var lines []string
	in, at, skip := false, -1, false
	for line := range strings.Lines(string(data)) {
		line = strings.TrimSuffix(line, "\n")
		trimmed := strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "["):
			in, skip = trimmed == "["+section+"]", false
		case skip && line != trimmed && trimmed != "": // the value goes on
			continue
		case in && isKey(line, name):
			skip = true
			continue
		default:
			skip = false
		}
		lines = append(lines, line)
		if in && trimmed != "" {
			at = len(lines)
		}
	}
	if value != nil {
		text := name + " = " + *value
		if at < 0 {
			lines, at = append(lines, "["+section+"]"), len(lines)+1
		}
		lines = slices.Insert(lines, at, text)
	}
	if err := writeFile(file, []byte(strings.Join(lines, "\n")+"\n")); err != nil {
		return fmt.Errorf("setting %s: %w", key, err)
	}
	r.config.mu.Lock()
	defer r.config.mu.Unlock()
	r.config.stale = true // a file that is written twice within a tick looks as before
	return nil
}

// isKey reports whether a line sets a key.
func isKey(line, name string) bool {
	key, _, ok := strings.Cut(line, "=")
	return ok && strings.EqualFold(strings.TrimRight(key, " \t"), name)
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
