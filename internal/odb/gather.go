package odb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"dorvik.dev/dorvik/internal/core/object"
)

// smallPack is the size in bytes below which a pack is worth moving to another.
const smallPack = 8 << 20

// Gather moves the objects of small packs of an object directory into one, if there are more than most of them. It is
// for directories that only a Writer fills. Readers that have a pack open keep it.
func Gather(ctx context.Context, dir string, most int) (err error) {
	files, _ := filepath.Glob(filepath.Join(dir, "pack", "pack-*.pack")) // the pattern is well formed
	var small []string
	for _, file := range files {
		if info, err := os.Stat(file); err == nil && info.Size() < smallPack {
			small = append(small, file[:len(file)-len(".pack")])
		}
	}
	if len(small) <= most {
		return nil
	}
	s, err := Open(dir, object.SHA1)
	if err != nil {
		return err
	}
	w, err := NewWriter(dir)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			w.Drop()
			err = fmt.Errorf("gathering objects: %w", err)
		}
	}()
	for _, name := range small {
		x, err := openIndex(name+".idx", object.SHA1)
		if errors.Is(err, fs.ErrNotExist) { // another process was first, or its maker died
			continue
		}
		if err != nil {
			return err
		}
		for at := 0; at+x.size <= len(x.ids); at += x.size {
			id := object.RawID(x.ids[at : at+x.size])
			kind, data, err := s.Read(id)
			if err == nil {
				err = errors.Join(ctx.Err(), w.Put(id, kind, data))
			}
			if err != nil {
				return err
			}
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	for _, name := range small {
		os.Remove(name + ".idx") // readers find packs by their indexes
		os.Remove(name + ".pack")
	}
	return nil
}
