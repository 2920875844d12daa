package hg

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// objects reads and keeps objects.
type objects struct{ *place }

// Close ends the command server.
func (r *objects) Close() {
	r.hg.close()
	if r.busy != nil {
		r.busy.Close()
	}
}

// Recorded returns the paths that a file was recorded to be a copy of, in any changeset. It is for merge.Engine.
func (r *objects) Recorded(path string) []string { return r.mirror.recorded(path) }

// Read returns an object. If it is not there, another program may have added changesets since.
func (r *objects) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	if len(id.Raw()) != len(node{}) {
		return 0, nil, fmt.Errorf("object %s: %w", id, object.ErrMissing)
	}
	kind, data, err := r.mirror.store.Read(id)
	if !errors.Is(err, object.ErrMissing) {
		return kind, data, err
	}
	if err := r.mirror.sync(ctx); err != nil {
		return 0, nil, err
	}
	return r.mirror.store.Read(id)
}

// ReadMany reads several objects at once.
func (r *objects) ReadMany(_ context.Context, ids []object.ID, each func(id object.ID, kind object.Kind, data []byte)) {
	r.mirror.store.ReadMany(ids, each)
}

// Keep stores commits or trees from an overlay, beside Mercurial's own storage. They become changesets when a join is
// accepted.
func (r *objects) Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error {
	return r.mirror.store.Keep(ctx, made, tips...)
}

// HoldAt notes a commit. Nothing that is kept is ever removed.
func (r *objects) HoldAt(_ context.Context, name string, at object.ID) error {
	return r.refs.Set("refs/dorvik/"+name, at, "")
}

// Loose finds none: hg has no changesets that nothing reaches.
func (r *objects) Loose(context.Context, []object.ID) ([]object.ID, error) { return nil, nil }

// Alone reports whether so many digits of ids are unambiguous among the changesets.
func (r *objects) Alone(_ context.Context, ids []object.ID, digits int) (bool, error) {
	list, err := os.ReadFile(r.mirror.file("changesets"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, fmt.Errorf("reading the history: %w", err)
	}
	short := map[string]object.ID{}
	for _, id := range ids {
		if other, taken := short[id.Prefix(digits)]; taken && other != id {
			return false, nil
		}
		short[id.Prefix(digits)] = id
	}
	for ; len(list) >= 2*len(node{}); list = list[2*len(node{}):] {
		id := object.RawID(list[:len(node{})])
		if other, taken := short[id.Prefix(digits)]; taken && other != id {
			return false, nil
		}
	}
	return true, nil
}

// Abbrev asks for no more digits than usual: hg takes any number that is unambiguous.
func (r *objects) Abbrev(context.Context) int { return 0 }

// GraphFiles are git's.
func (r *objects) GraphFiles(context.Context) [][]byte { return nil }

// Signature finds none: signatures of Mercurial are changesets of their own, or belong to extensions.
func (r *objects) Signature(context.Context, object.ID) (vcs.Signed, error) {
	return vcs.Signed{Grade: "N"}, nil
}
