package svn

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/watch"
)

// settings reads and writes settings. A setting KEY of Dorvik is in the section [dorvik], without the prefix: of the
// person's configuration of Subversion, or of a file in .svn/dorvik, which has the last word.
type settings struct {
	*objects
	keys *beside.Keys
}

func newSettings(r *objects) *settings {
	return &settings{r, beside.NewKeys(func(context.Context) ([]vcs.Setting, error) { return r.config() })}
}

// personal is the person's configuration of Subversion; empty without a home.
func personal() string {
	home, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return filepath.Join(home, ".subversion", "config")
}

// configFile has the settings of this working copy. They are not the person's own: they can come with a copied folder.
func (r *place) configFile() string { return filepath.Join(r.settingsAt, "dorvik", "config") }

// config reads all settings.
func (r *place) config() ([]vcs.Setting, error) {
	all, err := beside.ParseSettings(personal(), true)
	if err != nil {
		return nil, err
	}
	here, err := beside.ParseSettings(r.configFile(), false)
	return append(all, here...), err
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

// SetConfig writes a setting of the working copy.
func (r *settings) SetConfig(_ context.Context, key, value string) error {
	return beside.EditSetting(r.configFile(), key, &value)
}

// UnsetConfig removes a setting of the working copy.
func (r *settings) UnsetConfig(_ context.Context, key string) error {
	return beside.EditSetting(r.configFile(), key, nil)
}

// Dialect returns Subversion's.
func (r *settings) Dialect() vcs.Dialect { return vcs.InSubversion }

// userName is the setting of the name to check in under.
const userName = "dorvik.username"

// Committer returns who checks in, now: the name of the setting, or of the account. Subversion has no addresses.
func (r *settings) Committer(ctx context.Context) (object.Signature, error) {
	name, err := r.Config(ctx, userName)
	if err != nil {
		return object.Signature{}, err
	}
	if name == "" {
		name = os.Getenv("USER")
	}
	if name == "" {
		account, err := user.Current()
		if err != nil {
			return object.Signature{}, fmt.Errorf("your name is not known: %w; set %s", err,
				vcs.InSubversion.Set("username"))
		}
		name = account.Username
	}
	return object.Signature{Name: name, When: time.Now().Unix(), Zone: "+0000"}, nil
}

// Editor returns the command with which svn opens an editor.
func (r *settings) Editor(ctx context.Context) (string, error) {
	said, err := r.Config(ctx, "helpers.editor-cmd")
	if first := os.Getenv("SVN_EDITOR"); first != "" {
		said = first
	}
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
	if err := watch.Written(ctx, []string{r.configFile(), personal()}); err != nil {
		return fmt.Errorf("watching the settings: %w", err)
	}
	return nil
}
