package recovery

import (
	"context"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/hg"
)

// OpenWorkspace opens the repository that contains a folder, of whichever system it is: the nearest one upwards.
func OpenWorkspace(ctx context.Context, dir string) (*Workspace, error) {
	if top, ok := hgNearest(dir); ok {
		return openHg(ctx, top)
	}
	return openGit(ctx, dir)
}

// OpenToPlan is OpenWorkspace that may read ahead for joining two revisions. Empty ones mean the branch and its
// upstream.
func OpenToPlan(ctx context.Context, dir, yours, theirs string) (*Workspace, error) {
	if top, ok := hgNearest(dir); ok {
		return openHg(ctx, top)
	}
	return planGit(ctx, dir, yours, theirs)
}

// hgNearest returns the top of a Mercurial working folder, if no git repository is nearer.
func hgNearest(dir string) (top string, ok bool) {
	if top, ok = hg.TopOf(dir); !ok {
		return "", false
	}
	at, err := filepath.Abs(dir)
	if err == nil {
		at, err = filepath.EvalSymlinks(at)
	}
	for ; err == nil && at != top; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			return "", false
		}
	}
	return top, err == nil
}

// OpenSession opens the repository that contains a folder. It completes or undoes a change that an earlier process did
// not finish.
func OpenSession(ctx context.Context, dir string) (*Session, error) {
	w, err := OpenWorkspace(ctx, dir)
	if err != nil {
		return nil, err
	}
	return Begin(ctx, w)
}
