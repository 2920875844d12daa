package beside

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/odb"
)

// Objects are objects of core in packs. Nothing is ever removed.
type Objects struct {
	store *odb.Store
	dir   string
}

// OpenObjects opens an object directory, which is made if it is missing.
func OpenObjects(dir string) (*Objects, error) {
	if err := os.MkdirAll(filepath.Join(dir, "pack"), 0o700); err != nil {
		return nil, fmt.Errorf("making a place for the history: %w", err)
	}
	store, err := odb.Open(dir, object.SHA1)
	return &Objects{store, dir}, err
}

// Read returns an object, or object.ErrMissing.
func (o *Objects) Read(id object.ID) (object.Kind, []byte, error) { return o.store.Read(id) }

// ReadMany reads objects on all processors and returns the ids of those that it could not read.
func (o *Objects) ReadMany(ids []object.ID, each func(id object.ID, kind object.Kind, data []byte)) []object.ID {
	return o.store.ReadMany(ids, each)
}

// Keep stores objects that were made in memory.
func (o *Objects) Keep(ctx context.Context, made *object.Overlay, tips ...object.ID) error {
	return o.Add(func(w *odb.Writer) error { return w.PutAll(ctx, made, tips...) })
}

// Put stores a blob.
func (o *Objects) Put(data []byte) (object.ID, error) {
	id := object.SHA1.Sum(object.KindBlob, data)
	if _, _, err := o.Read(id); !errors.Is(err, object.ErrMissing) {
		return id, err
	}
	return id, o.Add(func(w *odb.Writer) error { return w.Put(id, object.KindBlob, data) })
}

// Add adds a pack that a function fills.
func (o *Objects) Add(fill func(w *odb.Writer) error) error {
	w, err := odb.NewWriter(o.dir)
	if err != nil {
		return fmt.Errorf("storing the joined commits: %w; nothing was changed", err)
	}
	if err := fill(w); err != nil {
		w.Drop()
		return err
	}
	return w.Close()
}

// mostPacks is the number of small packs above which they become one.
const mostPacks = 30

// Gather moves the objects of small packs into one, if there are many.
func (o *Objects) Gather(ctx context.Context) error { return odb.Gather(ctx, o.dir, mostPacks) }

// With reads the objects of a pack that is being written, and these.
func (o *Objects) With(w *odb.Writer) object.Reader { return both{w, o.store} }

// both reads objects from one reader, or the other.
type both struct {
	first *odb.Writer
	then  *odb.Store
}

func (b both) Read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	if kind, data, err := b.first.Read(ctx, id); !errors.Is(err, object.ErrMissing) {
		return kind, data, err
	}
	return b.then.Read(id)
}
