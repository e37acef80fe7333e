package functions

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m, goleak.IgnoreCurrent()) }

// output is a log that may be read while it is written.
type output struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(b)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.String()
}

// served serves functions, in a copy of the test's folder that may be changed.
func served(t *testing.T, c Config) (s *Server, base string, out *output) {
	c.Dir = t.TempDir()
	require.NoError(t, os.CopyFS(c.Dir, os.DirFS("testdata/functions")))
	out = &output{}
	// A process that has left its group is known by its mark alone, as under a keeper.
	mark := c.Dir + ":functions"
	t.Setenv(proc.MarkVariable, mark)
	t.Cleanup(func() {
		table, err := proc.ReadTable()
		require.NoError(t, err)
		for pid := range table {
			if pid != os.Getpid() && proc.MarkOf(pid) == mark {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	})
	s, err := New(c, t.TempDir(), log.New(out, "", 0))
	require.NoError(t, err)
	server := httptest.NewServer(s.Handler())
	t.Cleanup(func() {
		s.Close()
		server.Close()
		http.DefaultClient.CloseIdleConnections()
	})
	return s, server.URL, out
}

type answer struct {
	status int
	header http.Header
	body   string
	Failure
}

func ask(t *testing.T, method, url, body string) answer {
	r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Proxy", "http://elsewhere.example.org")
	r.Header.Set("X-Request-Id", "a-way")
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	a := answer{status: resp.StatusCode, header: resp.Header, body: strings.TrimSpace(string(b))}
	_ = json.Unmarshal(b, &a.Failure)
	return a
}

// Each language's handler is called, answers, prints and fails in its own way.
func TestCalls(t *testing.T) {
	s, base, out := served(t, Config{Functions: map[string]Declared{
		"tell":    {Argv: []string{"sh", "-c", `printf "Content-Type: text/plain\n\ntold $REQUEST_METHOD [$HTTP_PROXY] $HTTP_X_REQUEST_ID"`}},
		"again":   {File: "greet.js"},
		"absent":  {},
		"missing": {Argv: []string{"no-such-program"}},
	}})
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"POST", "/greet", `{"name":"Ines"}`, 200, `{"hello":"Ines","pid"`},
		{"POST", "/again", `{"name":"Tom"}`, 200, `{"hello":"Tom","pid"`},
		{"PUT", "/report/7?x=1", "", 202, "report /7 report"},
		{"POST", "/count/a/b?x=1", "abc", 200, `{"n": 3}`},
		{"GET", "/count/404", "", 404, `{"no": "such"}`},
		{"GET", "/page?who=Tom", "", 200, "<h1>Hello Tom</h1>"},
		{"POST", "/sum/a?b=c", "abc", 201, "sum of 3 POST /a /sum"},
		{"DELETE", "/tell", "", 200, "told DELETE [] a-way"},
		// What is wrong is told.
		{"POST", "/greet", `{"name":"nobody"}`, 500, "nobody is there"},
		{"POST", "/greet", `{"name":"exit"}`, 500, "its process ended in the midst of the call: exit 4"},
		{"POST", "/greet", "no JSON", 500, "SyntaxError: Unexpected token"},
		{"GET", "/count/boom", "", 500, "ZeroDivisionError: division by zero"},
		{"GET", "/page/boom", "", 500, "Call to undefined function nosuch()"},
		{"GET", "/page/fatal", "", 500, "Allowed memory size"},
		{"GET", "/page", "", 200, "Hello nobody"},
		{"GET", "/sum/plain", "", 502, `it begins with \"hello\"; print the header Content-Type`},
		{"GET", "/sum/exit", "", 502, "exit 3; it printed no answer"},
		{"GET", "/broken", "", 500, "broken.mjs:1: missing ) after argument list"},
		{"GET", "/none", "", 500, "none.js exports no handler; write: export default"},
		{"GET", "/missing", "", 500, "no-such-program is not installed"},
		{"GET", "/nix", "", 404, "there is no function \\\"nix\\\"; there are: again, broken"},
		{"GET", "/_helper", "", 404, "there is no function"},
		{"GET", "/absent", "", 404, "there is no function"},
	} {
		a := ask(t, c.method, base+c.path, c.body)
		assert.Equal(t, c.status, a.status, "%s: %s", c.path, a.body)
		if want := c.want; c.path == "/broken" {
			assert.Contains(t, a.body, "broken.mjs:", a.body)
		} else {
			assert.Contains(t, a.body, want, c.path)
		}
	}
	assert.Equal(t, "test", ask(t, "GET", base+"/count/404", "").header.Get("X-Why"))
	told := out.String()
	for _, line := range []string{"greet 1: greeting Ines\n", "count 4: counting POST /a/b {'x': '1'}\n", "sum 7: summing b=c\n", "page 6: a page for Tom\n", "error: greet 9: TypeError: nobody is there\n    at ", "ZeroDivisionError: division by zero\n", "warning: absent is declared"} {
		assert.Contains(t, told, line)
	}
	assert.NotContains(t, ask(t, "POST", base+"/greet", `{"name":"nobody"}`).Stack, "node.mjs", "the runner is not the function's business")
	o := s.Overview()
	require.Len(t, o.Functions, 10)
	for _, f := range o.Functions {
		switch f.Name {
		case "greet":
			assert.Equal(t, 5, f.Calls)
			assert.Equal(t, 4, f.Failed)
			assert.Empty(t, f.Problem)
		case "broken", "none", "missing":
			assert.Equal(t, f.Name != "missing", f.Problem != "", "it is said of %s without a call", f.Name)
		}
	}
	// Each is remembered, with its way.
	var all []traffic.Exchange
	require.NoError(t, json.Unmarshal([]byte(ask(t, "GET", base+traffic.Path+"?filter=/greet", "").body), &all))
	require.Len(t, all, 5)
	assert.Equal(t, traffic.Call, all[4].What)
	assert.Equal(t, "a-way", all[4].Trace)
	var whole traffic.Full
	require.NoError(t, json.Unmarshal([]byte(ask(t, "GET", fmt.Sprintf("%s%s/%d", base, traffic.Path, all[4].ID), "").body), &whole))
	assert.JSONEq(t, `{"name":"Ines"}`, string(whole.Request.Data))
	assert.Contains(t, string(whole.Response.Data), "Ines")
	r, err := http.NewRequestWithContext(t.Context(), "GET", base+"/greet", nil)
	require.NoError(t, err)
	r.Host = "elsewhere.example.org"
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusMisdirectedRequest, resp.StatusCode, "a page from elsewhere gets nothing")
}

