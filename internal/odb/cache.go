package odb

import (
	"container/list"
	"sync"
	"unsafe"
	"weak"

	"dorvik.dev/dorvik/internal/core/object"
)

// cache keeps what deltas stand on, and what they made, those used last: the next delta of a chain often stands on it.
type cache struct {
	mu    sync.Mutex
	at    map[place]*list.Element
	order list.List // of kept, the one used last at the front
	bytes int
	large map[place]lent
}

// lent is a large one, which is there as long as somebody else has it.
type lent struct {
	kind  object.Kind
	first weak.Pointer[byte]
	size  int
}

type place struct {
	pack   *pack
	offset int64
}

type known struct {
	kind object.Kind
	data []byte
}

type kept struct {
	place
	known
}

// In bytes: all that is kept, and the largest that is.
const (
	cacheAll = 6 << 20
	cacheOne = 1 << 20
)

func newCache() *cache { return &cache{at: map[place]*list.Element{}, large: map[place]lent{}} }

func (c *cache) get(p *pack, offset int64) (known, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.at[place{p, offset}]
	if e == nil {
		l := c.large[place{p, offset}]
		if first := l.first.Value(); first != nil {
			return known{l.kind, unsafe.Slice(first, l.size)}, true
		}
		delete(c.large, place{p, offset})
		return known{}, false
	}
	c.order.MoveToFront(e)
	return e.Value.(kept).known, true
}

func (c *cache) put(p *pack, offset int64, k known) {
	c.mu.Lock()
	defer c.mu.Unlock()
	at := place{p, offset}
	if len(k.data) > cacheOne {
		c.large[at] = lent{k.kind, weak.Make(unsafe.SliceData(k.data)), len(k.data)}
		return
	}
	if c.at[at] != nil {
		return
	}
	c.at[at] = c.order.PushFront(kept{at, k})
	for c.bytes += len(k.data); c.bytes > cacheAll; {
		last := c.order.Remove(c.order.Back()).(kept)
		delete(c.at, last.place)
		c.bytes -= len(last.data)
	}
}
