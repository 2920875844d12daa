package object

import (
	"bytes"
	"compress/zlib"
	"context"
	"encoding/binary"
	"io"
	"sort"
)

// Reachable lists the objects of this overlay that the roots lead to. It stops at objects of the underlying reader,
// because the repository has those with everything they need.
func (o *Overlay) Reachable(ctx context.Context, roots ...ID) ([]ID, error) {
	seen := map[ID]bool{}
	var out []ID
	for stack := append([]ID(nil), roots...); len(stack) > 0; {
		id := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if seen[id] || !o.Made(id) {
			continue
		}
		seen[id] = true
		out = append(out, id)
		switch o.made[id].kind {
		case KindCommit:
			c, err := o.Commit(ctx, id)
			if err != nil {
				return nil, err
			}
			stack = append(append(stack, c.Tree), c.Parents...)
		case KindTree:
			entries, err := o.Tree(ctx, id)
			if err != nil {
				return nil, err
			}
			for _, e := range entries {
				if e.Mode != ModeSubmodule {
					stack = append(stack, e.ID)
				}
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Less(out[j]) })
	return out, nil
}

// WritePack writes the objects of this overlay that the roots lead to as a version 2 pack of deflated objects without
// deltas. It returns their number. It writes nothing if there are none.
func (o *Overlay) WritePack(ctx context.Context, w io.Writer, roots ...ID) (int, error) {
	ids, err := o.Reachable(ctx, roots...)
	if err != nil || len(ids) == 0 {
		return 0, err
	}
	sum := o.format.new()
	out := io.MultiWriter(w, sum)
	head := []byte("PACK\x00\x00\x00\x02")
	if _, err := out.Write(binary.BigEndian.AppendUint32(head, uint32(len(ids)))); err != nil {
		return 0, err
	}
	var buf bytes.Buffer
	z := zlib.NewWriter(&buf) // made once: a writer's buffers are larger than most objects
	for _, id := range ids {
		kind, data, err := o.Read(ctx, id)
		if err != nil {
			return 0, err
		}
		buf.Reset()
		WriteEntryHeader(&buf, kind, len(data))
		z.Reset(&buf)
		if _, err := z.Write(data); err != nil {
			return 0, err
		}
		if err := z.Close(); err != nil {
			return 0, err
		}
		if _, err := out.Write(buf.Bytes()); err != nil {
			return 0, err
		}
	}
	_, err = w.Write(sum.Sum(nil))
	return len(ids), err
}

// WriteEntryHeader writes kind and size: 4 bits of the size in the first byte, then 7 per byte, low bits first. The
// top bit says that another byte follows.
func WriteEntryHeader(b *bytes.Buffer, kind Kind, size int) {
	c := byte(kind)<<4 | byte(size&0x0f)
	for size >>= 4; size > 0; size >>= 7 {
		b.WriteByte(c | 0x80)
		c = byte(size & 0x7f)
	}
	b.WriteByte(c)
}
