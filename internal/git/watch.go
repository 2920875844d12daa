package git

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/fsnotify/fsnotify"
)

// AwaitSettings blocks until one of the files of settings, existing or not, was written. The system notifies it; it
// does not poll.
func (r *Configuration) AwaitSettings(ctx context.Context) error {
	const doing = "watching the settings"
	if _, err := r.allSettings(ctx); err != nil {
		return err
	}
	files := r.settings.files()
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	defer w.Close()
	watched := 0
	for file := range files { // files are replaced by renames, so watch their folders
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
