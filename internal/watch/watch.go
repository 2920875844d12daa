// Package watch waits for files to be written.
package watch

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"github.com/fsnotify/fsnotify"
)

// Written blocks until one of the files was written, whether it exists yet or not. The system tells it; it does not
// poll.
func Written(ctx context.Context, files []string) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	watched := false
	for _, file := range files { // files are replaced by renames, so watch their folders
		watched = w.Add(filepath.Dir(file)) == nil || watched
	}
	if !watched {
		return errors.New("none of their folders can be watched")
	}
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case e, ok := <-w.Events:
			if !ok {
				return errors.New("the watch ended")
			}
			if slices.Contains(files, filepath.Clean(e.Name)) && !e.Has(fsnotify.Chmod) {
				return nil
			}
		case err, ok := <-w.Errors:
			if ok {
				return fmt.Errorf("the watch failed: %w", err)
			}
		}
	}
}
