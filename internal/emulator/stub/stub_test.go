package stub

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/record/traffic"
	"neighbour/internal/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m, goleak.IgnoreCurrent()) }

type output struct {
	mu sync.Mutex
	b  strings.Builder
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.String()
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(b)
}

func served(t *testing.T, c Config) (s *Server, base string, out *output) {
	t.Helper()
	out = &output{}
	s, err := New(c, t.TempDir(), log.New(out, "", 0))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := s.Start(ctx)
	server := httptest.NewServer(s.Handler())
	t.Cleanup(func() {
		cancel()
		done()
		server.Close()
		http.DefaultClient.CloseIdleConnections()
	})
	return s, server.URL, out
}

type answer struct {
	status int
	header http.Header
	body   string
}

func (a answer) decode(t *testing.T) (v map[string]any) {
	require.NoError(t, json.Unmarshal([]byte(a.body), &v), a.body)
	return v
}

func ask(t *testing.T, method, url, body string, headers ...string) answer {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return answer{resp.StatusCode, resp.Header, strings.TrimSpace(string(b))}
}

func TestRoutes(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(root, "page.html"), []byte("<p>page"), 0o600))
	_, base, out := served(t, Config{Root: root, Routes: []Route{
		{On: "POST /charges", Calls: "3", Status: 503, Headers: map[string]string{"Retry-After": "{{.call}}"}},
		{On: "POST /charges", When: map[string]string{"body.amount": "0"}, Status: 422, Answer: "nothing to pay"},
		{On: "POST /charges", Status: 201, Answer: `{"id":"{{uuid}}","amount":{{.body.amount}},"for":{{json .body.note}},"n":{{.call}}}`, Set: map[string]string{"last": "{{.body.amount}}"}},
		{On: "GET /charges/{id}", When: map[string]string{"state.last": "*"}, Answer: `{"id":"{{.path.id}}","last":{{.state.last}},"page":"{{index .query "page"}}"}`},
		{On: "GET /charges/{id}", Status: 404},
		{On: "GET /files/{name}.{kind}", Answer: "{{.path.name}} of {{.path.kind}}"},
		{On: "GET /page", File: "page.html"},
		{On: "DELETE /charges/{id}"},
		{On: "GET /broken", Answer: "{{.body.nothing}}"},
	}})
	for i, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"GET", "/charges/7?page=2", "", 404, ""},
		{"POST", "/charges", `{"amount":12,"note":"a \"drill\""}`, 201, `"amount":12,"for":"a \"drill\"","n":1`},
		{"POST", "/charges", `{"amount":0}`, 422, "nothing to pay"},
		{"POST", "/charges", `{"amount":5,"note":null}`, 503, ""},
		{"POST", "/charges", `{"amount":6,"note":null}`, 201, `"n":4`},
		{"GET", "/charges/a%2Fb?page=2", "", 200, `{"id":"a/b","last":6,"page":"2"}`},
		{"GET", "/files/drill.manual.pdf", "", 200, "drill.manual of pdf"},
		{"GET", "/page", "", 200, "<p>page"},
		{"DELETE", "/charges/7", "", 204, ""},
		{"PUT", "/charges/7", "", 405, "the stub answers DELETE, GET /charges/7, and not PUT"},
		{"GET", "/nothing", "", 404, "the stub has no answer for GET /nothing; it has 9 routes"},
		{"GET", "/broken", "", 500, "map has no entry for key"},
	} {
		a := ask(t, c.method, base+c.path, c.body)
		assert.Equal(t, c.status, a.status, "%d %s", i, c.path)
		assert.Contains(t, a.body, c.want, "%d %s", i, c.path)
		if c.status == 503 {
			assert.Equal(t, "3", a.header.Get("Retry-After"))
		}
	}
	assert.Contains(t, out.String(), "warning: nothing answers GET /nothing")

	// What it was asked can be looked at, waited for and counted.
	got := ask(t, "GET", base+RequestsPath+"?method=POST&path=/charges&body.amount=12&count=1", "")
	assert.Equal(t, 200, got.status, got.body)
	assert.Contains(t, got.body, `"note":"a \"drill\""`)
	assert.Equal(t, 200, ask(t, "GET", base+RequestsPath+"?path=/charges*&count=8", "").status)
	none := ask(t, "GET", base+RequestsPath+"?body.amount=99&count=1&wait=20ms", "")
	assert.Equal(t, 409, none.status)
	assert.Contains(t, none.body, "there are 0 such requests, and 1 were expected")
	go func() {
		if resp, err := http.Post(base+"/charges", "application/json", strings.NewReader(`{"amount":99,"note":1}`)); err == nil {
			resp.Body.Close()
		}
	}()
	assert.Equal(t, 200, ask(t, "GET", base+RequestsPath+"?body.amount=99&count=1&wait=20s", "").status)
	assert.Equal(t, 400, ask(t, "GET", base+RequestsPath+"?count=few", "").status)
	assert.Equal(t, 204, ask(t, "POST", base+ResetPath, "").status)
	assert.Equal(t, 404, ask(t, "GET", base+"/charges/7", "").status, "what it remembered is forgotten")
	assert.Contains(t, ask(t, "GET", base+RequestsPath+"?path=/charges", "").body, `"count":0`)

	for _, c := range []Config{
		{Routes: []Route{{On: "charges"}}}, {Routes: []Route{{On: "GET /a", Answer: "{{"}}}, {Routes: []Route{{On: "GET /a", Calls: "4-2"}}}, {Routes: []Route{{On: "GET /a", Hook: "none"}}}, {Routes: []Route{{On: "get /a"}}},
	} {
		_, err := New(c, t.TempDir(), log.Default())
		assert.Error(t, err)
	}
}

