package journal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"neighbour/internal/testkit"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func write(t testing.TB, path, text string) {
	t.Helper()
	f, err := Open(path, 0)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// seen writes a part of a log, as if it came at a time.
func seen(t testing.TB, dir, service string, at int64, text string) {
	t.Helper()
	path := Path(dir, service)
	require.NoError(t, appendTime(path, stamp{Size(path), at}))
	write(t, path, text)
}

func messages(entries []Entry) []string {
	out := []string{}
	for _, e := range entries {
		out = append(out, e.Message)
	}
	return out
}

func read(t testing.TB, dir string, q Query) []Entry {
	t.Helper()
	a, err := Read(context.Background(), dir, q)
	require.NoError(t, err)
	return a.Entries
}

func TestRecognise(t *testing.T) {
	local := func(h, m, s, ms int) time.Time {
		return time.Date(2026, 11, 23, h, m, s, ms*1e6, time.Local)
	}
	utc := func(h, m, s, ms int) time.Time { return time.Date(2026, 11, 23, h, m, s, ms*1e6, time.UTC) }
	for _, c := range []struct {
		line    string
		level   Level
		at      time.Time
		message string
	}{
		// PostgreSQL, MariaDB, Redis, nginx, Apache, PHP, RabbitMQ, NATS, mosquitto
		{"2026-11-23 12:00:01.250 UTC [812] LOG:  database system is ready", Info, utc(12, 0, 1, 250), "database system is ready"},
		{`2026-11-23 12:00:01.250 UTC [812] ERROR:  relation "loans" does not exist at character 15`, Error, utc(12, 0, 1, 250), `relation "loans" does not exist at character 15`},
		{"2026-11-23 12:00:01 0 [Warning] mariadbd: io_uring_queue_init() failed", Warn, local(12, 0, 1, 0), "mariadbd: io_uring_queue_init() failed"},
		{"812:M 23 Nov 2026 12:00:01.250 # WARNING overcommit", Warn, local(12, 0, 1, 250), "WARNING overcommit"},
		{"812:M 23 Nov 2026 12:00:01.250 * Ready to accept connections", Info, local(12, 0, 1, 250), "Ready to accept connections"},
		{"2026/11/23 12:00:01 [error] 812#812: *1 open() failed", Error, local(12, 0, 1, 0), "812#812: *1 open() failed"},
		{"[Mon Nov 23 12:00:01.250000 2026] [core:error] [pid 812] AH00037: not allowed", Error, local(12, 0, 1, 250), "[pid 812] AH00037: not allowed"},
		{"[23-Nov-2026 12:00:01] NOTICE: fpm is running, pid 812", Info, local(12, 0, 1, 0), "fpm is running, pid 812"},
		{"2026-11-23 12:00:01.250000+00:00 [info] <0.1.0> started", Info, utc(12, 0, 1, 250), "<0.1.0> started"},
		{"[812] 2026/11/23 12:00:01.250000 [INF] Server is ready", Info, local(12, 0, 1, 250), "Server is ready"},
		{"1795435201: mosquitto version 2 running", None, time.Unix(1795435201, 0), "mosquitto version 2 running"},
		// Programs
		{`{"level":"error","time":"2026-11-23T12:00:01.25Z","msg":"no ladder","tool":"ladder 3","n":2}`, Error, utc(12, 0, 1, 250), `no ladder | tool="ladder 3" n=2`},
		{`{"level":40,"time":1795435201250,"msg":"late"}`, Warn, time.UnixMilli(1795435201250), "late"},
		{`{"tool":"drill"}`, None, time.Time{}, " | tool=drill"},
		{`{not json}`, None, time.Time{}, "{not json}"},
		{`time=2026-11-23T12:00:01.250Z level=WARN msg="a drill is late" days=3`, Warn, utc(12, 0, 1, 250), "a drill is late | days=3"},
		{"TOOLS=3 on the shelf", None, time.Time{}, "TOOLS=3 on the shelf"},
		{"<11>Nov 23 12:00:01 shed api[812]: no ladder", Error, time.Date(time.Now().Year(), 11, 23, 12, 0, 1, 0, time.Local), "shed api[812]: no ladder"},
		{"<14>1 2026-11-23T12:00:01.250Z shed api 812 - - lent", Info, utc(12, 0, 1, 250), "shed api 812 - - lent"},
		{"2026-11-23T12:00:01.250+01:00 INFO  lent", Info, utc(11, 0, 1, 250), "lent"},
		{"12:00:01.250 [main] WARN  Shed - door open", Warn, time.Time{}, "Shed - door open"},
		{"\x1b[32mINFO\x1b[0m: \x1b[1mlent\x1b[0m", Info, time.Time{}, "lent"},
		{"[warn] slow", Warn, time.Time{}, "slow"},
		{"error: no such tool", Error, time.Time{}, "no such tool"},
		{"TypeError: x is undefined", Error, time.Time{}, "TypeError: x is undefined"},
		{"panic: no screws", Error, time.Time{}, "panic: no screws"},
		{"PHP Warning:  Undefined variable $tool in /shed/index.php on line 3", Warn, time.Time{}, "PHP Warning:  Undefined variable $tool in /shed/index.php on line 3"},
		{"PHP Recoverable fatal error:  no", Error, time.Time{}, "PHP Recoverable fatal error:  no"},
		{"PHP message: PHP Fatal error:  Uncaught Error", Error, time.Time{}, "PHP message: PHP Fatal error:  Uncaught Error"},
		{"[23-Nov-2026 12:00:01] NOTICE: PHP message: PHP Deprecated:  old", Warn, local(12, 0, 1, 0), "PHP message: PHP Deprecated:  old"},
		{`127.0.0.1 - - [23/Nov/2026:12:00:01 +0000] "GET /tools HTTP/1.1" 500 12 "-" "x"`, Error, time.Time{}, `127.0.0.1 - - [23/Nov/2026:12:00:01 +0000] "GET /tools HTTP/1.1" 500 12 "-" "x"`},
		{`127.0.0.1 - - [23/Nov/2026:12:00:01 +0000] "GET /tools HTTP/1.1" 404 12`, Warn, time.Time{}, `127.0.0.1 - - [23/Nov/2026:12:00:01 +0000] "GET /tools HTTP/1.1" 404 12`},
		{`127.0.0.1 - - [23/Nov/2026:12:00:01 +0000] "GET /tools?x=404 HTTP/2" 200 12`, None, time.Time{}, `127.0.0.1 - - [23/Nov/2026:12:00:01 +0000] "GET /tools?x=404 HTTP/2" 200 12`},
		{"503 GET /tools", Error, time.Time{}, "503 GET /tools"},
		{"404 drills, 3 ladders", None, time.Time{}, "404 drills, 3 ladders"},
		// Not levels, not times
		{"information is on the board", None, time.Time{}, "information is on the board"},
		{"Error handling was improved", None, time.Time{}, "Error handling was improved"},
		{"12 drills, 3 ladders", None, time.Time{}, "12 drills, 3 ladders"},
		{"[12] drills", None, time.Time{}, "[12] drills"},
		{"", None, time.Time{}, ""},
	} {
		got := recognise(c.line)
		assert.Equal(t, c.level, got.level, c.line)
		assert.Equal(t, c.level, levelOf([]byte(c.line)), c.line)
		if got.fields != "" {
			got.message += " | " + got.fields
		}
		assert.Equal(t, c.message, got.message, c.line)
		assert.True(t, c.at.Equal(got.at), "%s: %v, not %v", c.line, got.at, c.at)
	}
}

// The line that says why a program failed is found in what runtimes print.
func TestCause(t *testing.T) {
	for want, printed := range map[string]string{
		"Error: listen EADDRINUSE: address already in use :::4100": "node:events:497\n      throw er; // Unhandled 'error' event\n      ^\n\nError: listen EADDRINUSE: address already in use :::4100\n    at Server.setupListenHandle\n",
		"Error: Cannot find module '/shed/server.js'":              "node:internal/modules/cjs/loader:1210\n  throw err;\n  ^\n\nError: Cannot find module '/shed/server.js'\n    at x\n  code: 'MODULE_NOT_FOUND'\n",
		"ModuleNotFoundError: No module named 'shed'":              "Traceback (most recent call last):\n  File \"manage.py\", line 3, in <module>\n    import shed\nModuleNotFoundError: No module named 'shed'\n",
		`npm error Missing script: "wroker"`:                       "npm error Missing script: \"wroker\"\nnpm error\nnpm error Did you mean this?\n",
		"panic: no screws":                                         "starting\npanic: no screws\n\ngoroutine 1 [running]:\n",
		"sh: 1: shed: not found":                                   "sh: 1: shed: not found\n",
		"error: the ledger is closed":                              "hello\nerror: the ledger is closed\nbye\n",
		"":                                                         "Error handling was improved\nlistening\n",
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(Path(dir, "api"), []byte("Error: of before\n"+printed), 0o600))
		assert.Equal(t, want, Cause(dir, "api", int64(len("Error: of before\n"))))
	}
}

