package git

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"dorvik/internal/core/object"
)

// Checkout is a working tree of its own, with its own HEAD and index, apart
// from the person's. It is kept between uses, so that builds in it are
// incremental.
type Checkout struct{ Dir string }

// OpenCheckout makes the checkout at a folder, or takes the one that is there,
// and brings it to a commit. Files that builds left there stay.
func (r *Repo) OpenCheckout(ctx context.Context, dir string, commit object.ID) (*Checkout, error) {
	if _, err := runOut(ctx, dir, "looking for the checkout", "rev-parse", "--verify", "--quiet", "HEAD"); err != nil || !isOwnTop(ctx, dir) {
		if err := r.makeCheckout(ctx, dir, commit); err != nil {
			return nil, err
		}
	}
	for _, args := range [][]string{
		{"update-ref", "--no-deref", "HEAD", commit.String()},
		{"read-tree", "--reset", "-u", commit.String()},
		{"checkout-index", "--all", "--force", "--quiet"}, // what a build changed or removed
	} {
		if _, err := runOut(ctx, dir, "preparing the checkout for the check", args...); err != nil {
			return nil, err
		}
	}
	return &Checkout{dir}, nil
}

// isOwnTop guards against a broken checkout inside which git would find the
// repository around it.
func isOwnTop(ctx context.Context, dir string) bool {
	_, err := os.Stat(filepath.Join(dir, ".git"))
	if err != nil {
		return false
	}
	out, err := runOut(ctx, dir, "looking for the checkout", "rev-parse", "--is-inside-work-tree")
	return err == nil && out == "true\n"
}

func (r *Repo) makeCheckout(ctx context.Context, dir string, commit object.ID) error {
	if err := os.RemoveAll(dir); err != nil {
		return fmt.Errorf("preparing the checkout for the check: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return fmt.Errorf("preparing the checkout for the check: %w", err)
	}
	if _, err := r.run(ctx, "preparing the checkout for the check", "worktree", "prune"); err != nil {
		return err
	}
	_, err := r.run(ctx, "preparing the checkout for the check", "worktree", "add", "--quiet", "--detach", "--no-checkout", dir, commit.String())
	return err
}

func runOut(ctx context.Context, dir, doing string, args ...string) (string, error) {
	out, _, err := runIn(ctx, dir, call{doing: doing, args: args})
	return string(out), err
}
