package memcached

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "memcached", Name: "memory",
		Libraries: []string{"memjs", "memcached", "github.com/bradfitz/gomemcache", "pymemcache", "python-memcached", "pylibmc", "dalli", "ext-memcached"},
		Schemes:   []string{"memcached", "memcache"},
		Ports:     []int{11211},
		Words:     []string{"MEMCACHED", "MEMCACHE"},
		Purposes:  map[string]int{"CACHE": 2, "SESSION": 2},
		Variable:  "MEMCACHED_ADDRESS", Address: "address",
	}
}
