package proxy

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"net/textproto"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/record/traffic"
	"neighbour/internal/testkit"
)

func TestMain(m *testing.M) {
	goleak.VerifyTestMain(m, goleak.IgnoreTopFunction("internal/poll.runtime_pollWait"))
}

// world is a gate with a service behind it.
type world struct {
	*testing.T
	gate  *Gate
	front *httptest.Server
}

// behind starts a gate before a handler.
func behind(t *testing.T, h http.HandlerFunc) *world {
	up := httptest.NewServer(h)
	t.Cleanup(up.Close)
	u, err := url.Parse(up.URL)
	require.NoError(t, err)
	return before(t, u)
}

// before starts a gate before an address.
func before(t *testing.T, u *url.URL) *world {
	below := *u
	below.Path = "/inbox/"
	story := func(context.Context) Story {
		return Story{State: "starting", Why: "It waits for ledger.", Waits: []string{"ledger: Starting"}, Lines: []string{"<b>warming up</b>"}}
	}
	g := leading(map[string]*Target{
		"shed.localhost":       {Project: "shed", Dir: "/shed", Service: "web", URL: u, Ready: true, KeepHost: true, Story: story},
		"*.shed.localhost":     {Project: "shed", Dir: "/shed", Service: "web", URL: u, Ready: true, KeepHost: true},
		"shed.localhost/mail":  {Project: "shed", Dir: "/shed", Service: "postbox", URL: &below, Ready: true, Strip: "/mail"},
		"safe.shed.localhost":  {Project: "shed", Dir: "/shed", Service: "web", URL: u, Ready: true, HTTPSOnly: true},
		"later.shed.localhost": {Project: "shed", Dir: "/shed", Service: "web", URL: u, Story: story},
		"gone.shed.localhost":  {Project: "shed", Dir: "/shed", Service: "web", URL: &url.URL{Scheme: "http", Host: "127.0.0.1:1"}, Ready: true, Story: story},
	})
	front := httptest.NewServer(g)
	t.Cleanup(front.Close)
	return &world{t, g, front}
}

// ask sends a request to a name, and returns the answer with its body.
func (w *world) ask(method, address, body string, headers ...string) (*http.Response, string) {
	w.Helper()
	host, path, _ := strings.Cut(address, "/")
	req, err := http.NewRequest(method, w.front.URL+"/"+path, strings.NewReader(body))
	require.NoError(w, err)
	req.Host = host
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	c := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := c.Do(req)
	require.NoError(w, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(w, err)
	return resp, string(b)
}

// passed returns the newest of what passed, once it has ended.
func (w *world) passed() *traffic.Full {
	w.Helper()
	var id int64
	require.Eventually(w, func() bool {
		all := w.gate.Log.List("/shed", traffic.Filter{}, 0, 1)
		if len(all) == 0 || all[0].Open {
			return false
		}
		id = all[0].ID
		return true
	}, testkit.Patience, time.Millisecond)
	return w.gate.Log.Get("/shed", id)
}

func echo(w http.ResponseWriter, r *http.Request) {
	b, _ := io.ReadAll(r.Body)
	http.SetCookie(w, &http.Cookie{Name: "session", Value: "s3"})
	if r.URL.Path == "/moved" {
		http.Redirect(w, r, "http://elsewhere.example.org/x", http.StatusSeeOther)
		return
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"method": r.Method, "uri": r.RequestURI, "host": r.Host, "body": string(b), "header": r.Header})
}

