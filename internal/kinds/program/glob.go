package program

import (
	"path/filepath"
	"sync"
	"time"
)

// remembered is how long what a pattern matched holds. The services of a project look for
// the same runtimes in the same folders, all at once.
const remembered = time.Second

// globs knows what patterns matched of late. Its methods may be called at the same time.
type globs struct {
	mu      sync.Mutex
	matched map[string]matched
}

type matched struct {
	at    time.Time
	paths []string
}

var recent globs

// find returns the files that match a pattern, as filepath.Glob does. They are not to be
// changed.
func (g *globs) find(pattern string) []string {
	now := time.Now()
	g.mu.Lock()
	defer g.mu.Unlock()
	if m, ok := g.matched[pattern]; ok && now.Sub(m.at) < remembered {
		return m.paths
	}
	if g.matched == nil || len(g.matched) > 1000 {
		g.matched = map[string]matched{}
	}
	paths, _ := filepath.Glob(pattern)
	g.matched[pattern] = matched{now, paths}
	return paths
}