// What belongs together is one entry.
func TestEntriesOfSeveralLines(t *testing.T) {
	dir := t.TempDir()
	want := []string{
		"lending a drill",
		"TypeError: x is undefined\n    at lend (/shed/api.js:3:7)\n    at Object.<anonymous> (/shed/api.js:9:1) {\n  code: 3\n}",
		"Traceback (most recent call last):\n  File \"a.py\", line 1, in <module>\n    lend()\nValueError: bad",
		"next",
		"panic: no screws\n\ngoroutine 1 [running]:\nmain.main()\n\t/shed/main.go:3 +0x1d",
		"java.lang.Exception: closed\n\tat Shed.open(Shed.java:3)\nCaused by: java.io.Exception: rust\n\t... 2 more",
		"done",
	}
	write(t, Path(dir, "api"), strings.Join(want, "\n")+"\n")
	got := read(t, dir, Query{Filter: Filter{Services: []string{"api"}}, N: 100})
	var texts []string
	for _, e := range got {
		texts = append(texts, e.Text)
	}
	assert.Equal(t, want, texts)
	assert.Equal(t, []Level{None, Error, Error, None, Error, Error, None}, []Level{got[0].Level, got[1].Level, got[2].Level, got[3].Level, got[4].Level, got[5].Level, got[6].Level})
	some := read(t, dir, Query{Filter: Filter{Services: []string{"api"}, Patterns: []*Pattern{Text("api.js:9")}}, N: 100})
	require.Len(t, some, 1, "a match in any line finds the whole")
	assert.Equal(t, want[1], some[0].Text)
	// A line that comes much later is no part of it, indented or not.
	seen(t, dir, "web", 1000, "first\n")
	seen(t, dir, "web", 5000, "  later\n")
	assert.Len(t, read(t, dir, Query{Filter: Filter{Services: []string{"web"}}, N: 9}), 2)
}

