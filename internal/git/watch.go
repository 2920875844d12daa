package git

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/fsnotify/fsnotify"
)

// AwaitSettings returns when one of the files was written anew that git takes settings from, those included that may
// come to be. It waits without looking: the system tells.
func (r *Repo) AwaitSettings(ctx context.Context) error {
	const doing = "watching the settings"
	files, err := r.settingsFiles(ctx)
	if err != nil {
		return err
	}
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	defer w.Close()
	watched := 0
	for file := range files { // a file is written by putting another in its place, so its folder is what is watched
		if w.Add(filepath.Dir(file)) == nil {
			watched++
		}
	}
	if watched == 0 {
		return fmt.Errorf("%s: none of their folders can be watched", doing)
	}
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case e, ok := <-w.Events:
			if !ok {
				return fmt.Errorf("%s: the watch ended", doing)
			}
			if files[filepath.Clean(e.Name)] && !e.Has(fsnotify.Chmod) {
				return nil
			}
		case err, ok := <-w.Errors:
			if ok {
				return fmt.Errorf("%s: %w", doing, err)
			}
		}
	}
}

// settingsFiles are the files that have settings now, and those that git would look into if they were there.
func (r *Repo) settingsFiles(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	add := func(file string) {
		if !filepath.IsAbs(file) {
			file = filepath.Join(r.Dir, file)
		}
		out[filepath.Clean(file)] = true
	}
	text, err := r.run(ctx, "looking where the settings come from", "config", "--list", "--name-only", "--show-origin",
		"-z")
	if err != nil {
		return nil, err
	}
	for field := range strings.SplitSeq(text, "\x00") {
		if file, ok := strings.CutPrefix(field, "file:"); ok {
			add(file)
		}
	}
	if own, err := r.Inside(ctx, "config"); err == nil {
		add(own)
	}
	if global, ok := os.LookupEnv("GIT_CONFIG_GLOBAL"); ok {
		add(global)
		return out, nil
	}
	if home, err := os.UserHomeDir(); err == nil {
		add(filepath.Join(home, ".gitconfig"))
	}
	return out, nil
}
