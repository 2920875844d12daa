package odb

import (
	"sync"
	"unsafe"
	"weak"

	"dorvik.dev/dorvik/internal/core/object"
)

// cache keeps recent bases and results of deltas, because the next delta often builds on one.
type cache struct {
	mu          sync.Mutex
	last, older map[place]known // entries used last, and the generation before
	bytes       int             // bytes held by last
	large       map[place]lent
}

// lent is a large content, cached only while somebody else holds it.
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

// In bytes: past cacheHalf what is kept becomes the older half, in place of the one before; and the largest that is.
const (
	cacheHalf = 5 << 20
	cacheOne  = 1 << 20
)

func newCache() *cache { return &cache{last: map[place]known{}, large: map[place]lent{}} }

func (c *cache) get(p *pack, offset int64) (known, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	at := place{p, offset}
	if k, ok := c.last[at]; ok {
		return k, true
	}
	if k, ok := c.older[at]; ok {
		c.hold(at, k)
		return k, true
	}
	if l, ok := c.large[at]; ok {
		if first := l.first.Value(); first != nil {
			return known{l.kind, unsafe.Slice(first, l.size)}, true
		}
		delete(c.large, at)
	}
	return known{}, false
}

func (c *cache) put(p *pack, offset int64, k known) {
	c.mu.Lock()
	defer c.mu.Unlock()
	at := place{p, offset}
	if len(k.data) > cacheOne {
		c.large[at] = lent{k.kind, weak.Make(unsafe.SliceData(k.data)), len(k.data)}
		return
	}
	if _, ok := c.last[at]; !ok {
		c.hold(at, k)
	}
}

// hold adds a content to the cache.
func (c *cache) hold(at place, k known) {
	if c.bytes += len(k.data); c.bytes > cacheHalf {
		c.older, c.last, c.bytes = c.last, make(map[place]known, len(c.last)), len(k.data)
	}
	c.last[at] = k
}