// What programs print that is no text does no harm.
func TestHostileOutput(t *testing.T) {
	dir := t.TempDir()
	long := strings.Repeat("x", 10<<20)
	write(t, Path(dir, "api"), "a\x00b\n\xff\xfe\r\n"+long+"\nlast "+long)
	got := read(t, dir, Query{Filter: Filter{Services: []string{"api"}}, N: 10})
	require.Len(t, got, 4)
	assert.Equal(t, "a\x00b", got[0].Text)
	assert.Equal(t, "\uFFFD", got[1].Text)
	assert.Len(t, got[2].Text, lineLimit)
	assert.Equal(t, "last ", got[3].Text[:5])
	lines, err := Last(Path(dir, "api"), 2)
	require.NoError(t, err)
	assert.Equal(t, []int{lineLimit, lineLimit}, []int{len(lines[0].Text), len(lines[1].Text)})
}

// Reading page by page, in both directions, gives every entry of every log
// once, in the order of the time line, whatever is filtered; counting counts
// them.
func TestPagesLoseNothing(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		dir, err := os.MkdirTemp("", "journal")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		services := []string{"api", "ledger", "web"}
		var want []string
		at := int64(1_000_000)
		pattern := rapid.SampledFrom([]string{"", "a", "/[xyz]b/", "A", "\u00e9"}).Draw(r, "pattern")
		p, err := Parse(pattern)
		require.NoError(t, err)
		naive := map[string]*regexp.Regexp{"": regexp.MustCompile(""), "a": regexp.MustCompile("(?i)a"), "/[xyz]b/": regexp.MustCompile("[xyz]b"), "A": regexp.MustCompile("A"), "\u00e9": regexp.MustCompile("(?i)\u00e9")}[pattern]
		for i := range rapid.IntRange(0, 25).Draw(r, "parts") {
			at += int64(rapid.IntRange(1, 3000).Draw(r, "gap"))
			s := rapid.SampledFrom(services).Draw(r, "service")
			lines := ""
			for k := range rapid.IntRange(1, 5).Draw(r, "lines") {
				line := fmt.Sprintf("%s%d.%d %s", s, i, k, rapid.StringMatching(`[abxyzA\x{e9}\x{c9}]{0,5}`).Draw(r, "line"))
				if big := rapid.IntRange(0, 40).Draw(r, "big"); big == 0 {
					line += strings.Repeat("-", 9000)
				}
				if naive.MatchString(line) {
					want = append(want, line)
				}
				lines += line + "\n"
			}
			seen(t, dir, s, at, lines)
		}
		q := Query{Filter: Filter{Services: services}, N: rapid.IntRange(1, 12).Draw(r, "page")}
		if p != nil {
			q.Patterns = []*Pattern{p}
		}
		back := []string{}
		for {
			part := read(t, dir, q)
			if len(part) == 0 {
				break
			}
			back = append(messages(part), back...)
			q.Before = part[0].Place
		}
		assert.Equal(r, append([]string{}, want...), back)
		forth := []string{}
		q.Before, q.Oldest = Place{}, true
		for {
			part := read(t, dir, q)
			skip := 0
			if !q.From.IsZero() && len(part) > 0 && part[0].Place == q.From {
				skip = 1
			}
			if len(part) <= skip {
				break
			}
			forth = append(forth, messages(part[skip:])...)
			q.From = part[len(part)-1].Place
			q.N = max(q.N, 2)
		}
		assert.Equal(r, append([]string{}, want...), forth)
		c, err := CountEntries(context.Background(), dir, Query{Filter: q.Filter}, nil)
		require.NoError(t, err)
		assert.Equal(r, int64(len(want)), c.Entries)
	})
}