// A call gets no more than it may have, and whatever it does the others go on.
func TestLimits(t *testing.T) {
	_, base, out := served(t, Config{Limits: Limits{Time: testkit.Patience, Memory: 200 << 20, AtOnce: 2}, Functions: map[string]Declared{
		"much":    {Argv: []string{"sh", "-c", `printf "Content-Type: text/plain\n\n"; head -c 100000000 /dev/zero`}},
		"never":   {Argv: []string{"sleep", "1000"}, Limits: Limits{Time: 2 * time.Second}},
		"endless": {Argv: []string{"sh", "-c", `printf "Content-Type: text/plain\n\nbegun"; sleep 1000`}, Limits: Limits{Time: time.Second}},
		"slow":    {File: "greet.js", Limits: Limits{Time: 2 * time.Second}},
		"patient": {Argv: []string{"sh", "-c", `sleep 0.3; printf "Content-Type: text/plain\n\nwell"`}}}})
	var all sync.WaitGroup
	for path, want := range map[string]struct {
		status int
		text   string
	}{
		"/never":     {504, "it had not answered after 2s, which is its limit; it was ended"},
		"/sum/fork":  {201, "sum of 0"},
		"/sum/noise": {201, "sum of 0"},
		"/much":      {200, ""},
	} {
		all.Go(func() {
			a := ask(t, "GET", base+path, "")
			assert.Equal(t, want.status, a.status, path)
			assert.Contains(t, a.body[:min(len(a.body), 200)], want.text)
			if path == "/much" {
				assert.Equal(t, 100_000_000, len(a.body))
			}
		})
	}
	all.Wait()
	assert.Contains(t, out.String(), "it prints more than 1.0 MB; the rest is left out")
	assert.Less(t, strings.Count(out.String(), "xxx\n"), 11000)
	resp, err := http.Get(base + "/endless")
	require.NoError(t, err)
	_, err = io.ReadAll(resp.Body)
	resp.Body.Close()
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "an answer that is not whole is not taken for one that is")
	hog := ask(t, "POST", base+"/greet", `{"name":"hog"}`)
	assert.Equal(t, 500, hog.status)
	assert.Contains(t, hog.Message, "of memory, and may take 200 MB; it was ended")
	assert.Equal(t, 504, ask(t, "POST", base+"/slow", `{"name":"slow"}`).status)
	assert.Equal(t, 200, ask(t, "POST", base+"/greet", `{"name":"Ines"}`).status)
	began := time.Now()
	for range 4 {
		all.Go(func() { assert.Equal(t, "well", ask(t, "GET", base+"/patient", "").body) })
	}
	all.Wait()
	assert.Greater(t, time.Since(began), 590*time.Millisecond, "two at a time")
	assert.Equal(t, http.StatusRequestEntityTooLarge, ask(t, "POST", base+"/count", strings.Repeat("x", bodyLimit+1)).status)
}

