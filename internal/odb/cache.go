package odb

import (
	"container/list"
	"sync"

	"dorvik.dev/dorvik/internal/core/object"
)

// cache keeps what deltas stand on, and what they made, those used last: the next delta of a chain often stands on it.
type cache struct {
	mu    sync.Mutex
	at    map[place]*list.Element
	order list.List // of kept, the one used last at the front
	bytes int
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
	cacheAll = 16 << 20
	cacheOne = 1 << 20
)

func newCache() *cache { return &cache{at: map[place]*list.Element{}} }

func (c *cache) get(p *pack, offset int64) (known, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.at[place{p, offset}]
	if e == nil {
		return known{}, false
	}
	c.order.MoveToFront(e)
	return e.Value.(kept).known, true
}

func (c *cache) put(p *pack, offset int64, k known) {
	if len(k.data) > cacheOne {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	at := place{p, offset}
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