func TestFilters(t *testing.T) {
	dir := t.TempDir()
	seen(t, dir, "api", 1_000, "info: one\nwarn: two\n")
	seen(t, dir, "web", 3_000, "three\nerror: four\n")
	seen(t, dir, "api", 6_000, "INFO five\n")
	both := []string{"api", "web"}
	ask := func(q Query) []string { q.N = 10; return messages(read(t, dir, q)) }
	assert.Equal(t, []string{"one", "two", "three", "four", "five"}, ask(Query{Filter: Filter{Services: both}}))
	assert.Equal(t, []string{"two", "four"}, ask(Query{Filter: Filter{Services: both, Level: Warn}}))
	assert.Equal(t, []string{"four"}, ask(Query{Filter: Filter{Services: both, Level: Warn, Patterns: []*Pattern{Text("o"), Text("u")}}}))
	from := At(time.UnixMilli(3_000))
	assert.Equal(t, []string{"three", "four", "five"}, ask(Query{Filter: Filter{Services: both}, From: from}))
	assert.Equal(t, []string{"one", "two"}, ask(Query{Filter: Filter{Services: both}, Before: from}))
	_, err := Parse("/a(/")
	assert.ErrorContains(t, err, "is not a regular expression")
	notes := OpenNotes(dir)
	require.NoError(t, notes.Note("api", "failed", Error, "exit 3"))
	require.NoError(t, notes.Note("", "changed", None, "neighbour.toml has changed"))
	got := read(t, dir, Query{Filter: Filter{Services: []string{"web"}, Events: true}, N: 10})
	assert.Equal(t, []string{"three", "four", "neighbour.toml has changed"}, messages(got), "an event of another service is not wanted")
	got = read(t, dir, Query{Filter: Filter{Services: []string{"api"}, Events: true, Level: Error}, N: 10})
	assert.Equal(t, "api failed exit 3", got[0].Service+" "+got[0].Event+" "+got[0].Message)
}

// collector gathers what a follower emits.
type collector struct {
	mu    sync.Mutex
	lines map[string][]string
}

func (c *collector) emit(service string, lines []Line) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, l := range lines {
		c.lines[service] = append(c.lines[service], l.Text)
	}
}

func (c *collector) texts(service string) []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]string{}, c.lines[service]...)
}

func run(t *testing.T, f *Follower) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		f.Run(ctx)
	}()
	stop = sync.OnceFunc(func() { cancel(); <-done })
	t.Cleanup(stop)
	return stop
}

