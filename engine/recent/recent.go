// Package recent is a cache of limited size for recently used values.
package recent

import (
	"fmt"

	lru "github.com/hashicorp/golang-lru/v2"
)

// Cache stores the most recently used values. It can be used concurrently.
type Cache[K comparable, V any] = lru.Cache[K, V]

// New creates a cache of a capacity, from 1 on.
func New[K comparable, V any](most int) *Cache[K, V] {
	cache, err := lru.New[K, V](most)
	if err != nil {
		panic(fmt.Sprintf("a cache for %d: %v", most, err)) // the capacity is a constant
	}
	return cache
}
