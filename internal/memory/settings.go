package memory

import (
	"context"
	"regexp"
	"time"

	"dorvik.dev/dorvik/internal/vcs"
)

// person is who works in a clone, by their settings.
type person struct{ values map[string]string }

// Dialect returns git's: the tests' sentences are those.
func (s *person) Dialect() vcs.Dialect { return vcs.InGit }

// Set has a setting be the person's own.
func (s *person) Set(key, value string) { s.values[key] = value }

// Config is the value of a key.
func (s *person) Config(_ context.Context, key string) (string, error) { return s.values[key], nil }

// ConfigPath is Config.
func (s *person) ConfigPath(_ context.Context, key string) (string, error) {
	return s.values[key], nil
}

// Flag reports whether a key is true.
func (s *person) Flag(_ context.Context, key string) (bool, error) {
	return s.values[key] == "true", nil
}

// Duration is a time; zero where none is set.
func (s *person) Duration(_ context.Context, key string) (time.Duration, error) {
	if s.values[key] == "" {
		return 0, nil
	}
	return time.ParseDuration(s.values[key])
}

// Settings are those whose keys an expression matches.
func (s *person) Settings(_ context.Context, pattern string) (map[string]string, error) {
	of, err := regexp.Compile(pattern)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for key, value := range s.values {
		if of.MatchString(key) {
			out[key] = value
		}
	}
	return out, nil
}

// Values are the value of a key, or those of all that an expression matches.
func (s *person) Values(ctx context.Context, key string, pattern bool) (out []vcs.Setting, err error) {
	if !pattern {
		key = "^" + regexp.QuoteMeta(key) + "$"
	}
	all, err := s.Settings(ctx, key)
	for name, value := range all {
		out = append(out, vcs.Setting{Name: name, Value: value, Own: true})
	}
	return out, err
}

// SetConfig sets a key.
func (s *person) SetConfig(_ context.Context, key, value string) error {
	s.values[key] = value
	return nil
}

// UnsetConfig clears a key.
func (s *person) UnsetConfig(_ context.Context, key string) error {
	delete(s.values, key)
	return nil
}

// Editor is none.
func (s *person) Editor(context.Context) (string, error) { return "", nil }

// AwaitSettings waits until it is cancelled: nobody else changes settings.
func (s *person) AwaitSettings(ctx context.Context) error {
	<-ctx.Done()
	return ctx.Err()
}