// What a service gets of a request, and whoever asked of its answer.
func TestRequestsArePassedOn(t *testing.T) {
	w := behind(t, echo)
	for address, want := range map[string]struct{ uri, host, prefix string }{
		"shed.localhost/tools?q=a%20b&q=%2F": {uri: "/tools?q=a%20b&q=%2F", host: "shed.localhost"},
		"SHED.localhost:8080/":               {uri: "/", host: "SHED.localhost:8080"},
		"ines.shed.localhost/a%2Fb":          {uri: "/a%2Fb", host: "ines.shed.localhost"},
		"shed.localhost/mail":                {uri: "/inbox", prefix: "/mail"},
		"shed.localhost/mail/a%2Fb?x=1":      {uri: "/inbox/a%2Fb?x=1", prefix: "/mail"},
		"shed.localhost/mailing":             {uri: "/mailing", host: "shed.localhost"},
	} {
		resp, body := w.ask("PUT", address, "hello", "X-Forwarded-For", "1.2.3.4", "X-Forwarded-Host", "evil.example.org", "Connection", "X-Gone", "X-Gone", "1")
		require.Equal(t, 200, resp.StatusCode, address)
		var got struct {
			Method, URI, Host, Body string
			Header                  http.Header
		}
		require.NoError(t, json.Unmarshal([]byte(body), &got))
		assert.Equal(t, "PUT hello "+want.uri, got.Method+" "+got.Body+" "+got.URI, address)
		if want.host != "" {
			assert.Equal(t, want.host, got.Host)
		}
		assert.Equal(t, want.prefix, got.Header.Get("X-Forwarded-Prefix"), address)
		host, _, _ := strings.Cut(address, "/")
		assert.Equal(t, "127.0.0.1", got.Header.Get("X-Forwarded-For"))
		assert.Equal(t, host, got.Header.Get("X-Forwarded-Host"))
		assert.Equal(t, "http", got.Header.Get("X-Forwarded-Proto"))
		assert.Contains(t, got.Header.Get("Forwarded"), "for=127.0.0.1;host=")
		assert.Empty(t, got.Header.Get("X-Gone"))
		assert.Len(t, got.Header.Get("X-Request-Id"), 24)
		f := w.passed()
		assert.Equal(t, got.Header.Get("X-Request-Id"), f.Trace)
		assert.Equal(t, "hello", string(f.Request.Data))
		assert.Equal(t, body, string(f.Response.Data))
		assert.EqualValues(t, len(body), f.Received)
		assert.Positive(t, f.AnsweredMS)
	}
	resp, _ := w.ask("GET", "shed.localhost/moved", "", "Traceparent", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
	assert.Equal(t, "http://elsewhere.example.org/x", resp.Header.Get("Location"), "redirects are the service's")
	assert.Equal(t, "session=s3", resp.Header.Get("Set-Cookie"))
	assert.Equal(t, "4bf92f3577b34da6a3ce929d0e0e4736", w.passed().Trace)

	resp, _ = w.ask("GET", "safe.shed.localhost/x?y=1", "")
	assert.Equal(t, http.StatusTemporaryRedirect, resp.StatusCode)
	assert.Equal(t, "https://safe.shed.localhost/x?y=1", resp.Header.Get("Location"))
}

// A redirect to the same host and port goes there by TLS again, whatever the service takes itself to
// be reached by; any other is the service's.
func TestRedirectsOfServicesThatDoNotKnowTLS(t *testing.T) {
	for to, want := range map[string]string{
		"http://shed.localhost:8443/docs/":  "https://shed.localhost:8443/docs/",
		"http://shed.localhost:8443":        "https://shed.localhost:8443",
		"https://shed.localhost:8443/docs/": "https://shed.localhost:8443/docs/",
		"http://shed.localhost:84431/":      "http://shed.localhost:84431/",
		"http://shed.localhost:8080/":       "http://shed.localhost:8080/",
		"http://shed.localhost/":            "http://shed.localhost/",
		"/docs/":                            "/docs/",
	} {
		w := behind(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Location", to)
			w.WriteHeader(http.StatusMovedPermanently)
		})
		r := httptest.NewRequest("GET", "https://shed.localhost:8443/docs", nil)
		r.Host, r.RemoteAddr = "shed.localhost:8443", "127.0.0.1:1"
		out := httptest.NewRecorder()
		w.gate.ServeHTTP(out, r)
		assert.Equal(t, want, out.Header().Get("Location"))
	}
}

// Who comes by a name that leads nowhere learns nothing, unless it is one of this machine.
func TestNamesThatLeadNowhere(t *testing.T) {
	w := behind(t, echo)
	for host, want := range map[string]struct {
		code int
		says string
	}{
		"rebound.example.org": {421, "This name leads nowhere here."},
		"93.184.216.34":       {421, "This name leads nowhere here."},
		"shed.localhost.evil": {421, "This name leads nowhere here."},
		"nobody.localhost":    {404, "https://shed.localhost/mail"},
		"localhost:8080":      {404, "https://shed.localhost"},
		"127.0.0.1":           {404, "https://shed.localhost"},
		"[::1]:443":           {404, "https://shed.localhost"},
		"a..b":                {400, "names no host"},
		"shed.localhost:x":    {400, "names no host"},
	} {
		conn, err := net.Dial("tcp", w.front.Listener.Addr().String())
		require.NoError(t, err)
		fmt.Fprintf(conn, "GET / HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", host)
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err, host)
		b, _ := io.ReadAll(resp.Body)
		conn.Close()
		if resp.Header.Get(stateHeader) != "" { // net/http refuses some by itself
			assert.Contains(t, string(b), want.says, host)
		}
		assert.Equal(t, want.code, resp.StatusCode, host)
	}
	assert.Empty(t, w.gate.Log.List("/shed", traffic.Filter{}, 0, 9))
}

