package odb

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"

	"dorvik.dev/dorvik/internal/core/object"
)

// index maps the objects of a pack to offsets (version 2 of the format).
type index struct {
	table
	offsets []byte // four bytes each; if the highest bit is set, the rest is an index into large
	large   []byte // eight bytes each
	held    *mapped
}

// table is sorted ids with a fan-out by their first bytes.
type table struct {
	fanout []byte
	ids    []byte
	size   int // bytes of an id
}

var errDamaged = errors.New("the index of the pack is damaged")

// newTable checks that a fan-out and the ids agree.
func newTable(fanout, ids []byte, size int) (t table, n int, err error) {
	if len(fanout) != 1024 {
		return t, 0, errDamaged
	}
	last := uint32(0)
	for i := range 256 {
		v := binary.BigEndian.Uint32(fanout[4*i:])
		if v < last {
			return t, 0, errDamaged
		}
		last = v
	}
	if int64(len(ids)) < int64(last)*int64(size) {
		return t, 0, errDamaged
	}
	return table{fanout, ids[:int(last)*size], size}, int(last), nil
}

// find returns the index of an id.
func (t *table) find(id object.ID) (int, bool) {
	raw := id.Raw()
	if len(raw) != t.size {
		return 0, false
	}
	lo := 0
	if raw[0] > 0 {
		lo = int(binary.BigEndian.Uint32(t.fanout[4*(int(raw[0])-1):]))
	}
	hi := int(binary.BigEndian.Uint32(t.fanout[4*int(raw[0]):]))
	at := lo + sort.Search(hi-lo, func(i int) bool {
		return bytes.Compare(t.ids[(lo+i)*t.size:(lo+i+1)*t.size], raw) >= 0
	})
	return at, at < hi && bytes.Equal(t.ids[at*t.size:(at+1)*t.size], raw)
}

// parseIndex parses a pack index.
func parseIndex(data []byte, format object.Format) (*index, error) {
	size := format.Size()
	if len(data) < 8+1024+2*size || string(data[:8]) != "\xfftOc\x00\x00\x00\x02" {
		return nil, errors.New("the index of the pack is of another version")
	}
	t, n, err := newTable(data[8:8+1024], data[8+1024:], size)
	if err != nil {
		return nil, err
	}
	rest := data[8+1024+n*size:]
	if len(rest) < 8*n+2*size { // checksums, offsets, and two trailing ids
		return nil, errDamaged
	}
	x := &index{table: t, offsets: rest[4*n : 8*n], large: rest[8*n : len(rest)-2*size]}
	return x, nil
}

// find returns the offset of an object in the pack.
func (x *index) find(id object.ID) (int64, bool) {
	at, ok := x.table.find(id)
	if !ok {
		return 0, false
	}
	return largeOffset(binary.BigEndian.Uint32(x.offsets[4*at:]), x.large)
}

// largeOffset returns an offset, from the table of large offsets if needed.
func largeOffset(v uint32, large []byte) (int64, bool) {
	if v>>31 == 0 {
		return int64(v), true
	}
	at := 8 * int64(v&^(1<<31))
	if at+8 > int64(len(large)) {
		return 0, false
	}
	offset := binary.BigEndian.Uint64(large[at:])
	return int64(offset), offset>>63 == 0
}

func openIndex(file string, format object.Format) (*index, error) {
	m, err := mapFile(file)
	if err != nil {
		return nil, err
	}
	x, err := parseIndex(m.data, format)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Base(file), err)
	}
	x.held = m
	return x, nil
}

// multi is a multi-pack index.
type multi struct {
	table
	places []byte // for each object its pack and its offset, four bytes each
	large  []byte
	packs  []*pack
	held   *mapped
}

// parseMulti parses a multi-pack index and returns the names of its packs.
func parseMulti(data []byte, format object.Format) (m *multi, names []string, err error) {
	const head = 12
	if len(data) < head || string(data[:5]) != "MIDX\x01" || data[7] != 0 ||
		data[5] != map[object.Format]byte{object.SHA1: 1, object.SHA256: 2}[format] {
		return nil, nil, errors.New("the multi-pack index is of another version")
	}
	chunks, count := int(data[6]), binary.BigEndian.Uint32(data[8:])
	if len(data) < head+12*(chunks+1) {
		return nil, nil, errDamaged
	}
	parts := map[string][]byte{}
	for i := range chunks {
		at := data[head+12*i:]
		from, to := binary.BigEndian.Uint64(at[4:]), binary.BigEndian.Uint64(at[16:])
		if from > to || to > uint64(len(data)) {
			return nil, nil, errDamaged
		}
		parts[string(at[:4])] = data[from:to]
	}
	m = &multi{places: parts["OOFF"], large: parts["LOFF"]}
	var n int
	if m.table, n, err = newTable(parts["OIDF"], parts["OIDL"], format.Size()); err != nil {
		return nil, nil, err
	}
	if len(m.places) < 8*n {
		return nil, nil, errDamaged
	}
	rest := parts["PNAM"]
	for range count {
		end := bytes.IndexByte(rest, 0)
		if end < 0 {
			return nil, nil, errDamaged
		}
		name := string(rest[:end])
		if name != filepath.Base(name) || filepath.Ext(name) != ".idx" {
			return nil, nil, errDamaged
		}
		names, rest = append(names, name), rest[end+1:]
	}
	return m, names, nil
}

func openMulti(dir string, format object.Format) (*multi, error) {
	file := filepath.Join(dir, "multi-pack-index")
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	held, err := mapFile(file)
	if err != nil {
		return nil, err
	}
	m, names, err := parseMulti(held.data, format)
	if err != nil {
		return nil, err
	}
	m.held = held
	for _, name := range names {
		m.packs = append(m.packs, &pack{name: filepath.Join(dir, name[:len(name)-len(".idx")]+".pack"), format: format})
	}
	return m, nil
}

// find returns the pack that contains an object and the offset.
func (m *multi) find(id object.ID) (*pack, int64, bool) {
	at, ok := m.table.find(id)
	if !ok {
		return nil, 0, false
	}
	which := binary.BigEndian.Uint32(m.places[8*at:])
	if int64(which) >= int64(len(m.packs)) {
		return nil, 0, false
	}
	offset, ok := largeOffset(binary.BigEndian.Uint32(m.places[8*at+4:]), m.large)
	return m.packs[which], offset, ok
}