// Large bodies wait for each other; small ones, and those that fit, don't wait for them.
func TestLargeBodies(t *testing.T) {
	s, base, _ := served(t, Config{Routes: []Route{{On: "POST /x", Status: 202}}})
	post := func(body io.Reader) <-chan int {
		status := make(chan int, 1)
		go func() {
			r, err := http.Post(base+"/x", "text/plain", body)
			if assert.NoError(t, err) {
				r.Body.Close()
				status <- r.StatusCode
			}
		}()
		return status
	}
	var slow []*io.PipeWriter
	var first []<-chan int
	for range maxLarge {
		r, w := io.Pipe()
		slow, first = append(slow, w), append(first, post(r))
		_, err := w.Write(make([]byte, smallBody+1))
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return len(s.large) == maxLarge }, 20*time.Second, time.Millisecond)
	waiting := post(bytes.NewReader(make([]byte, bodyLimit)))
	assert.Equal(t, 202, <-post(strings.NewReader("small")))
	select {
	case <-waiting:
		t.Error("one more was read")
	case <-time.After(100 * time.Millisecond):
	}
	for i, w := range slow {
		require.NoError(t, w.Close())
		assert.Equal(t, 202, <-first[i])
	}
	assert.Equal(t, 202, <-waiting)
	assert.Equal(t, 413, <-post(bytes.NewReader(make([]byte, bodyLimit+1))))
	require.Eventually(t, func() bool { return len(s.large) == 0 }, 20*time.Second, time.Millisecond)
}