// While a service isn't ready, people get a page that says why, machines get JSON.
func TestWaiting(t *testing.T) {
	w := behind(t, echo)
	for _, host := range []string{"later.shed.localhost", "gone.shed.localhost"} {
		resp, body := w.ask("GET", host+"/x", "", "Accept", "text/html,application/xhtml+xml")
		assert.Equal(t, 503, resp.StatusCode)
		assert.Equal(t, "1", resp.Header.Get("Retry-After"))
		for _, part := range []string{"web is starting", "It waits for ledger.", "ledger: Starting", "&lt;b&gt;warming up&lt;/b&gt;", "<script>", "http-equiv=\"refresh\""} {
			assert.Contains(t, body, part, host)
		}
		assert.NotContains(t, body, "<b>warming")
		resp, body = w.ask("POST", host+"/x", "{}", "Accept", "text/html")
		assert.Equal(t, 503, resp.StatusCode)
		assert.Contains(t, body, "has not been passed on")
		assert.NotContains(t, body, "<script>", "what was sent is not sent again")
		resp, body = w.ask("GET", host+"/x", "", "Accept", "*/*")
		assert.Equal(t, 503, resp.StatusCode)
		assert.Equal(t, "application/json", resp.Header.Get("Content-Type"))
		assert.Contains(t, body, `"service":"web"`)
		assert.True(t, w.passed().Waiting)
	}
	_, body := w.ask("GET", "later.shed.localhost/x", "", waitingHeader, "1")
	assert.Contains(t, body, `"ready":false`)
	_, body = w.ask("GET", "shed.localhost/x", "", waitingHeader, "1")
	assert.JSONEq(t, `{"ready":true}`, body, "the service isn't asked")
}

// raw starts a service that answers each connection with bytes, and then closes it.
func raw(t *testing.T, answer func(net.Conn)) *world {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				// All of the request is read: who still writes when the answer comes
				// may be told of that instead.
				if req, err := http.ReadRequest(bufio.NewReader(c)); err == nil {
					_, _ = io.Copy(io.Discard, req.Body)
				}
				answer(c)
				_ = c.(*net.TCPConn).CloseWrite()
				_, _ = io.Copy(io.Discard, c) // so that it isn't reset
			}()
		}
	}()
	return before(t, &url.URL{Scheme: "http", Host: l.Addr().String()})
}

// A service that answers wrongly is told by name; the gate goes on.
func TestServicesThatAnswerWrongly(t *testing.T) {
	for name, c := range map[string]struct {
		answer string
		says   string
	}{
		"garbage":       {"SSH-2.0-x\r\n\r\n", "what it answered is not HTTP"},
		"nothing":       {"", "its connection broke before an answer came"},
		"half a header": {"HTTP/1.1 200 OK\r\nX: y\r\n", "its connection broke"},
		"a header bomb": {"HTTP/1.1 200 OK\r\n" + strings.Repeat("X-A: "+strings.Repeat("a", 1000)+"\r\n", 1100) + "\r\n", "larger than 1 MB"},
		"unasked":       {"HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\nConnection: Upgrade\r\n\r\n", "not HTTP"},
	} {
		t.Run(name, func(t *testing.T) {
			w := raw(t, func(conn net.Conn) { _, _ = io.WriteString(conn, c.answer) })
			for _, method := range []string{"GET", "POST"} {
				if method == "POST" && name == "unasked" {
					continue
				}
				body := map[string]string{"POST": "x"}[method]
				resp, text := w.ask(method, "shed.localhost/x", body, "Accept", "text/html")
				assert.Equal(t, 502, resp.StatusCode)
				assert.Contains(t, text, "web gave no answer")
				assert.Contains(t, text, c.says, method)
				assert.Equal(t, 502, w.passed().Status)
			}
		})
	}
	w := raw(t, func(c net.Conn) { _, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf") })
	req, _ := http.NewRequest("GET", w.front.URL, nil)
	req.Host = "shed.localhost"
	resp, err := http.DefaultClient.Do(req)
	if err == nil {
		_, err = io.ReadAll(resp.Body)
		resp.Body.Close()
	}
	assert.Error(t, err, "half an answer is not passed on as a whole one")
	assert.Equal(t, "the answer broke off", w.passed().Problem)
}

// Two requests in one, by lengths that contradict each other, never reach a service as two
// (RFC 9112, section 6.3).
func TestSmuggling(t *testing.T) {
	var came atomic.Int32
	w := behind(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/smuggled" {
			came.Add(1)
		}
		echo(w, r)
	})
	for _, text := range []string{
		"POST / HTTP/1.1\r\nHost: shed.localhost\r\nContent-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\nGET /smuggled HTTP/1.1\r\nHost: other\r\n\r\n",
		"POST / HTTP/1.1\r\nHost: shed.localhost\r\nContent-Length: 4\r\nContent-Length: 5\r\n\r\nabcdeGET /smuggled HTTP/1.1\r\n\r\n",
		"POST / HTTP/1.1\r\nHost: shed.localhost\r\nTransfer-Encoding: xchunked\r\n\r\n0\r\n\r\nGET /smuggled HTTP/1.1\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: shed.localhost\r\nHost: other\r\n\r\n",
		"GET / HTTP/1.1\r\nHost: shed.localhost\r\nX: a\r\n b: c\r\nContent-Length : 3\r\n\r\n",
	} {
		conn, err := net.Dial("tcp", w.front.Listener.Addr().String())
		require.NoError(t, err)
		_, _ = io.WriteString(conn, text)
		_ = conn.(*net.TCPConn).CloseWrite()
		_, _ = io.ReadAll(conn)
		conn.Close()
	}
	assert.Zero(t, came.Load())
}