// What waits for its turn takes no room: its body is read once it goes on.
func TestQueueReadsNothing(t *testing.T) {
	s, base, _ := served(t, Config{Limits: Limits{Time: testkit.Patience, AtOnce: 1}, Functions: map[string]Declared{
		"slow": {Argv: []string{"sh", "-c", `cat >/dev/null; sleep 1; printf "Content-Type: text/plain\n\nwell"`}}}})
	pool := func() *pool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.pools["slow"]
	}
	var all sync.WaitGroup
	all.Go(func() { assert.Equal(t, 200, ask(t, "POST", base+"/slow", "").status) })
	require.Eventually(t, func() bool { p := pool(); return p != nil && len(p.slots) == 1 }, testkit.Patience, time.Millisecond)
	body := &counting{Reader: io.LimitReader(zeros{}, 40<<20)}
	all.Go(func() {
		r, err := http.NewRequestWithContext(t.Context(), "POST", base+"/slow", body)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, 200, resp.StatusCode)
	})
	require.Eventually(t, func() bool { return pool().waits.Load() == 1 }, testkit.Patience, time.Millisecond)
	assert.Less(t, body.n.Load(), int64(20<<20), "no more than the system's buffers hold")
	all.Wait()
	assert.Equal(t, int64(40<<20), body.n.Load())
	http.DefaultClient.CloseIdleConnections()
}

// counting counts what is read of it.
type counting struct {
	io.Reader
	n atomic.Int64
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.n.Add(int64(n))
	return n, err
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// What the files say is what is called, at the next call.
func TestFilesChange(t *testing.T) {
	s, base, _ := served(t, Config{Limits: Limits{AtOnce: 1}})
	pid := func() int {
		var got struct{ PID int }
		a := ask(t, "POST", base+"/greet", `{"name":"Ines"}`)
		require.NoError(t, json.Unmarshal([]byte(a.body), &got), a.body)
		return got.PID
	}
	first := pid()
	assert.Equal(t, first, pid(), "it stays warm")
	write := func(name, text string, mode os.FileMode) {
		require.NoError(t, os.WriteFile(filepath.Join(s.config.Dir, name), []byte(text), mode))
	}
	write("helper.py", "word = 'one'\n", 0o600)
	write("uses.py", "import helper\ndef handler(request):\n    return helper.word\n", 0o600)
	assert.Equal(t, "one", ask(t, "GET", base+"/uses", "").body)
	assert.NotEqual(t, first, pid(), "the files are others")
	write("helper.py", "word = 'other'\n", 0o600)
	assert.Equal(t, "other", ask(t, "GET", base+"/uses", "").body, "what it imports, too")
	write("uses.py", "def handler(request:\n", 0o600)
	assert.Contains(t, ask(t, "GET", base+"/uses", "").Message, "SyntaxError")
	problem := func() string {
		for _, f := range s.Overview().Functions {
			if f.Name == "uses" {
				return f.Problem
			}
		}
		return "gone"
	}
	assert.Contains(t, problem(), "SyntaxError")
	require.NoError(t, os.Remove(filepath.Join(s.config.Dir, "uses.py")))
	assert.Equal(t, 404, ask(t, "GET", base+"/uses", "").status)
	assert.Equal(t, "gone", problem())
	write("uses.sh", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n%s' fresh\n", 0o700)
	write("uses.js", "module.exports = () => 'both'\n", 0o600)
	write("two words.js", "module.exports = () => 1\n", 0o600)
	assert.Equal(t, "both", ask(t, "GET", base+"/uses", "").body, "the first by name")
	assert.Contains(t, s.Overview().Problems, "two words.js is no function, for its name: use up to 63 of the letters a-z and A-Z, digits, - and _")
	assert.Contains(t, s.Overview().Problems, "uses.js and uses.sh are both the function uses; the first is called")
	s.Close()
	require.Eventually(t, func() bool {
		table, err := proc.ReadTable()
		return err == nil && table[pidOf(s)] == nil
	}, testkit.Patience, 10*time.Millisecond, "nothing goes on")
}

// pidOf returns the process of a warm function, 0 if there is none.
func pidOf(s *Server) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.pools {
		if len(p.idle) > 0 {
			return p.idle[0].id.PID
		}
	}
	return 0
}

// What programs print can be anything.
func FuzzAnswer(f *testing.F) {
	for _, text := range []string{"Content-Type: text/plain\n\nhello", "Status: 404 Not Found\r\n\r\n", "Location: /elsewhere\n\n", "hello", "", "Status: x\n\n", "A: b\n c\n\n", "\x00\n\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		w := httptest.NewRecorder()
		if err := passOn(w, strings.NewReader(text)); err != nil {
			return
		}
		assert.GreaterOrEqual(t, w.Code, 200)
		assert.Less(t, w.Code, 600)
	})
}