// Answers of a document are what it allows, the same for the same seed, and requests are checked.
func TestDocument(t *testing.T) {
	config := Config{OpenAPI: "testdata/payments.yaml", Root: "testdata", Seed: 3}
	s, base, _ := served(t, config)
	key := []string{"Idempotency-Key", "abcd"}
	made := ask(t, "POST", base+"/v1/charges", `{"amount":5,"currency":"EUR"}`, key...)
	require.Equal(t, 201, made.status, made.body)
	assert.Equal(t, "5", made.header.Get("X-Left"))
	charge := made.decode(t)
	assert.NotContains(t, charge, "secret")
	assert.Equal(t, made.body, ask(t, "POST", base+"/charges", `{"amount":5,"currency":"EUR"}`, key...).body, "the same again")
	_, other, _ := served(t, Config{OpenAPI: "testdata/payments.yaml", Root: "testdata", Seed: 4})
	assert.NotEqual(t, made.body, ask(t, "POST", other+"/charges", `{"amount":5,"currency":"EUR"}`, key...).body)
	assert.Equal(t, "ch_7", ask(t, "GET", base+"/charges/ch_7", "").decode(t)["id"])
	assert.NotEqual(t, ask(t, "GET", base+"/charges/ch_7", "").decode(t)["reference"], ask(t, "GET", base+"/charges/ch_8", "").decode(t)["reference"])
	assert.Equal(t, 204, ask(t, "POST", base+"/charges/ch_7:refund", "").status)
	assert.Equal(t, `{"name":"Ines Brandt"}`, ask(t, "GET", base+"/people/7", "").body)
	assert.Equal(t, 200, ask(t, "GET", base+"/tree", "").status)
	endless := ask(t, "GET", base+"/endless", "")
	assert.Equal(t, 501, endless.status)
	assert.Contains(t, endless.body, "it needs itself without an end")
	for body, want := range map[string]string{
		`{"amount":0,"currency":"EUR"}`: "at amount: number must be at least 1", `{"currency":"USD","amount":1}`: "at currency", `{}`: `property \"amount\" is missing`, `x`: "the body", "": "the body",
	} {
		a := ask(t, "POST", base+"/charges", body, key...)
		assert.Equal(t, 400, a.status)
		assert.Equal(t, "application/problem+json", a.header.Get("Content-Type"))
		assert.Contains(t, a.body, want, body)
	}
	assert.Contains(t, ask(t, "POST", base+"/charges", `{"amount":5,"currency":"EUR"}`).body, "header parameter Idempotency-Key")
	assert.Contains(t, ask(t, "GET", base+"/charges?limit=1000", "").body, "query parameter limit")
	assert.Contains(t, ask(t, "GET", base+"/people/x", "").body, "path parameter n")
	assert.Equal(t, 405, ask(t, "PATCH", base+"/charges", "").status)
	s.config.Lax = true
	lax := ask(t, "GET", base+"/charges?limit=1000", "")
	assert.Equal(t, 200, lax.status)
	assert.Equal(t, "1", lax.header.Get("Neighbour-Violations"))

	// All that is made is what its schema allows.
	doc, err := openapi3.NewLoader().LoadFromFile("testdata/payments.yaml")
	require.NoError(t, err)
	for seed := range int64(200) {
		for _, name := range []string{"Charge", "Person", "Node"} {
			schema := doc.Components.Schemas[name]
			v, ok := newMaker(seed, name).value(schema, "")
			require.True(t, ok)
			b, err := json.Marshal(v)
			require.NoError(t, err)
			var plain any
			require.NoError(t, json.Unmarshal(b, &plain))
			require.NoError(t, schema.Value.VisitJSON(plain, openapi3.VisitAsResponse()), string(b))
		}
	}
}

func TestDocumentsThatAreWrong(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(t.TempDir(), "outside.yaml"), []byte("a: 1"), 0o600))
	for text, why := range map[string]string{
		"hello":                               "",
		"openapi: 3.0.0\npaths: {":            "",
		"swagger: '2.0'\ninfo: {}\npaths: {}": "no OpenAPI 3 document",
		"openapi: 3.0.0\ninfo: {title: a, version: '1'}\npaths:\n  /a: { $ref: 'https://example.org/a.yaml' }": "only files of the project are read",
		"openapi: 3.0.0\ninfo: {title: a, version: '1'}\npaths:\n  /a: { $ref: '/etc/passwd' }":                "outside of the project",
	} {
		file := filepath.Join(dir, "api.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := load(file, dir)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), why)
	}
	var b strings.Builder
	b.WriteString("openapi: 3.0.0\ninfo: {title: many, version: '1'}\npaths:\n")
	for i := range 3000 {
		fmt.Fprintf(&b, "  /thing%d/{id}:\n    get: { parameters: [{name: id, in: path, required: true, schema: {type: string}}], responses: { '200': { description: ok, content: { application/json: { schema: { type: object, properties: { id: { type: string } } } } } } } }\n", i)
	}
	file := filepath.Join(dir, "many.yaml")
	require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
	assert.Equal(t, "maximum: got 9, want 7, at '/a': wrong", plain("jsonschema validation failed with 'https://example.com/schema.json#'\n- at '': maximum: got 9, want 7\n- at '/a': wrong"))
	_, base, _ := served(t, Config{OpenAPI: file, Root: dir})
	assert.Equal(t, `{"id":"7"}`, ask(t, "GET", base+"/thing2999/7", "").body)
}

