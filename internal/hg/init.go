package hg

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/core/object"
)

// Init makes an empty repository in a folder. Settings is the text of its hgrc.
func Init(ctx context.Context, dir, settings string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("making a repository: %w", err)
	}
	s := &server{dir: dir, outside: true}
	defer s.close()
	if _, err := s.run(ctx, "making a repository", "init", dir); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, ".hg", "hgrc"), []byte(settings), 0o644)
}

// Fill adds commits of an overlay to a repository as changesets, makes those of the first ids public, and checks out
// the last one unless it is zero. It returns the changeset of each commit.
func (r *changes) Fill(ctx context.Context, o *object.Overlay, public []object.ID, tip object.ID) (
	map[object.ID]object.ID, error) {
	tips := append([]object.ID{}, public...)
	if !tip.IsZero() {
		tips = append(tips, tip)
	}
	bundle := filepath.Join(r.own, "dorvik", "fill.hg")
	defer os.Remove(bundle)
	made, err := r.Make(ctx, o, tips, nil, nil, bundle)
	if err != nil {
		return nil, err
	}
	if err := r.Add(ctx, bundle, true); err != nil {
		return nil, err
	}
	for _, id := range public {
		if _, err := r.run(ctx, "making changesets public", "phase", "--public", "-r",
			made.Of[id].String()); err != nil {
			return nil, err
		}
	}
	if tip.IsZero() {
		return made.Of, nil
	}
	_, err = r.run(ctx, "filling the working folder", "update", "--quiet", "-r", made.Of[tip].String())
	return made.Of, err
}