// What is between a client and the gate only goes no further: an upgrade to HTTP/2, which some
// servers never answer, and the wish for a proxy.
func TestNotPassedOn(t *testing.T) {
	w := behind(t, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, r.Header.Get("Upgrade")+r.Header.Get("Connection")+r.Header.Get("HTTP2-Settings")+".")
	})
	ask := func(text string) *http.Response {
		conn, err := net.Dial("tcp", w.front.Listener.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { conn.Close() })
		_, err = io.WriteString(conn, text)
		require.NoError(t, err)
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err)
		return resp
	}
	resp := ask("GET / HTTP/1.1\r\nHost: shed.localhost\r\nConnection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: AAMAAABkAAQAAP__\r\n\r\n")
	b := make([]byte, 10)
	n, _ := io.ReadFull(resp.Body, b)
	assert.Equal(t, ".", string(b[:n]))
	assert.Equal(t, http.StatusMethodNotAllowed, ask("CONNECT shed.localhost:443 HTTP/1.1\r\nHost: shed.localhost:443\r\n\r\n").StatusCode)
}

// Events reach whoever asked as they come, and large bodies pass whole in either direction.
func TestStreams(t *testing.T) {
	next := make(chan struct{})
	w := behind(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/events":
			w.Header().Set("Content-Type", "text/event-stream")
			for i := range 3 {
				fmt.Fprintf(w, "data: %d\n\n", i)
				_ = http.NewResponseController(w).Flush()
				<-next
			}
		case "/sum":
			h := sha256.New()
			n, _ := io.Copy(h, r.Body)
			fmt.Fprintf(w, "%d %x", n, h.Sum(nil))
		default:
			_, _ = io.Copy(w, r.Body)
		}
	})
	req, _ := http.NewRequest("GET", w.front.URL+"/events", nil)
	req.Host = "shed.localhost"
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	in := bufio.NewReader(resp.Body)
	for i := range 3 {
		line, err := in.ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("data: %d\n", i), line)
		_, _ = in.ReadString('\n')
		next <- struct{}{}
	}
	resp.Body.Close()

	large := make([]byte, 20<<20)
	_, _ = rand.Read(large)
	_, got := w.ask("PUT", "shed.localhost/sum", string(large))
	assert.Equal(t, fmt.Sprintf("%d %x", len(large), sha256.Sum256(large)), got)
	f := w.passed()
	assert.EqualValues(t, len(large), f.Sent)
	assert.Len(t, f.Request.Data, traffic.BodyLimit)
	assert.True(t, f.Request.Cut)
	_, got = w.ask("PUT", "shed.localhost/back", string(large))
	assert.True(t, got == string(large))
	assert.True(t, w.passed().Response.Cut)
}