// Secrets that stand in a path are in no recording, nor in its name; names of things tell apart.
func TestSecretsInPaths(t *testing.T) {
	t.Parallel()
	key := func(address string, secrets ...string) (shown, key string) {
		u, err := url.Parse(address)
		require.NoError(t, err)
		return plainPath(u, secrets)
	}
	for address, want := range map[string]string{
		"/bot110201543:AAHdqTcvCH1vGWJxfSeofSAs0K5PALDsaw/sendMessage": "/botstruck-out/sendMessage",
		"/services/T00000000/B00000000/XqK4bYz81LmNoPq2RsTuVwXy":       "/services/T00000000/B00000000/struck-out",
		"/v1/token/4f5e6d7c":                          "/v1/token/struck-out",
		"/v1/charges/ch_3MmlLrLkdIwHu7ix0snN0B15":     "/v1/charges/ch_3MmlLrLkdIwHu7ix0snN0B15",
		"/v1/sk_live_x/sk_3MmlLrLkdIwHu7ix0snN0B":     "/v1/sk_live_x/struck-out",
		"/tools/9b2e4a9e-9f7b-4c56-8f6e-6ad1c2f1a3b4": "/tools/9b2e4a9e-9f7b-4c56-8f6e-6ad1c2f1a3b4",
		"/sessions/123456?key=hunter2":                "/sessions/123456?key=struck+out",
	} {
		shown, _ := key(address)
		assert.Equal(t, want, shown)
	}
	shown, own := key("/v1/hunter22/x", "hunter22")
	assert.Equal(t, "/v1/struck-out/x", shown)
	assert.Equal(t, shown, own)
	_, one := key("/files/XqK4bYz81LmNoPq2RsTuVwXy")
	_, other := key("/files/ZqK4bYz81LmNoPq2RsTuVwXy")
	assert.NotEqual(t, one, other, "it may be the name of a thing")
	assert.NotContains(t, one, "XqK4")
	_, one = key("/bot110201543:AAHdqTcvCH1vGWJxfSeofSAs0K5PALDsaw/sendMessage")
	_, other = key("/bot110201543:BBHdqTcvCH1vGWJxfSeofSAs0K5PALDsaw/sendMessage")
	assert.Equal(t, one, other, "a teammate has another")
}

