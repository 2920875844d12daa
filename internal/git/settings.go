package git

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// settings caches all settings of a repository as git prints them. It reads them again when one of their files
// changes.
type settings struct {
	mu     sync.Mutex
	list   []setting
	stamps map[string]stamp // states of the configuration files, existing or not
	known  bool
}

// setting is one setting.
type setting struct {
	key, value string
	bare       bool // the key has no value, which means true
	scope      string
}

// stamp identifies a state of a file. It is zero for a missing file.
type stamp struct {
	size, when int64
	inode      uint64
}

func stampOf(file string) (s stamp) {
	if info, err := os.Stat(file); err == nil {
		s = stamp{size: info.Size(), when: info.ModTime().UnixNano()}
		if sys, ok := info.Sys().(*syscall.Stat_t); ok {
			s.inode = sys.Ino
		}
	}
	return s
}

// allSettings returns the present settings.
func (r *Configuration) allSettings(ctx context.Context) ([]setting, error) {
	s := &r.settings
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known {
		fresh := true
		for file, at := range s.stamps {
			fresh = fresh && stampOf(file) == at
		}
		if fresh {
			return s.list, nil
		}
	}
	stamps, begun := r.stamps(), time.Now()
	text, err := listSettings(ctx, r.Dir)
	if err != nil {
		return nil, err
	}
	s.take(r, r.Dir, text, stamps, begun)
	return s.list, nil
}

// stamps returns the stamps of the files that can contain settings.
func (r *Configuration) stamps() map[string]stamp {
	out := map[string]stamp{}
	for _, file := range r.settingsPlaces() {
		out[file] = stampOf(file)
	}
	return out
}

// listSettings lists the settings that apply in a directory.
func listSettings(ctx context.Context, dir string) (string, error) {
	out, _, err := runIn(ctx, dir, call{doing: "reading the settings", args: []string{"config", "--list",
		"--show-scope",
		"--show-origin", "-z"}})
	return string(out), err
}

// tick is the resolution of file times: how far they may be behind the clock.
const tick = 20 * time.Millisecond

// take parses git's list, which was requested at a time. stamps are those of the files then. If one was written since,
// the list may be outdated and is not reused.
func (s *settings) take(r *Configuration, dir, text string, stamps map[string]stamp, begun time.Time) {
	var list []setting
	fields := strings.Split(strings.TrimSuffix(text, "\x00"), "\x00")
	for i := 0; i+2 < len(fields); i += 3 {
		one := setting{scope: fields[i]}
		var valued bool
		one.key, one.value, valued = strings.Cut(fields[i+2], "\n")
		one.bare = !valued
		list = append(list, one)
		if file, ok := strings.CutPrefix(fields[i+1], "file:"); ok {
			if !filepath.IsAbs(file) {
				file = filepath.Join(dir, file)
			}
			if _, seen := stamps[file]; !seen {
				stamps[file] = stampOf(file)
			}
		}
		if strings.HasPrefix(one.key, "includeif.onbranch:") {
			stamps[filepath.Join(r.GitDir, "HEAD")] = stampOf(filepath.Join(r.GitDir, "HEAD"))
		}
	}
	s.list, s.stamps, s.known = list, stamps, true
	for _, at := range stamps {
		if at.when > begun.Add(-tick).UnixNano() {
			s.known = false
		}
	}
}

// files returns the files that the settings come from or could come from.
func (s *settings) files() map[string]bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]bool{}
	for file := range s.stamps {
		out[filepath.Clean(file)] = true
	}
	return out
}

// settingsPlaces returns the files that git reads, existing or not, as far as they are known.
func (r *Configuration) settingsPlaces() []string {
	out := []string{filepath.Join(r.Common, "config"), filepath.Join(r.GitDir, "config.worktree")}
	if global, ok := os.LookupEnv("GIT_CONFIG_GLOBAL"); ok {
		return append(out, global)
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return out
	}
	dir := os.Getenv("XDG_CONFIG_HOME") // git uses it on every system
	if dir == "" {
		dir = filepath.Join(home, ".config")
	}
	return append(out, filepath.Join(home, ".gitconfig"), filepath.Join(dir, "git", "config"))
}

// keyOf returns a key as git prints it, with its first and last part in lower case.
func keyOf(key string) string {
	first, last := strings.IndexByte(key, '.'), strings.LastIndexByte(key, '.')
	if first < 0 {
		return strings.ToLower(key)
	}
	return strings.ToLower(key[:first]) + key[first:last] + strings.ToLower(key[last:])
}

// setting returns the last value of a key, which counts, or nil.
func (r *Configuration) setting(ctx context.Context, key string) (*setting, error) {
	all, err := r.allSettings(ctx)
	if err != nil {
		return nil, err
	}
	key = keyOf(key)
	for i := len(all) - 1; i >= 0; i-- {
		if all[i].key == key {
			return &all[i], nil
		}
	}
	return nil, nil
}

