package reload

import (
	"context"
	"neighbour/internal/testkit"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
)

func TestWhichFilesMatter(t *testing.T) {
	s := Set{Patterns: []string{"api/**/*.js", "*.json", "!**/*.test.js"}, Except: []string{"api/out"}}
	for file, want := range map[string]bool{
		"api/a.js": true, "api/deep/er/a.js": true, "package.json": true,
		"api/a.ts": false, "web/a.js": false, "api/a.test.js": false, "api/out/a.js": false, "api/node_modules/x/a.js": false,
		"api/.git/a.js": false, "api/a.js~": false, "api/.#a.js": false, "api/.a.js.swp": false, "deep/package.json": false,
	} {
		assert.Equal(t, want, s.matters(file), file)
	}
	assert.Equal(t, "a.js has changed", Change{Files: []string{"a.js"}, Count: 1}.InWords())
	assert.Equal(t, "a.js and 1 more file have changed", Change{Files: []string{"a.js", "b.js"}, Count: 2}.InWords())
}

// A folder that comes later is watched, too, with what is in it already.
func TestFoldersThatComeLater(t *testing.T) {
	defer goleak.VerifyNone(t, goleak.IgnoreCurrent())
	dir := t.TempDir()
	var mu sync.Mutex
	var told []string
	w := New(dir, []Set{{Service: "api", Patterns: []string{"src/lib/**/*.js"}}}, func(c Change) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, strings.Join(c.Files, " "))
	}, func(err error) { assert.NoError(t, err) })
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); w.Run(ctx) }()
	write := func(name string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("x"), 0o600))
	}
	sees := func(want ...string) {
		t.Helper()
		require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return assert.ObjectsAreEqual(want, told) }, testkit.Patience, 10*time.Millisecond, "%q", want)
	}
	write("src/lib/deep/a.js")
	sees("src/lib/deep/a.js")
	write("src/lib/deep/er/b.js")
	write("src/lib/c.css")
	sees("src/lib/deep/a.js", "src/lib/deep/er/b.js")
	require.NoError(t, os.Remove(filepath.Join(dir, "src/lib/deep/a.js")))
	sees("src/lib/deep/a.js", "src/lib/deep/er/b.js", "src/lib/deep/a.js")
	cancel()
	<-done
}

// Where the system has no watches left the files are polled, until it has.
func TestPolling(t *testing.T) {
	defer goleak.VerifyNone(t, goleak.IgnoreCurrent())
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("a.js", "1")
	changes, modes := make(chan string, 100), make(chan error, 100)
	w := newWatcher(dir, []Set{{Service: "api", Patterns: []string{"**/*.js"}}},
		func(c Change) { changes <- strings.Join(c.Files, " ") }, func(why error) { modes <- why })
	var works atomic.Bool
	w.open = func() (*fsnotify.Watcher, error) {
		if !works.Load() {
			return nil, syscall.EMFILE
		}
		return fsnotify.NewWatcher()
	}
	w.pollEvery, w.retryEvery = 10*time.Millisecond, 20*time.Millisecond
	w.begin()
	assert.ErrorContains(t, <-modes, "fs.inotify.max_user_instances")
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); w.Run(ctx) }()
	write("a.js", "22")
	assert.Equal(t, "a.js", <-changes)
	write("b.css", "x")
	write("b.js", "x")
	assert.Equal(t, "b.js", <-changes)
	require.NoError(t, os.Remove(filepath.Join(dir, "a.js")))
	assert.Equal(t, "a.js", <-changes)
	works.Store(true)
	assert.NoError(t, <-modes)
	write("c.js", "x")
	assert.Equal(t, "c.js", <-changes)
	assert.Empty(t, modes, "each change of mode is told once")
	cancel()
	<-done
}