// What the real API answered once is answered again without it, and no secret is kept.
func TestRecording(t *testing.T) {
	var asked atomic.Int32
	real := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		assert.Equal(t, "Bearer s3cret", r.Header.Get("Authorization"))
		switch r.URL.Path {
		case "/v1/broken":
			w.WriteHeader(502)
			return
		case "/v1/picture":
			w.Header().Set("Content-Type", "image/png")
			_, _ = w.Write([]byte{0x89, 'P', 0, 1})
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Set-Cookie", "session=abc")
		w.Header().Set("ETag", `"7"`)
		w.WriteHeader(201)
		b, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, `{"n": 12345678901234567890, "access_token": "t0ken", "echo": %q, "asked": %q}`, b, r.URL.String()+r.Header.Get("Authorization"))
	}))
	dir := filepath.Join(t.TempDir(), "stubs", "payments")
	_, base, _ := served(t, Config{Record: real.URL + "/v1", Recordings: dir})
	auth := []string{"Authorization", "Bearer s3cret"}
	first := ask(t, "POST", base+"/charges?b=2&a=1&api_key=k3y+k3y", `{"amount":5,"password":"p4ssw0rd"}`, auth...)
	assert.Equal(t, 201, first.status)
	assert.Contains(t, first.body, "t0ken", "who asks gets all")
	assert.Equal(t, 201, ask(t, "POST", base+"/charges?a=1&b=2&api_key=other", `{"password":"changed","amount":5}`, auth...).status)
	assert.EqualValues(t, 1, asked.Load(), "it is the same request")
	assert.Equal(t, 201, ask(t, "POST", base+"/charges", `{"amount":6}`, auth...).status)
	assert.Equal(t, 502, ask(t, "GET", base+"/broken", "", auth...).status)
	picture := ask(t, "GET", base+"/picture", "", auth...)
	files, err := filepath.Glob(filepath.Join(dir, "*.json"))
	require.NoError(t, err)
	assert.Len(t, files, 3, "what failed is not kept")
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, secret := range []string{"s3cret", "t0ken", "p4ssw0rd", "k3y k3y", "k3y+k3y", "session=abc"} {
			assert.NotContains(t, string(b), secret, f)
		}
	}
	real.Close()
	// Without the real one.
	_, again, _ := served(t, Config{Recordings: dir})
	got := ask(t, "POST", again+"/charges?b=2&a=1&api_key=any", `{"amount":5,"password":""}`)
	assert.Equal(t, 201, got.status)
	assert.Contains(t, got.body, `"n":12345678901234567890`)
	assert.Contains(t, got.body, `"access_token":"struck out"`)
	assert.Equal(t, `"7"`, got.header.Get("ETag"))
	assert.Empty(t, got.header.Get("Set-Cookie"))
	assert.Equal(t, picture.body, ask(t, "GET", again+"/picture", "").body)
	assert.Equal(t, 404, ask(t, "POST", again+"/charges", `{"amount":7}`).status)
	_, offline, _ := served(t, Config{Recordings: dir, Record: real.URL, Offline: "the project is offline"})
	a := ask(t, "GET", offline+"/new", "")
	assert.Equal(t, 502, a.status)
	assert.Contains(t, a.body, "it is not recorded, and the project is offline")
	_, gone, _ := served(t, Config{Recordings: dir, Record: real.URL})
	assert.Contains(t, ask(t, "GET", gone+"/new", "").body, "does not answer")
	require.NoError(t, os.WriteFile(files[0], []byte("{"), 0o600))
	assert.NotPanics(t, func() { ask(t, "POST", again+"/charges", `{"amount":6}`) })
}

