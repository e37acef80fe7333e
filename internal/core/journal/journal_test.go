package journal_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/journal"
)

func write(t testing.TB, path, text string) {
	t.Helper()
	f, err := journal.Open(path)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

func texts(lines []journal.Line) []string {
	out := []string{}
	for _, l := range lines {
		out = append(out, l.Text)
	}
	return out
}

func TestTail(t *testing.T) {
	path := filepath.Join(t.TempDir(), "api.log")
	none, err := journal.Tail(path, -1, 5)
	require.NoError(t, err)
	assert.Empty(t, none, "no log yet")

	write(t, path, "one\r\ntwo\n\nfour \xff\nfi")
	lines, err := journal.Tail(path, -1, 3)
	require.NoError(t, err)
	assert.Equal(t, []string{"", "four \uFFFD", "fi"}, texts(lines))
	older, err := journal.Tail(path, lines[0].Offset, 3)
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, texts(older))

	long := strings.Repeat("x", 3<<20)
	write(t, path, "\n"+long+"\nlast\n")
	lines, err = journal.Tail(path, -1, 2)
	require.NoError(t, err)
	assert.Equal(t, "last", lines[1].Text)
	assert.Len(t, lines[0].Text, 16<<10, "a line is cut where no screen would show it")
}

// Reading back page by page gives every line once, in order, whatever the
// lines and pages are like.
func TestPagesLoseNothing(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		lines := rapid.SliceOfN(rapid.StringMatching(`[a-z é]{0,40}`), 0, 200).Draw(r, "lines")
		page := rapid.IntRange(1, 60).Draw(r, "page")
		dir, err := os.MkdirTemp("", "journal")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		path := filepath.Join(dir, "a.log")
		if len(lines) > 0 {
			write(t, path, strings.Join(lines, "\n")+"\n")
		}
		got := []string{}
		before := int64(-1)
		for {
			part, err := journal.Tail(path, before, page)
			require.NoError(t, err)
			if len(part) == 0 {
				break
			}
			got = append(texts(part), got...)
			before = part[0].Offset
		}
		assert.Equal(r, append([]string{}, lines...), got)
		found, err := journal.Search(path, page, func(l journal.Line) bool { return strings.Contains(l.Text, "a") })
		require.NoError(t, err)
		want := []string{}
		for _, l := range lines {
			if strings.Contains(l, "a") {
				want = append(want, l)
			}
		}
		assert.Equal(r, want[max(0, len(want)-page):], texts(found))
	})
}

// collector gathers what a follower emits.
type collector struct {
	mu    sync.Mutex
	lines map[string][]journal.Line
}

func (c *collector) emit(service string, lines []journal.Line) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lines[service] = append(c.lines[service], lines...)
}

func (c *collector) texts(service string) []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return texts(c.lines[service])
}

func follow(t *testing.T, dir string, stamp bool, services ...string) *collector {
	t.Helper()
	c := &collector{lines: map[string][]journal.Line{}}
	f, err := journal.Follow(dir, services, stamp, c.emit)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		f.Run(ctx)
	}()
	t.Cleanup(func() { cancel(); <-done })
	return c
}

func TestFollow(t *testing.T) {
	dir := t.TempDir()
	api, web := filepath.Join(dir, "api.log"), filepath.Join(dir, "web.log")
	write(t, api, "before\n")
	c := follow(t, dir, true, "api", "web")
	began := time.Now()
	write(t, api, "hel")
	write(t, web, "new file\n")
	write(t, filepath.Join(dir, "other.log"), "not asked for\n")
	require.Eventually(t, func() bool { return len(c.texts("web")) == 1 }, 2*time.Second, time.Millisecond)
	write(t, api, "lo\nworld\n")
	require.Eventually(t, func() bool { return len(c.texts("api")) == 2 }, 2*time.Second, time.Millisecond)
	assert.Equal(t, []string{"hello", "world"}, c.texts("api"), "a line comes when it is whole")

	var all strings.Builder
	for i := range 50_000 {
		fmt.Fprintf(&all, "line %d\n", i)
	}
	write(t, api, all.String())
	require.Eventually(t, func() bool { return len(c.texts("api")) == 50_002 }, 5*time.Second, 5*time.Millisecond, "none is lost")

	lines, err := journal.Tail(api, -1, 1)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), lines[0].At, 5*time.Second)
	first, err := journal.Tail(api, int64(len("before\n")), 1)
	require.NoError(t, err)
	assert.Equal(t, "before", first[0].Text)
	assert.False(t, first[0].At.After(began.Add(time.Second)), "a line from before has the file's time")

	require.NoError(t, os.Truncate(api, 0))
	write(t, api, "anew\n")
	require.Eventually(t, func() bool { l := c.texts("api"); return l[len(l)-1] == "anew" }, 2*time.Second, time.Millisecond)
}

func TestLargeLogIsPutAside(t *testing.T) {
	path := filepath.Join(t.TempDir(), "api.log")
	write(t, path, "small\n")
	write(t, path, "appended\n")
	assert.Equal(t, int64(15), journal.Size(path))
	require.NoError(t, os.Truncate(path, 21<<20))
	write(t, path, "fresh\n")
	assert.Equal(t, int64(6), journal.Size(path))
	assert.Equal(t, int64(21<<20), journal.Size(path+".1"))
}

func TestMerge(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(s), 0) }
	got := journal.Merge(map[string][]journal.Line{
		"web": {{At: at(1), Text: "w1"}, {At: at(3), Text: "w3"}},
		"api": {{At: at(1), Text: "a1"}, {At: at(2), Text: "a2"}},
	})
	var order []string
	for _, e := range got {
		order = append(order, e.Text)
	}
	assert.Equal(t, []string{"a1", "w1", "a2", "w3"}, order)
}