// Flag returns a boolean setting in any of git's spellings, false if it is not set. The error names another value.
func (r *Configuration) Flag(ctx context.Context, key string) (bool, error) {
	s, err := r.setting(ctx, key)
	if err != nil || s == nil {
		return false, err
	}
	if s.bare {
		return true, nil
	}
	switch strings.ToLower(s.value) {
	case "true", "yes", "on":
		return true, nil
	case "false", "no", "off", "":
		return false, nil
	}
	if n, err := strconv.Atoi(s.value); err == nil {
		return n != 0, nil
	}
	// Let git parse other forms of numbers, and word the error.
	out, err := r.run(ctx, "reading the setting "+key, "config", "--type=bool", "--get", key)
	return strings.TrimSpace(out) == "true", err
}

// Config returns a setting, or "".
func (r *Configuration) Config(ctx context.Context, key string) (string, error) {
	s, err := r.setting(ctx, key)
	if err != nil || s == nil {
		return "", err
	}
	return s.value, nil
}

// ConfigPath returns a path setting with ~ expanded, or "".
func (r *Configuration) ConfigPath(ctx context.Context, key string) (string, error) {
	s, err := r.setting(ctx, key)
	if err != nil || s == nil {
		return "", err
	}
	if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(s.value, "~/") {
		return home + s.value[1:], nil
	}
	if !strings.HasPrefix(s.value, "~") && !strings.HasPrefix(s.value, "%(") && !strings.HasPrefix(s.value, ":(") {
		return s.value, nil
	}
	out, _, err := runIn(ctx, r.Dir, call{doing: "reading the setting " + key,
		args: []string{"config", "-z", "--type=path", "--get", key}})
	return strings.TrimSuffix(string(out), "\x00"), err
}

// Duration returns a time setting: minutes, or a number with a unit. It is zero if not set.
func (r *Configuration) Duration(ctx context.Context, key string) (time.Duration, error) {
	said, err := r.Config(ctx, key)
	if err != nil {
		return 0, err
	}
	return vcs.ParseDuration(key, said)
}

// Values returns all values of a key in order, and whether each is the person's own and not the repository's. With
// pattern it returns those of all keys that match a regular expression.
func (r *Configuration) Values(ctx context.Context, key string, pattern bool) (out []vcs.Setting, err error) {
	all, err := r.allSettings(ctx)
	if err != nil {
		return nil, err
	}
	is := func(k string) bool { return k == keyOf(key) }
	if pattern {
		re, err := regexp.Compile(key)
		if err != nil {
			return nil, fmt.Errorf("reading the settings %s: %w", key, err)
		}
		is = re.MatchString
	}
	for _, s := range all {
		if is(s.key) {
			one := vcs.Setting{Name: key, Value: s.value, Own: s.scope != "local" && s.scope != "worktree"}
			if pattern {
				one.Name = s.key
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// Configuration is the settings, as git reads them.
type Configuration struct {
	*Place
	settings settings
}

// Dialect returns git's.
func (r *Configuration) Dialect() vcs.Dialect { return vcs.InGit }

// Committer returns the committer that git would record.
func (r *Configuration) Committer(ctx context.Context) (object.Signature, error) {
	out, err := r.run(ctx, "asking who you are", "var", "GIT_COMMITTER_IDENT")
	if err != nil {
		if code(err) != 128 { // git could not parse the value
			return object.Signature{}, err
		}
		return object.Signature{}, errors.New("git does not know who you are; set user.name and user.email with git " +
			"config, in another terminal, and try again")
	}
	return object.ParseSignature(strings.TrimSpace(out)), nil
}

// Editor returns the shell command with which git would open an editor: GIT_EDITOR, core.editor, VISUAL or EDITOR.
func (r *Configuration) Editor(ctx context.Context) (string, error) {
	out, err := r.run(ctx, "asking which editor is yours", "var", "GIT_EDITOR")
	return strings.TrimSpace(out), err
}

// Settings maps the keys that match a regular expression to their values. Keys are as git prints them.
func (r *Configuration) Settings(ctx context.Context, pattern string) (map[string]string, error) {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return nil, fmt.Errorf("reading the settings: %w", err)
	}
	list, err := r.allSettings(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for _, one := range list {
		if re.MatchString(one.key) {
			all[one.key] = one.value
			if one.bare {
				all[one.key] = "true" // a key without a value means true
			}
		}
	}
	return all, nil
}

// UnsetConfig removes a setting from the repository's configuration. A missing one is no error.
func (r *Configuration) UnsetConfig(ctx context.Context, key string) error {
	_, err := r.run(ctx, "clearing "+key, "config", "--unset-all", key)
	if code(err) == 5 { // git's exit code for a key that is not set
		return nil
	}
	return err
}

// SetConfig replaces all values of a setting in the repository's configuration.
func (r *Configuration) SetConfig(ctx context.Context, key, value string) error {
	_, err := r.run(ctx, "setting "+key, "config", "--replace-all", key, value)
	return err
}