// A connection that becomes something else passes both ways until one side ends it.
func TestUpgrades(t *testing.T) {
	w := behind(t, func(w http.ResponseWriter, r *http.Request) {
		conn, rw, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		fmt.Fprint(rw, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n")
		_ = rw.Flush()
		_, _ = io.Copy(conn, rw)
	})
	conn, err := net.Dial("tcp", w.front.Listener.Addr().String())
	require.NoError(t, err)
	fmt.Fprint(conn, "GET /live HTTP/1.1\r\nHost: shed.localhost\r\nConnection: Upgrade\r\nUpgrade: echo\r\n\r\n")
	in := bufio.NewReader(conn)
	resp, err := http.ReadResponse(in, nil)
	require.NoError(t, err)
	require.Equal(t, 101, resp.StatusCode)
	for _, text := range []string{"one", strings.Repeat("x", 100_000)} {
		go func() { _, _ = io.WriteString(conn, text) }()
		got := make([]byte, len(text))
		_, err := io.ReadFull(in, got)
		require.NoError(t, err)
		assert.True(t, bytes.Equal([]byte(text), got))
	}
	open := w.gate.Log.List("/shed", traffic.Filter{}, 0, 1)[0]
	assert.True(t, open.Open)
	assert.Equal(t, "echo", open.Upgrade)
	conn.Close()
	f := w.passed()
	assert.EqualValues(t, 100_003, f.Sent)
	assert.EqualValues(t, 100_003, f.Received)
}

// A connection that the service has closed meanwhile fails no request that may be sent twice,
// and who goes away frees the service.
func TestConnectionsThatEnd(t *testing.T) {
	var served atomic.Int32
	left := make(chan struct{}, 1)
	up := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		served.Add(1)
		if r.URL.Path == "/slow" {
			<-r.Context().Done()
			left <- struct{}{}
			return
		}
		_, _ = io.WriteString(w, "ok")
	}))
	up.Start()
	defer up.Close()
	u, _ := url.Parse(up.URL)
	w := before(t, u)
	for range 20 {
		_, body := w.ask("GET", "shed.localhost/", "")
		require.Equal(t, "ok", body)
		up.CloseClientConnections()
	}
	assert.EqualValues(t, 20, served.Load(), "each was carried out once")

	ctx, cancel := context.WithCancel(context.Background())
	req, _ := http.NewRequestWithContext(ctx, "GET", w.front.URL+"/slow", nil)
	req.Host = "shed.localhost"
	go func() {
		for served.Load() < 21 {
			time.Sleep(time.Millisecond)
		}
		cancel()
	}()
	_, err := http.DefaultClient.Do(req)
	require.Error(t, err)
	<-left
	assert.Equal(t, "who asked did not wait for the answer", w.passed().Problem)
}

// Connections to services are used again by the rules: what comes late on one is nobody's
// answer, one that was closed meanwhile fails no request, and news before an answer (RFC
// 9110, section 15.2) are passed on.
func TestConnectionsAreUsedAgain(t *testing.T) {
	up, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { up.Close() })
	closed := make(chan bool, 100)
	go func() {
		for {
			conn, err := up.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				in := bufio.NewReader(conn)
				for {
					r, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					fmt.Fprintf(conn, "HTTP/1.1 103 Early Hints\r\nLink: <%[1]s.css>\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: %[2]d\r\n\r\n%[1]s", r.URL.Path, len(r.URL.Path))
					switch r.URL.Query().Get("then") {
					case "late":
						fmt.Fprint(conn, "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nother")
						_, err := in.Peek(1)
						closed <- err != nil
					case "close":
						return
					}
				}
			}()
		}
	}()
	u, _ := url.Parse("http://" + up.Addr().String())
	front := httptest.NewServer(leading(map[string]*Target{"shed.localhost": {Project: "shed", Service: "web", URL: u, Ready: true, KeepHost: true}}))
	t.Cleanup(front.Close)
	for _, then := range []string{"", "late", "close"} {
		for _, method := range []string{"GET", "DELETE", "POST"} {
			if method == "POST" && then == "close" {
				continue // nobody may send it twice
			}
			for i := range 5 {
				path := fmt.Sprintf("/%s%d", strings.ToLower(method), i)
				hints := ""
				ctx := httptrace.WithClientTrace(t.Context(), &httptrace.ClientTrace{Got1xxResponse: func(code int, h textproto.MIMEHeader) error {
					hints += fmt.Sprint(code, h.Get("Link"))
					return nil
				}})
				req, err := http.NewRequestWithContext(ctx, method, front.URL+path+"?then="+then, nil)
				require.NoError(t, err)
				req.Host = "shed.localhost"
				resp, err := http.DefaultClient.Do(req)
				require.NoError(t, err)
				body, err := io.ReadAll(resp.Body)
				resp.Body.Close()
				require.NoError(t, err)
				assert.Equal(t, path, string(body), "%s %s", method, then)
				assert.Equal(t, 200, resp.StatusCode)
				assert.Equal(t, "103<"+path+".css>", hints)
				if then == "late" {
					assert.True(t, <-closed, "the connection was used again")
				}
			}
		}
	}
}
