package hg

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// checkouts manages the folders in which Dorvik builds.
type checkouts struct{ *changes }

// OpenCheckout brings the folder of a name to a commit. It keeps files that builds left there.
func (r *checkouts) OpenCheckout(ctx context.Context, name string, commit object.ID) (*vcs.Checkout, error) {
	set, err := r.ConfigPath(ctx, "dorvik.builds")
	if err != nil {
		return nil, err
	}
	c, err := object.NewOverlay(object.SHA1, r).Commit(ctx, commit)
	if err != nil {
		return nil, err
	}
	return beside.Checkout(ctx, r, filepath.Join(vcs.BuildsOf(r.Where(), set), name), c.Tree)
}

// ChangedIn lists the files of a checkout that are not as in its commit, and those that builds left.
func (r *checkouts) ChangedIn(ctx context.Context, c *vcs.Checkout) ([]string, error) {
	return beside.ChangedIn(ctx, r, c)
}

// isGone reports whether an error means that there is no such file.
func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// FillSubmodules returns the sub-repositories: they are named and left out.
func (r *checkouts) FillSubmodules(_ context.Context, c *vcs.Checkout) ([]string, error) {
	text, err := beneath.Folder(c.Dir).ReadFile(subFile)
	if isGone(err) {
		return nil, nil
	}
	return subsIn(string(text)), err
}

// BuildEnvironment returns the caller's environment without the variables of hg, and how a build's hg is kept from
// finding the person's working folder.
func (r *checkouts) BuildEnvironment(context.Context) (given, set []string, err error) {
	for _, kv := range os.Environ() {
		if !strings.HasPrefix(kv, "HG") {
			given = append(given, kv)
		}
	}
	return given, nil, nil
}
