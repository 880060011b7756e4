package judge

import (
	"sync"

	lru "github.com/hashicorp/golang-lru/v2/simplelru"
)

// cache keeps values up to a bound on what they take in memory all together, those
// used last.
type cache[K comparable, V any] struct {
	mu    sync.Mutex
	held  *lru.LRU[K, weighed[V]]
	bytes int64
	most  int64
}

type weighed[V any] struct {
	value V
	bytes int64
}

func newCache[K comparable, V any](most int64) *cache[K, V] {
	c := &cache[K, V]{most: most}
	c.held, _ = lru.NewLRU(1<<20, func(_ K, v weighed[V]) { c.bytes -= v.bytes })
	return c
}

func (c *cache[K, V]) get(key K) (V, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v, ok := c.held.Get(key)
	return v.value, ok
}

// add keeps a value that takes so many bytes; one that is larger than a quarter of the
// whole is not kept.
func (c *cache[K, V]) add(key K, value V, bytes int64) {
	if bytes > c.most/4 {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.held.Remove(key)
	c.held.Add(key, weighed[V]{value, bytes})
	for c.bytes += bytes; c.bytes > c.most; {
		c.held.RemoveOldest()
	}
}
