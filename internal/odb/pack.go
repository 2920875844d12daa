package odb

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"runtime"
	"slices"
	"sync"

	"dorvik.dev/dorvik/internal/core/object"
)

// pack is a file of deflated objects and deltas.
type pack struct {
	name   string
	format object.Format
	index  *index // nil if a multi-pack index covers the pack

	open sync.Once
	held *mapped
	err  error
}

// The kinds of entries beyond the kinds of objects.
const (
	offsetDelta = 6 // delta on the entry at a relative offset
	idDelta     = 7 // delta on an object given by id
)

// content returns the bytes of the pack, which it maps at the first use.
func (p *pack) content() ([]byte, error) {
	p.open.Do(func() {
		if p.held != nil {
			return
		}
		if p.held, p.err = mapFile(p.name); p.err != nil {
			return
		}
		data := p.held.data
		if len(data) < 12+p.format.Size() || string(data[:4]) != "PACK" {
			p.err = errors.New("it is no pack")
			return
		}
		if v := binary.BigEndian.Uint32(data[4:]); v != 2 && v != 3 {
			p.err = fmt.Errorf("it is of version %d", v)
		}
	})
	if p.err != nil {
		return nil, p.err
	}
	return p.held.data[:len(p.held.data)-p.format.Size()], nil
}

// entry is the header of an object in a pack.
type entry struct {
	kind byte
	size int       // inflated size of the content
	at   int64     // offset of the deflated content
	base int64     // offset of the base, for an offset delta
	id   object.ID // id of the base, for an id delta
}

var errCutOff = errors.New("an entry is cut off")

// parseEntry parses the header of an entry.
func parseEntry(data []byte, offset int64, idSize int) (e entry, err error) {
	if offset < 12 || offset >= int64(len(data)) {
		return e, errCutOff
	}
	at := offset
	next := func() (byte, bool) {
		if at >= int64(len(data)) {
			return 0, false
		}
		at++
		return data[at-1], true
	}
	b, _ := next()
	e.kind = b >> 4 & 7
	size, shift := uint64(b&15), 4
	for b&0x80 != 0 {
		var ok bool
		if b, ok = next(); !ok || shift > 56 {
			return e, errCutOff
		}
		size |= uint64(b&0x7f) << shift
		shift += 7
	}
	if size > 1<<40 {
		return e, errNotThatLong
	}
	e.size = int(size)
	switch e.kind {
	case offsetDelta:
		b, ok := next()
		back := int64(b & 0x7f)
		for ok && b&0x80 != 0 {
			if b, ok = next(); back > 1<<54 {
				return e, errCutOff
			}
			back = (back+1)<<7 | int64(b&0x7f)
		}
		if e.base = offset - back; !ok || back <= 0 || e.base < 12 {
			return e, errCutOff
		}
	case idDelta:
		if at+int64(idSize) > int64(len(data)) {
			return e, errCutOff
		}
		e.id = object.RawID(data[at : at+int64(idSize)])
		at += int64(idSize)
	case byte(object.KindCommit), byte(object.KindTree), byte(object.KindBlob), byte(object.KindTag):
	default:
		return e, fmt.Errorf("an entry is of the kind %d, which does not exist", e.kind)
	}
	e.at = at
	return e, nil
}

// Bounds, so that a damaged pack takes neither all time nor all memory. What goes beyond is left to git.
const (
	longestChain = 5000    // longest chain of deltas
	deepest      = 50      // most bases in other packs
	largest      = 1 << 31 // largest object built from deltas, in bytes
)

// packed reads the object at an offset: down the chain of deltas to a base, and up again.
func (s *Store) packed(in *packs, p *pack, offset int64, deep int) (kind object.Kind, data []byte, err error) {
	defer runtime.KeepAlive(p)
	content, err := p.content()
	if err != nil {
		return 0, nil, err
	}
	room := rooms.Get().(*room)
	defer room.done()
	if kind, data, err = s.bottom(in, p, content, offset, deep, room); err != nil {
		return 0, nil, err
	}
	for i := len(room.chain) - 1; i >= 0; i-- {
		at, kept := &room.chain[i], keep(kind, i, len(data))
		if data, err = room.on(&at.entry, data, content, kept); err != nil {
			return 0, nil, err
		}
		if kept {
			s.bases.put(p, at.offset, known{kind, data})
		}
	}
	return kind, data, nil
}

// bottom returns the base of an object, and records the deltas above it in the chain.
func (s *Store) bottom(in *packs, p *pack, content []byte, offset int64, deep int, room *room) (kind object.Kind,
	data []byte, err error) {
	room.chain = room.chain[:0]
	for at := offset; len(room.chain) <= longestChain; {
		if known, ok := s.bases.get(p, at); ok {
			return known.kind, known.data, nil
		}
		e, err := parseEntry(content, at, p.format.Size())
		if err != nil {
			return 0, nil, err
		}
		below := len(room.chain)
		switch e.kind {
		case offsetDelta:
			room.chain = append(room.chain, link{at, e})
			at = e.base
		case idDelta:
			room.chain = append(room.chain, link{at, e})
			if p.index != nil {
				if base, ok := p.index.find(e.id); ok {
					at = base
					continue
				}
			}
			if deep == deepest {
				return 0, nil, errEndless
			}
			return s.base(in, e.id, deep+1)
		default:
			kind = object.Kind(e.kind)
			if !keep(kind, below, e.size) {
				room.made, err = inflateInto(room.made, content[e.at:], e.size)
				return kind, room.made, err
			}
			if data, err = inflate(content[e.at:], e.size); err == nil && (kind != object.KindCommit || below > 0) {
				s.bases.put(p, at, known{kind, data}) // the next object may be a delta on this one
			}
			return kind, data, err
		}
	}
	return 0, nil, errEndless
}

