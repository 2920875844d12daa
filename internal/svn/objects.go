package svn

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// stored reads what the mirror has.
type stored struct{ *place }

func (r stored) Read(_ context.Context, id object.ID) (object.Kind, []byte, error) {
	if commit, ok := r.bare.get(id); ok {
		return object.KindCommit, commit, nil
	}
	if len(id.Raw()) != sumSize {
		return 0, nil, fmt.Errorf("object %s: %w", id, object.ErrMissing)
	}
	return r.mirror.store.Read(id)
}

// objects reads and keeps objects.
type objects struct{ *place }

// Close releases the working copy.
func (r *objects) Close() {
	if r.busy != nil {
		r.busy.Close()
	}
}

// Read returns an object: of the mirror, or of what was made of the files.
func (r *objects) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	kind, data, err := stored{r.place}.Read(ctx, id)
	if errors.Is(err, object.ErrMissing) {
		return r.made.Read(ctx, id)
	}
	return kind, data, err
}

// ReadMany reads several objects at once.
func (r *objects) ReadMany(ctx context.Context, ids []object.ID, each func(id object.ID, kind object.Kind,
	data []byte)) {
	for _, id := range r.mirror.store.ReadMany(ids, each) {
		if kind, data, err := r.Read(ctx, id); err == nil {
			each(id, kind, data)
		}
	}
}

// Keep stores commits or trees from an overlay, beside Subversion's own storage.
func (r *objects) Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error {
	if err := r.mirror.store.Keep(ctx, made, tips...); err != nil {
		return err
	}
	return r.mirror.store.Keep(ctx, r.made, tips...)
}

// HoldAt notes a commit. Nothing that is kept is ever removed.
func (r *objects) HoldAt(_ context.Context, name string, at object.ID) error {
	return r.names.Set("refs/dorvik/"+name, at, "")
}

// Loose finds none: nothing that is kept is ever removed.
func (r *objects) Loose(context.Context, []object.ID) ([]object.ID, error) { return nil, nil }

// Alone reports whether so many digits are unambiguous: revisions are shown by their numbers.
func (r *objects) Alone(context.Context, []object.ID, int) (bool, error) { return true, nil }

// Abbrev asks for no more digits than usual.
func (r *objects) Abbrev(context.Context) int { return 0 }

// GraphFiles are git's.
func (r *objects) GraphFiles(context.Context) [][]byte { return nil }

// Signature finds none: revisions are not signed.
func (r *objects) Signature(context.Context, object.ID) (vcs.Signed, error) {
	return vcs.Signed{Grade: "N"}, nil
}

// bare are commits of which the author and the message are not known.
type bare struct {
	mu      sync.Mutex
	commits map[object.ID][]byte
}

func (b *bare) get(id object.ID) ([]byte, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	data, ok := b.commits[id]
	return data, ok
}

func (b *bare) put(id object.ID, data []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.commits[id] = data
}

func (b *bare) clear() {
	b.mu.Lock()
	defer b.mu.Unlock()
	clear(b.commits)
}

// revisionHeader is the header of a commit with its revision.
const revisionHeader = "svn-revision"

// mixedHeader is that of a commit with the files of several revisions: the first and the last, as svnversion writes it.
const mixedHeader = "svn-mixed"

// knows reports whether there is a commit.
func (r *place) knows(ctx context.Context, id object.ID) bool {
	_, err := r.store().Commit(ctx, id)
	return err == nil
}

// store is an overlay over all objects there are.
func (r *place) store() *object.Overlay { return object.NewOverlay(object.SHA1, &objects{r}) }

// NumberOf returns the revision of a commit; zero for one that is none.
func NumberOf(c *object.Commit) (n int64) {
	for _, h := range c.Extra {
		if h.Key == revisionHeader {
			n, _ = strconv.ParseInt(h.Value, 10, 64)
		}
	}
	return n
}
