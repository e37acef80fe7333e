package reload

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

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
	w, err := New(dir, []Set{{Service: "api", Patterns: []string{"src/lib/**/*.js"}}}, func(c Change) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, strings.Join(c.Files, " "))
	}, func(err error) { assert.NoError(t, err) })
	require.NoError(t, err)
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
		require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return assert.ObjectsAreEqual(want, told) }, 5*time.Second, 10*time.Millisecond, "%q", want)
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