var errEndless = errors.New("its deltas have no end")

// keptBelow is the number of contents below an object that are cached besides it. Trees on top of each other are
// versions of one directory, most of which are needed; file contents often are not.
const keptBelow = 4

// keep reports whether to cache an object of a size that is a number of deltas below the requested one. Large ones
// take long to make.
func keep(kind object.Kind, below, size int) bool {
	return kind != object.KindBlob || below < keptBelow || size > firstPiece
}

// link is one delta of a chain.
type link struct {
	offset int64
	entry  entry
}

// room is reusable memory for contents that are not cached.
type room struct {
	chain               []link
	delta, made, before []byte
}

var rooms = sync.Pool{New: func() any { return &room{} }}

// done returns the memory to the pool, unless it is too large.
func (r *room) done() {
	for _, text := range []*[]byte{&r.delta, &r.made, &r.before} {
		if cap(*text) > cacheOne {
			*text = nil
		}
	}
	rooms.Put(r)
}

// on applies a delta to its base. The result is valid until the call after next.
func (r *room) on(e *entry, base, content []byte, keep bool) (data []byte, err error) {
	if r.delta, err = inflateInto(r.delta, content[e.at:], e.size); err != nil {
		return nil, err
	}
	if keep {
		return patch(nil, base, r.delta)
	}
	r.made, r.before = r.before, r.made
	r.made, err = patch(r.made[:0], base, r.delta)
	return r.made, err
}

// base reads an object of another pack that is the base of a delta.
func (s *Store) base(in *packs, id object.ID, deep int) (object.Kind, []byte, error) {
	if at, offset, ok := in.find(id); ok {
		return s.packed(in, at, offset, deep)
	}
	return s.in(&packs{}, id)
}

var errDelta = errors.New("a delta does not fit what it stands on")

// patch applies a delta: it copies pieces of the base and adds new ones. It uses out if that is large enough.
func patch(out, base, delta []byte) ([]byte, error) {
	from, rest, ok := varint(delta)
	if !ok || from != uint64(len(base)) {
		return nil, errDelta
	}
	size, rest, ok := varint(rest)
	if !ok || size > largest || size > firstPiece && !comesTo(rest, size) {
		return nil, errDelta
	}
	out = slices.Grow(out, int(size))
	for len(rest) > 0 {
		op := rest[0]
		rest = rest[1:]
		var new []byte
		switch {
		case op == 0:
			return nil, errDelta // reserved by the format
		case op&0x80 == 0: // insert this many new bytes
			if len(rest) < int(op) {
				return nil, errDelta
			}
			new, rest = rest[:op], rest[op:]
		default:
			if len(rest) < bits.OnesCount8(op&0x7f) {
				return nil, errDelta
			}
			var at, n uint64
			at, n, rest = piece(op, rest)
			if at+n > uint64(len(base)) {
				return nil, errDelta
			}
			new = base[at : at+n]
		}
		if len(out)+len(new) > int(size) {
			return nil, errDelta
		}
		out = append(out, new...)
	}
	if len(out) != int(size) {
		return nil, errDelta
	}
	return out, nil
}

// comesTo reports whether a delta's instructions are complete and result in a size. A claimed large size is trusted
// only then.
func comesTo(rest []byte, size uint64) bool {
	total := uint64(0)
	for len(rest) > 0 && total <= size {
		op := rest[0]
		rest = rest[1:]
		switch {
		case op == 0:
			return false // reserved by the format
		case op&0x80 == 0:
			if len(rest) < int(op) {
				return false
			}
			total, rest = total+uint64(op), rest[op:]
		default:
			if len(rest) < bits.OnesCount8(op&0x7f) {
				return false
			}
			var n uint64
			_, n, rest = piece(op, rest)
			total += n
		}
	}
	return len(rest) == 0 && total == size
}

// piece parses a copy instruction: offset and length.
func piece(op byte, rest []byte) (at, n uint64, after []byte) {
	i := 0
	if op&0x01 != 0 {
		at, i = uint64(rest[i]), i+1
	}
	if op&0x02 != 0 {
		at, i = at|uint64(rest[i])<<8, i+1
	}
	if op&0x04 != 0 {
		at, i = at|uint64(rest[i])<<16, i+1
	}
	if op&0x08 != 0 {
		at, i = at|uint64(rest[i])<<24, i+1
	}
	if op&0x10 != 0 {
		n, i = uint64(rest[i]), i+1
	}
	if op&0x20 != 0 {
		n, i = n|uint64(rest[i])<<8, i+1
	}
	if op&0x40 != 0 {
		n, i = n|uint64(rest[i])<<16, i+1
	}
	if n == 0 {
		n = 0x10000
	}
	return at, n, rest[i:]
}

// varint parses a size with seven bits per byte, lowest first.
func varint(b []byte) (v uint64, rest []byte, ok bool) {
	for i, c := range b {
		if i > 9 {
			break
		}
		v |= uint64(c&0x7f) << (7 * i)
		if c&0x80 == 0 {
			return v, b[i+1:], true
		}
	}
	return 0, nil, false
}
