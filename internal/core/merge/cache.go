package merge

import "sync"

// cache caches computed values. It is safe for concurrent use; two goroutines may compute the same value.
type cache[K comparable, V any] struct {
	mu sync.Mutex
	of map[K]V
}

func (c *cache[K, V]) get(key K) (V, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v, ok := c.of[key]
	return v, ok
}

func (c *cache[K, V]) put(key K, v V) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil {
		c.of = map[K]V{}
	}
	c.of[key] = v
}
