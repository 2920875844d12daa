package git

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"dorvik.dev/dorvik/internal/watch"
)

// AwaitSettings blocks until one of the files of settings, existing or not, was written.
func (r *Configuration) AwaitSettings(ctx context.Context) error {
	if _, err := r.allSettings(ctx); err != nil {
		return err
	}
	if err := watch.Written(ctx, slices.Collect(maps.Keys(r.settings.files()))); err != nil {
		return fmt.Errorf("watching the settings: %w", err)
	}
	return nil
}
