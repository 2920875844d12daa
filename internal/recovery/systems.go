package recovery

import (
	"context"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/hg"
	"dorvik.dev/dorvik/internal/svn"
)

// others are the systems besides git: what finds the top of a working folder, and what opens it.
var others = []struct {
	topOf func(dir string) (top string, ok bool)
	open  func(ctx context.Context, top string) (*Workspace, error)
}{
	{hg.TopOf, openHg},
	{svn.TopOf, openSvn},
}

// OpenWorkspace opens the repository that contains a folder, of whichever system it is: the nearest one upwards.
func OpenWorkspace(ctx context.Context, dir string) (*Workspace, error) {
	if open := nearest(dir); open != nil {
		return open(ctx)
	}
	return openGit(ctx, dir)
}

// OpenToPlan is OpenWorkspace that may read ahead for joining two revisions. Empty ones mean the branch and its
// upstream.
func OpenToPlan(ctx context.Context, dir, yours, theirs string) (*Workspace, error) {
	if open := nearest(dir); open != nil {
		return open(ctx)
	}
	return planGit(ctx, dir, yours, theirs)
}

// nearest returns what opens the working folder around a folder, or nil if that is of git or there is none.
func nearest(dir string) (open func(ctx context.Context) (*Workspace, error)) {
	at := ""
	for _, system := range others {
		if top, ok := system.topOf(dir); ok && len(top) > len(at) && !gitWithin(dir, top) {
			at = top
			open = func(ctx context.Context) (*Workspace, error) { return system.open(ctx, top) }
		}
	}
	return open
}

// gitWithin reports whether a git repository is nearer to a folder than the top of another system.
func gitWithin(dir, top string) bool {
	at, err := filepath.Abs(dir)
	if err == nil {
		at, err = filepath.EvalSymlinks(at)
	}
	for ; err == nil && at != top; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			return true
		}
	}
	return err != nil
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
