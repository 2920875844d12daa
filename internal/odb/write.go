package odb

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"context"
	"crypto/sha1"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"

	"dorvik.dev/dorvik/internal/core/object"
)

// Writer adds objects to an object directory as one pack (versions 2 of pack and index, with SHA-1). For repositories
// that are not git's own. The caller gives the ids, so an object can have one that is no hash of its content. A Writer
// is not safe for concurrent use.
type Writer struct {
	dir     string
	file    *os.File
	out     *bufio.Writer
	at      int64
	entries []written
	where   map[object.ID]int // index in entries
	buf     bytes.Buffer
	z       *zlib.Writer
}

// written is an object of the pack.
type written struct {
	id   object.ID
	kind object.Kind
	size int    // bytes of its content
	crc  uint32 // of its entry
	at   int64  // where that begins, and
	data int64  // where the compressed content does
}

const packHead = "PACK\x00\x00\x00\x02\x00\x00\x00\x00" // the number of objects is filled in at the end

// NewWriter begins a pack in an object directory, which it creates.
func NewWriter(dir string) (*Writer, error) {
	into := filepath.Join(dir, "pack")
	if err := os.MkdirAll(into, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(into, "making-")
	if err != nil {
		return nil, err
	}
	w := &Writer{dir: into, file: f, out: bufio.NewWriterSize(f, 1<<16), where: map[object.ID]int{}}
	w.z, _ = zlib.NewWriterLevel(&w.buf, zlib.BestSpeed) // the level is valid
	w.at = int64(len(packHead))
	if _, err := w.out.WriteString(packHead); err != nil {
		w.Drop()
		return nil, err
	}
	return w, nil
}

// Has reports whether the pack has an object.
func (w *Writer) Has(id object.ID) bool {
	_, ok := w.where[id]
	return ok
}

// PutAll adds the objects that an overlay made below some roots.
func (w *Writer) PutAll(ctx context.Context, made *object.Overlay, roots ...object.ID) error {
	ids, err := made.Reachable(ctx, roots...)
	if err != nil {
		return err
	}
	for _, id := range ids {
		kind, data, err := made.Read(ctx, id)
		if err == nil {
			err = w.Put(id, kind, data)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Put adds an object under an id, once.
func (w *Writer) Put(id object.ID, kind object.Kind, data []byte) error {
	if w.Has(id) {
		return nil
	}
	w.buf.Reset()
	object.WriteEntryHeader(&w.buf, kind, len(data))
	head := int64(w.buf.Len())
	w.z.Reset(&w.buf)
	if _, err := w.z.Write(data); err != nil {
		return err
	}
	if err := w.z.Close(); err != nil {
		return err
	}
	w.where[id] = len(w.entries)
	w.entries = append(w.entries, written{id, kind, len(data), crc32.ChecksumIEEE(w.buf.Bytes()), w.at, w.at + head})
	n, err := w.out.Write(w.buf.Bytes())
	w.at += int64(n)
	return err
}

// Read returns an object of the pack, or object.ErrMissing.
func (w *Writer) Read(_ context.Context, id object.ID) (object.Kind, []byte, error) {
	i, ok := w.where[id]
	if !ok {
		return 0, nil, object.ErrMissing
	}
	if err := w.out.Flush(); err != nil {
		return 0, nil, err
	}
	e := w.entries[i]
	z, err := zlib.NewReader(io.NewSectionReader(w.file, e.data, w.at-e.data))
	if err != nil {
		return 0, nil, err
	}
	data := make([]byte, e.size)
	_, err = io.ReadFull(z, data)
	return e.kind, data, err
}

// Drop discards the pack.
func (w *Writer) Drop() {
	w.file.Close()
	os.Remove(w.file.Name())
}

// Close completes the pack and moves it into place. Without objects it leaves nothing.
func (w *Writer) Close() (err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("storing objects: %w", err)
			w.Drop()
		}
	}()
	if len(w.entries) == 0 {
		w.Drop()
		return nil
	}
	if err := w.out.Flush(); err != nil {
		return err
	}
	count := binary.BigEndian.AppendUint32(nil, uint32(len(w.entries)))
	if _, err := w.file.WriteAt(count, 8); err != nil {
		return err
	}
	h := sha1.New()
	if _, err := io.Copy(h, io.NewSectionReader(w.file, 0, w.at)); err != nil {
		return err
	}
	sum := h.Sum(nil)
	if _, err := w.file.WriteAt(sum, w.at); err != nil {
		return err
	}
	if err := errors.Join(w.file.Sync(), w.file.Chmod(0o600), w.file.Close()); err != nil {
		return err
	}
	name := filepath.Join(w.dir, "pack-"+hex.EncodeToString(sum))
	index := w.file.Name() + ".idx"
	defer os.Remove(index)
	if err := os.WriteFile(index, w.index(sum), 0o600); err != nil {
		return err
	}
	// Readers find packs by their indexes, so the index is moved last.
	if err := os.Rename(w.file.Name(), name+".pack"); err != nil {
		return err
	}
	return os.Rename(index, name+".idx")
}

// index returns the index of the pack, whose checksum is given.
func (w *Writer) index(sum []byte) []byte {
	slices.SortFunc(w.entries, func(a, b written) int { return bytes.Compare(a.id.Raw(), b.id.Raw()) })
	b := []byte("\xfftOc\x00\x00\x00\x02")
	n := 0
	for first := range 256 {
		for n < len(w.entries) && int(w.entries[n].id.Raw()[0]) <= first {
			n++
		}
		b = binary.BigEndian.AppendUint32(b, uint32(n))
	}
	for _, e := range w.entries {
		b = append(b, e.id.Raw()...)
	}
	for _, e := range w.entries {
		b = binary.BigEndian.AppendUint32(b, e.crc)
	}
	var large []byte
	for _, e := range w.entries {
		at := uint32(e.at)
		if e.at >= 1<<31 {
			at = 1<<31 | uint32(len(large)/8)
			large = binary.BigEndian.AppendUint64(large, uint64(e.at))
		}
		b = binary.BigEndian.AppendUint32(b, at)
	}
	b = append(append(b, large...), sum...)
	own := sha1.Sum(b)
	return append(b, own[:]...)
}
