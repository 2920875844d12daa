package beside

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/vcs"
)

// Keys reads settings that all have names of the form SECTION.KEY. Case does not matter in names.
type Keys struct {
	all func(ctx context.Context) ([]vcs.Setting, error)
}

// NewKeys returns the settings by what reads all of them, the one that counts last.
func NewKeys(all func(ctx context.Context) ([]vcs.Setting, error)) *Keys {
	return &Keys{all}
}

// value returns the value of a key.
func (r *Keys) value(ctx context.Context, key string) (value string, ok bool, err error) {
	all, err := r.all(ctx)
	for _, s := range all {
		if strings.EqualFold(s.Name, key) {
			value, ok = s.Value, true
		}
	}
	return value, ok, err
}

// Config returns a setting, or an empty text.
func (r *Keys) Config(ctx context.Context, key string) (string, error) {
	value, _, err := r.value(ctx, key)
	return value, err
}

// ConfigPath returns a path, with ~ expanded.
func (r *Keys) ConfigPath(ctx context.Context, key string) (string, error) {
	value, err := r.Config(ctx, key)
	if rest, ok := strings.CutPrefix(value, "~/"); ok {
		home, herr := os.UserHomeDir()
		return filepath.Join(home, rest), errors.Join(err, herr)
	}
	return value, err
}

// Flag returns a boolean in any of the usual spellings.
func (r *Keys) Flag(ctx context.Context, key string) (bool, error) {
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
func (r *Keys) Duration(ctx context.Context, key string) (time.Duration, error) {
	value, err := r.Config(ctx, key)
	if err != nil {
		return 0, err
	}
	return vcs.ParseDuration(key, value)
}

// Values returns the value of a key or, with pattern, of all keys that an expression matches. Names are in lower case.
func (r *Keys) Values(ctx context.Context, key string, pattern bool) (out []vcs.Setting, err error) {
	all, err := r.all(ctx)
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
		if is(s.Name) {
			one := vcs.Setting{Name: key, Value: s.Value, Own: s.Own}
			if pattern {
				one.Name = strings.ToLower(s.Name)
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// Settings returns the values of all keys that an expression matches.
func (r *Keys) Settings(ctx context.Context, pattern string) (map[string]string, error) {
	list, err := r.Values(ctx, pattern, true)
	out := map[string]string{}
	for _, s := range list {
		out[s.Name] = s.Value
	}
	return out, err
}

// ParseSettings reads a file of sections. Lines that begin with white space go on with a value. A file that is not
// there has no settings.
func ParseSettings(file string, own bool) (out []vcs.Setting, err error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the settings: %w", err)
	}
	section := ""
	for line := range strings.Lines(string(data)) {
		line = strings.TrimRight(line, " \t\r\n")
		key, value, ok := strings.Cut(line, "=")
		switch {
		case line == "", strings.HasPrefix(line, "#"), strings.HasPrefix(line, ";"):
		case strings.HasPrefix(line, "["):
			section = strings.Trim(line, "[]")
		case (line[0] == ' ' || line[0] == '\t') && len(out) > 0:
			out[len(out)-1].Value += "\n" + strings.TrimSpace(line)
		case ok:
			out = append(out, vcs.Setting{Name: section + "." + strings.TrimSpace(key), Value: strings.TrimSpace(value),
				Own: own})
		}
	}
	return out, nil
}

// EditSetting replaces the lines of a key in a file of sections, or adds one at the end of its section; with nil it
// removes them. A key is SECTION.NAME.
func EditSetting(file, key string, value *string) error {
	section, name, ok := strings.Cut(key, ".")
	if !ok || value != nil && strings.ContainsAny(*value, "\n\r") {
		return fmt.Errorf("%s cannot be set to that", key)
	}
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
	if err := WriteFile(file, []byte(strings.Join(lines, "\n")+"\n")); err != nil {
		return fmt.Errorf("setting %s: %w", key, err)
	}
	return nil
}

// isKey reports whether a line sets a key.
func isKey(line, name string) bool {
	key, _, ok := strings.Cut(line, "=")
	return ok && strings.EqualFold(strings.TrimRight(key, " \t"), name)
}
