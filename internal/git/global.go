package git

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
)

// Global is the person's own settings, for all repositories. It needs no repository.
type Global struct{}

// Get returns the last value of a key. ok is false if it is not set.
func (g Global) Get(ctx context.Context, key string) (value string, ok bool, err error) {
	out, err := g.run(ctx, "--get", key)
	if ended := (*exec.ExitError)(nil); errors.As(err, &ended) && ended.ExitCode() == 1 {
		return "", false, nil
	}
	return strings.TrimSuffix(out, "\n"), err == nil, err
}

// Set sets a key.
func (g Global) Set(ctx context.Context, key, value string) error {
	_, err := g.run(ctx, key, value)
	return err
}

// Unset removes a key, and its section if nothing is left there.
func (g Global) Unset(ctx context.Context, key string) error {
	_, err := g.run(ctx, "--unset", key)
	return err
}

func (Global) run(ctx context.Context, args ...string) (string, error) {
	cmd := command(ctx, "", append([]string{"config", "--global"}, args...))
	var said strings.Builder
	cmd.Stderr = &said
	out, err := cmd.Output()
	if text := strings.TrimSpace(said.String()); err != nil && text != "" {
		err = fmt.Errorf("git's settings: %s: %w", text, err)
	}
	return string(out), err
}
