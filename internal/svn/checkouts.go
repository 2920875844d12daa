package svn

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// checkouts manages the folders in which Dorvik builds.
type checkouts struct{ *wire }

// OpenCheckout brings the folder of a name to a commit. It keeps files that builds left there.
func (r *checkouts) OpenCheckout(ctx context.Context, name string, commit object.ID) (*vcs.Checkout, error) {
	set, err := r.ConfigPath(ctx, "dorvik.builds")
	if err != nil {
		return nil, err
	}
	tree, err := r.files(ctx, commit)
	if err != nil {
		return nil, err
	}
	return beside.Checkout(ctx, r, filepath.Join(vcs.BuildsOf(r.Where(), set), name), tree)
}

// files is the tree of a commit without the properties.
func (r *checkouts) files(ctx context.Context, commit object.ID) (object.ID, error) {
	c, err := r.store().Commit(ctx, commit)
	if err != nil {
		return object.ID{}, err
	}
	store := object.NewOverlay(object.SHA1, r)
	tree, err := edited(ctx, store, c.Tree, map[string]object.Entry{strings.TrimSuffix(propsAt, "/"): {}})
	if err != nil {
		return tree, err
	}
	return tree, r.mirror.store.Keep(ctx, store, tree)
}

// ChangedIn lists the files of a checkout that are not as in its commit, and those that builds left.
func (r *checkouts) ChangedIn(ctx context.Context, c *vcs.Checkout) ([]string, error) {
	return beside.ChangedIn(ctx, r, c)
}

// FillSubmodules has none to fill. Externals are left out.
func (r *checkouts) FillSubmodules(context.Context, *vcs.Checkout) ([]string, error) { return nil, nil }

// BuildEnvironment returns the caller's environment without the variables of svn.
func (r *checkouts) BuildEnvironment(context.Context) (given, set []string, err error) {
	for _, kv := range os.Environ() {
		if !strings.HasPrefix(kv, "SVN_") {
			given = append(given, kv)
		}
	}
	return given, nil, nil
}