func TestFollow(t *testing.T) {
	dir := t.TempDir()
	api, web := Path(dir, "api"), Path(dir, "web")
	write(t, api, "before\n")
	c := &collector{lines: map[string][]string{}}
	f, err := Follow(dir, []string{"api", "web"}, c.emit)
	require.NoError(t, err)
	run(t, f)
	keeper := &collector{lines: map[string][]string{}}
	f, err = KeepTimes(dir, []string{"api", "web"}, 10, keeper.emit)
	require.NoError(t, err)
	run(t, f)
	began := time.Now()
	write(t, api, "hel")
	write(t, web, "new file\n")
	write(t, filepath.Join(dir, "other.log"), "not asked for\n")
	within := func(what func() bool, msg string) {
		require.Eventually(t, what, testkit.Patience, time.Millisecond, msg)
	}
	within(func() bool { return len(c.texts("web")) == 1 && len(keeper.texts("web")) == 1 }, "a new file")
	write(t, api, "lo\nworld\n")
	within(func() bool { return len(c.texts("api")) == 2 }, "two lines")
	assert.Equal(t, []string{"hello", "world"}, c.texts("api"), "a line comes when it is whole")
	var all strings.Builder
	for i := range 50_000 {
		fmt.Fprintf(&all, "line %d\n", i)
	}
	write(t, api, all.String())
	within(func() bool { return len(c.texts("api")) == 50_002 }, "none is lost")
	within(func() bool { l := keeper.texts("api"); return l[len(l)-1] == "line 49999" }, "the newest")
	assert.Less(t, len(keeper.texts("api")), 5000, "of much at once the latest are enough")

	got := read(t, dir, Query{Filter: Filter{Services: []string{"api"}}, N: 1})
	assert.WithinDuration(t, time.Now(), got[0].At, 5*time.Second)
	got = read(t, dir, Query{Filter: Filter{Services: []string{"api"}}, N: 1, Oldest: true})
	assert.Equal(t, "before", got[0].Text)
	assert.False(t, got[0].At.After(began.Add(time.Second)), "a line from before has the file's time")

	require.NoError(t, os.Truncate(api, 0))
	write(t, api, "anew\n")
	within(func() bool { l := c.texts("api"); return l[len(l)-1] == "anew" }, "a log begun anew")
}

// A log that grows is freed from its beginning, and whoever writes to it
// notices nothing: what is kept is whole, and the index is that of what is
// there.
func TestOldPartsAreFreed(t *testing.T) {
	dir := t.TempDir()
	path := Path(dir, "api")
	c := &collector{lines: map[string][]string{}}
	f, err := KeepTimes(dir, []string{"api"}, 1, c.emit)
	require.NoError(t, err)
	f.Keep = map[string]int64{"api": 10 << 20}
	var failed error
	f.Failed = func(err error) { failed = err }
	stop := run(t, f)
	out, err := Open(path, 0)
	require.NoError(t, err)
	defer out.Close()
	line := strings.Repeat("x", 91)
	n := 0
	for range 30 {
		var b bytes.Buffer
		for range 10_000 {
			fmt.Fprintf(&b, "%08d%s\n", n, line)
			n++
		}
		_, err := out.Write(b.Bytes())
		require.NoError(t, err)
		time.Sleep(5 * time.Millisecond)
	}
	last := fmt.Sprintf("%08d%s", n-1, line)
	require.Eventually(t, func() bool { l := c.texts("api"); return len(l) > 0 && l[len(l)-1] == last }, testkit.Patience, time.Millisecond)
	stop()
	if errors.Is(failed, errors.ErrUnsupported) {
		return // said, and the log is put aside at the next start
	}
	require.NoError(t, failed)
	begins := freed(path)
	assert.Greater(t, begins, int64(18<<20))
	assert.LessOrEqual(t, Size(path)-begins, int64(10<<20))
	count, err := CountEntries(context.Background(), dir, Query{Filter: Filter{Services: []string{"api"}}}, nil)
	require.NoError(t, err)
	assert.Equal(t, (Size(path)-begins)/100, count.Entries, "every line that is there is found")
	first := read(t, dir, Query{Filter: Filter{Services: []string{"api"}}, N: 1, Oldest: true})
	assert.Regexp(t, `^\d{8}x+$`, first[0].Text)
	assert.False(t, first[0].At.IsZero())
	times, err := openTimes(path)
	require.NoError(t, err)
	defer times.close()
	assert.Greater(t, times.get(1).Offset, begins)
}