// Webhooks arrive signed, are tried again, and can be sent by hand.
func TestWebhooks(t *testing.T) {
	var failing atomic.Int32
	failing.Store(1)
	type got struct {
		header http.Header
		body   string
	}
	came := make(chan got, 10)
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		if failing.Add(-1) >= 0 {
			w.WriteHeader(503)
			return
		}
		came <- got{r.Header, string(b)}
	}))
	defer app.Close()
	const secret = "whsec_c2VjcmV0"
	s, base, out := served(t, Config{Secret: secret,
		Routes: []Route{{On: "POST /charges", Status: 201, Answer: `{"id":"ch_1","amount":{{.body.amount}}}`}, {On: "POST /refunds", Status: 202, Answer: "{}", Hook: "plain"}, {On: "POST /bad", Status: 400}},
		Hooks: map[string]Hook{
			"paid":  {To: app.URL + "/hooks", After: "POST /charges", Body: `{"type":"paid","charge":{{json .answer}},"for":{{.body.amount}}}`},
			"plain": {To: app.URL + "/plain", Header: "X-Signature", Sign: "t={{.timestamp}},v1={{.stamped_hex}}", Tries: 1},
			"never": {To: app.URL + "/never", After: "POST /bad"},
			"gone":  {To: "http://127.0.0.1:1/", Tries: 1},
		}})
	assert.Equal(t, 201, ask(t, "POST", base+"/charges", `{"amount":12}`, "X-Request-Id", "a-way").status)
	assert.Equal(t, 400, ask(t, "POST", base+"/bad", "").status)
	first := <-came
	assert.Equal(t, `{"type":"paid","charge":{"amount":12,"id":"ch_1"},"for":12}`, first.body)
	h := first.header
	assert.Equal(t, "a-way", h.Get("X-Request-Id"))
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	require.NoError(t, err)
	assert.Equal(t, "v1,"+base64.StdEncoding.EncodeToString(mac(key, h.Get("webhook-id")+"."+h.Get("webhook-timestamp")+"."+first.body)), h.Get("webhook-signature"))
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "webhook paid arrived") }, testkit.Patience, time.Millisecond)
	assert.Contains(t, out.String(), "warning: webhook paid: it answered 503 Service Unavailable; it is tried again")
	assert.Equal(t, 202, ask(t, "POST", base+"/refunds", `{}`).status)
	second := <-came
	assert.Regexp(t, `^t=\d+,v1=[0-9a-f]{64}$`, second.header.Get("X-Signature"))
	assert.Equal(t, 202, ask(t, "POST", base+hooksPath+"/paid/send", `{"answer":{"id":"by hand"},"body":{"amount":1}}`).status)
	assert.Contains(t, (<-came).body, "by hand")
	assert.Equal(t, 404, ask(t, "POST", base+hooksPath+"/nix/send", "").status)
	assert.Equal(t, 422, ask(t, "POST", base+hooksPath+"/paid/send", "").status, "the template is not filled in")
	assert.Equal(t, 202, ask(t, "POST", base+hooksPath+"/gone/send", "{}").status)
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "webhook gone is put aside after 1 tries") }, testkit.Patience, time.Millisecond)
	find := func(filter string) []traffic.Exchange {
		f, err := traffic.ParseFilter(filter)
		require.NoError(t, err)
		return s.Calls.List("", f, 0, 100)
	}
	aside := find("webhook aside")
	require.Len(t, aside, 1)
	assert.Equal(t, traffic.Webhook, aside[0].What)
	assert.True(t, aside[0].Failed())
	assert.Equal(t, 200, ask(t, "POST", fmt.Sprintf("%s%s/%d/drop", base, traffic.Path, aside[0].ID), "").status)
	assert.Empty(t, find("webhook aside"))
	var done []traffic.Exchange
	require.Eventually(t, func() bool { done = find("webhook paid done"); return len(done) == 2 }, testkit.Patience, time.Millisecond)
	assert.Equal(t, 2, done[1].Tries)
	assert.Equal(t, 200, ask(t, "POST", fmt.Sprintf("%s%s/%d/retry", base, traffic.Path, done[1].ID), "").status)
	assert.Equal(t, first.body, (<-came).body, "the same again")
	select {
	case g := <-came:
		assert.Fail(t, "this came, too", g.body)
	case <-time.After(20 * time.Millisecond):
	}
}

func FuzzPaths(f *testing.F) {
	f.Add("/a/{b}.{c}", "/a/x.y")
	f.Add("/{a}/{a}", "//")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		if CheckOn("GET "+pattern) != nil {
			return
		}
		var p paths[int]
		p.add("GET", pattern, 1)
		p.add("GET", "/other/{x}", 2)
		_, _, _, _ = p.find("GET", path)
	})
}

func FuzzDocument(f *testing.F) {
	b, err := os.ReadFile("testdata/payments.yaml")
	require.NoError(f, err)
	f.Add(string(b))
	f.Add("openapi: 3.1.0\ninfo: {title: a, version: '1'}\npaths: {/a: {get: {responses: {'200': {description: a, content: {application/json: {schema: {type: [string, 'null']}}}}}}}}")
	f.Fuzz(func(t *testing.T, text string) {
		dir := t.TempDir()
		file := filepath.Join(dir, "api.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		d, err := load(file, dir)
		if err != nil {
			return
		}
		for path, item := range d.spec.Paths.Map() {
			for method := range item.Operations() {
				r := httptest.NewRequest(http.MethodGet, "http://localhost/", nil)
				r.Method = method
				if op, params, _, ok := d.operations.find(method, path); ok {
					d.violations(r, op, params, nil)
					_, _, _, _ = d.answer(r, op, params, 1)
				}
			}
		}
	})
}