// A clock that is set back, as after a long sleep of the machine, doesn't turn
// the time line around.
func TestClockSetBack(t *testing.T) {
	dir := t.TempDir()
	path := Path(dir, "api")
	write(t, path, "before\n")
	later := time.Now().Add(time.Hour).UnixMilli()
	require.NoError(t, appendTime(path, stamp{0, later}))
	c := &collector{lines: map[string][]string{}}
	f, err := KeepTimes(dir, []string{"api"}, 10, c.emit)
	require.NoError(t, err)
	run(t, f)
	write(t, path, "after\n")
	require.Eventually(t, func() bool { return len(c.texts("api")) == 1 }, testkit.Patience, time.Millisecond)
	got := read(t, dir, Query{Filter: Filter{Services: []string{"api"}}, N: 5})
	assert.Equal(t, []string{"before", "after"}, messages(got))
	assert.Equal(t, later, got[1].Place.Seen)
}

func TestParseTime(t *testing.T) {
	now := time.Date(2026, 11, 23, 14, 30, 0, 0, time.Local)
	on := func(day, hour, minute, second int) time.Time {
		return time.Date(2026, 11, day, hour, minute, second, 0, time.Local)
	}
	for in, want := range map[string]time.Time{
		"10m": on(23, 14, 20, 0), "1h30m": on(23, 13, 0, 0), "-5s": on(23, 14, 29, 55), "14:05": on(23, 14, 5, 0), "9:07": on(23, 9, 7, 0), "14:05:30": on(23, 14, 5, 30),
		"23:00": on(22, 23, 0, 0), "2026-11-20": on(20, 0, 0, 0), "2026-11-20 08:15": on(20, 8, 15, 0), "2026-11-20T08:15:01": on(20, 8, 15, 1),
	} {
		got, err := ParseTime(in, now)
		require.NoError(t, err, in)
		assert.True(t, want.Equal(got), "%s: %v", in, got)
	}
	for _, in := range []string{"", "soon", "25:00", "14:5", "yesterday"} {
		_, err := ParseTime(in, now)
		assert.ErrorContains(t, err, "is not a time; write how long ago", in)
	}
}

// What tells most of a failure: the first error and the last lines, of a
// trace only its beginning, and nothing of an earlier life.
func TestTelling(t *testing.T) {
	dir := t.TempDir()
	write(t, Path(dir, "api"), "ERROR: of an earlier life\n")
	from := Size(Path(dir, "api"))
	tell := func() []string {
		lines, err := Telling(dir, "api", from, 6)
		require.NoError(t, err)
		return lines
	}
	assert.Empty(t, tell())
	write(t, Path(dir, "api"), "opening\n")
	assert.Equal(t, []string{"opening"}, tell())
	write(t, Path(dir, "api"), "TypeError: no screws\n    at a (a.js:1)\n    at b (a.js:2)\n    at c (a.js:3)\n    at d (a.js:4)\n    at e (a.js:5)\n")
	trace := []string{"TypeError: no screws", "    at a (a.js:1)", "    at b (a.js:2)", "    … 3 more lines"}
	assert.Equal(t, append([]string{"opening"}, trace...), tell())
	for i := range 9 {
		write(t, Path(dir, "api"), fmt.Sprintf("tidying %d\n", i))
	}
	assert.Equal(t, append(trace, "…", "tidying 5", "tidying 6", "tidying 7", "tidying 8"), tell())
	none, err := Telling(dir, "web", 0, 6)
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestPatterns(t *testing.T) {
	for pattern, want := range map[string][]string{
		"drill": {"drill", "Drill", "DRILL bit"}, "Drill": {"Drill"}, "/^d.*l/": {"drill"}, "/(?i)^DRILL$/": {"drill", "Drill"}, "/x|l b|ill$/": {"drill", "Drill"},
		"l b": {"DRILL bit"}, "é": {"café", "CAFÉ"}, "/": {"a/b"}, "//": {"a//b"}, "/[/": nil,
	} {
		p, err := Parse(pattern)
		if want == nil {
			assert.ErrorContains(t, err, "is not a regular expression")
			continue
		}
		require.NoError(t, err, pattern)
		var got []string
		for _, s := range []string{"drill", "Drill", "DRILL bit", "ladder", "café", "CAFÉ", "a/b", "a//b"} {
			if p.Matches([]byte(s)) {
				got = append(got, s)
				for _, m := range p.Find(s) {
					assert.True(t, p.Matches([]byte(s[m[0]:m[1]])) || strings.HasPrefix(pattern, "/"), "%s in %s", pattern, s)
				}
			}
		}
		if pattern == "/" {
			want = []string{"a/b", "a//b"}
		}
		assert.Equal(t, want, got, pattern)
	}
	none, err := Parse("")
	require.NoError(t, err)
	assert.Nil(t, none)
	assert.Nil(t, none.Find("x"))
}

func TestPlacesRoundTrip(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		place := rapid.Custom(func(r *rapid.T) Place {
			return Place{Seen: rapid.Int64().Draw(r, "seen"), Log: rapid.SampledFrom([]string{"", "api", "a-b", Events}).Draw(r, "log"), Offset: rapid.Int64().Draw(r, "offset")}
		})
		p, q := place.Draw(r, "p"), place.Draw(r, "q")
		var back Place
		require.NoError(r, back.UnmarshalText([]byte(p.String())))
		assert.Equal(r, p, back)
		assert.Equal(r, p.Compare(q), -q.Compare(p))
		assert.Equal(r, p == q, p.Compare(q) == 0)
	})
	for _, bad := range []string{"1", "1:2", "x:1:api", "1:x:api"} {
		assert.ErrorContains(t, new(Place).UnmarshalText([]byte(bad)), "is no place in a log")
	}
}

// Whatever is in a log, reading gives valid entries, and the same in both
// directions.
func FuzzEntries(f *testing.F) {
	for _, s := range []string{"a\nb\n", "{\"level\":3}\n", "<11>1 x\n", "\x1b[31m[", "  x\n\n\n", "time=\"", "Nov 23 12:00:00 ", "[Mon Nov 23 12:00:01.2 2026] [", "1:M 2 Nov 2026 1", "level=\"\\"} {
		f.Add([]byte(s), "a")
	}
	f.Fuzz(func(t *testing.T, log []byte, pattern string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(Path(dir, "api"), log, 0o600))
		q := Query{Filter: Filter{Services: []string{"api"}}, N: 1000}
		if p, err := Parse(pattern); err == nil && p != nil {
			q.Patterns = []*Pattern{p}
		}
		back := read(t, dir, q)
		q.Oldest = true
		forth := read(t, dir, q)
		if len(back) < q.N {
			assert.Equal(t, back, forth)
			c, err := CountEntries(context.Background(), dir, Query{Filter: q.Filter}, nil)
			require.NoError(t, err)
			assert.Equal(t, int64(len(back)), c.Entries)
		}
		for _, e := range back {
			assert.Equal(t, strings.ToValidUTF8(e.Text, "?"), e.Text)
			for _, p := range q.Patterns {
				for _, m := range p.Find(e.Text) {
					assert.True(t, m[0] >= 0 && m[1] <= len(e.Text))
				}
			}
		}
	})
}

func TestTail(t *testing.T) {
	dir := t.TempDir()
	write := func(service, text string) {
		f, err := os.OpenFile(Path(dir, service), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		_, err = f.WriteString(text)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	write("api", "one\ntwo\nthree\n")
	write("web", "")
	before, err := Read(t.Context(), dir, Query{Filter: Filter{Services: []string{"api"}}, N: 1, Oldest: true})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	got := make(chan string, 100)
	ended := make(chan error)
	go func() {
		ended <- Tail(ctx, dir, Query{Filter: Filter{Services: []string{"api", "web"}}, From: before.Entries[0].Place}, func(e Entry) { got <- e.Service + " " + e.Text })
	}()
	assert.Equal(t, "api two", <-got, "what is there after the place")
	write("web", "hello\n")
	write("api", "four\n")
	rest := []string{<-got, <-got, <-got}
	assert.ElementsMatch(t, []string{"api three", "web hello", "api four"}, rest, "each once")
	cancel()
	assert.NoError(t, <-ended)
	assert.Empty(t, got)
}
