package mail_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
	"pgregory.net/rapid"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator/mail"
)

// inbox serves the web side of a store in a folder.
func inbox(t *testing.T, dir string) (*mail.Server, *httptest.Server) {
	t.Helper()
	store, err := mail.OpenStore(dir)
	require.NoError(t, err)
	s := &mail.Server{Store: store, Log: log.New(io.Discard, "", 0)}
	web := httptest.NewServer(s.Web())
	t.Cleanup(func() {
		web.Close()
		store.Close()
	})
	return s, web
}

func get(t *testing.T, address string, into any) int {
	t.Helper()
	answer, err := http.Get(address)
	require.NoError(t, err)
	defer answer.Body.Close()
	if into != nil {
		require.NoError(t, json.NewDecoder(answer.Body).Decode(into))
	}
	return answer.StatusCode
}

func add(t *testing.T, s *mail.Server, to, message string) {
	t.Helper()
	require.NoError(t, s.Store.Add("shed@example.org", strings.Split(to, ","), strings.NewReader(strings.ReplaceAll(message, "\n", "\r\n"))))
}

const hostile = `From: Evil <evil@example.org>
Date: Thu, 26 Nov 2026 10:00:00 +0000
Subject: =?utf-8?q?Gr=C3=BC=C3=9Fe?=
MIME-Version: 1.0
Content-Type: multipart/mixed; boundary="b"

--b
Content-Type: text/html; charset=utf-8

<h1>Bring it back</h1><script>fetch("http://x.example/")</script><p onclick="x()">Dear <b>Ines</b>,<br>see <a href="http://127.0.0.1/tools">the tools</a> and <a href="javascript:alert(1)">this</a>.</p>
<ul><li>drill<li>saw</ul><table><tr><td>due</td><td>today</td></tr></table><img src="http://out.example/p.png"><img src="cid:pic"><img src="cid:none">
<form action="http://x.example/f"><input></form><meta http-equiv="refresh" content="0;url=http://x.example/"><iframe src="//x.example/"></iframe><svg onload="x()"></svg><base href="http://x.example/"><a href="https://shop.example/x">shop</a>
--b
Content-Type: image/png; name="p.png"
Content-ID: <pic>
Content-Transfer-Encoding: base64

iVBORw0K
--b
Content-Type: text/html; name="../x.html"
Content-Disposition: attachment; filename="../x.html"

<script>alert(5)</script>
--b--
`

// A message that tries everything is shown as text, and as a document that asks for
// nothing and runs nothing.
func TestHostile(t *testing.T) {
	s, web := inbox(t, t.TempDir())
	add(t, s, "ines@example.org", hostile)
	var l mail.Listed
	assert.Equal(t, 200, get(t, web.URL+"/messages", &l))
	require.Len(t, l.Messages, 1)
	m := l.Messages[0]
	assert.Equal(t, "Grüße", m.Subject)
	assert.Equal(t, 1, m.Attachments)
	assert.False(t, m.Seen)
	var whole mail.Whole
	get(t, web.URL+"/messages/"+m.ID, &whole)
	assert.Equal(t, "Bring it back\n═════════════\n\nDear Ines,\nsee the tools [1] and this [2].\n\n• drill\n• saw\n\ndue  today\n\nshop [3]", whole.Readable)
	assert.Equal(t, []string{"http://127.0.0.1/tools", "javascript:alert(1)", "https://shop.example/x"}, whole.Links)
	said := strings.Join(whole.Problems, "\n")
	for _, want := range []string{"no plain part", "picture http://out.example/p.png is not in the mail", "cid:none is not in the mail", "a link leads to shop.example", "a link is a script", "it has a script", "it has a form"} {
		assert.Contains(t, said, want)
	}
	assert.NotContains(t, said, "127.0.0.1")

	answer, err := http.Get(web.URL + "/messages/" + m.ID + "/html")
	require.NoError(t, err)
	b, _ := io.ReadAll(answer.Body)
	answer.Body.Close()
	policy := answer.Header.Get("Content-Security-Policy")
	assert.Contains(t, policy, "sandbox allow-popups")
	assert.NotContains(t, policy, "allow-scripts")
	assert.Contains(t, policy, "default-src 'none'")
	page := string(b)
	for _, banned := range []string{"<script", "onclick", "onload", "javascript:", "out.example", "x.example", "<form", "<meta", "<iframe", "<svg", "<base"} {
		assert.NotContains(t, page, banned)
	}
	assert.Contains(t, page, "data:image/png;base64,iVBORw0K")
	assert.Contains(t, page, `rel="noopener noreferrer"`)

	answer, err = http.Get(web.URL + "/messages/" + m.ID + "/parts/1")
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, "application/octet-stream", answer.Header.Get("Content-Type"), "an attachment never becomes a page")
	assert.Contains(t, answer.Header.Get("Content-Disposition"), `attachment; filename=.._x.html`)
	for _, path := range []string{"/messages/none", "/messages/..%2f..%2fsecrets", "/messages/" + m.ID + "/parts/9", "/web/store.go"} {
		assert.Equal(t, 404, get(t, web.URL+path, nil), path)
	}
}

// Whatever came, something is shown, and what is shown runs nothing.
func TestAnyMessage(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		pieces := rapid.SliceOf(rapid.SampledFrom([]string{"Subject: x\r\n", "Content-Type: text/html\r\n", "Content-Type: multipart/mixed; boundary=b\r\n", "\r\n", "--b\r\n", "--b--", "<script>x</script>", "<a href=\"JaVaScRiPt:x\">y</a>", "<img src=x onerror=y>", "\x00\xff",
			"Content-Transfer-Encoding: base64\r\n", "=?utf-8?q?=ff?=", "<table><tr><td>", "<!--", "<style>", "</style>", "<noscript>", "<p title=\"</noscript><img src=x onerror=y>\">", "<svg>", "<math><mtext>", "<xmp>", "<template>", "<title>", "<textarea>", "<noframes>", "<select>", "text ", "<p>", "Content-Type: text/plain; charset=klingon\r\n"})).Draw(r, "pieces")
		m := mail.Parse(strings.NewReader(strings.Join(pieces, "")))
		require.NotNil(r, m)
		bare := mail.Safe(strings.Join(pieces, ""), func(string) string { return "" })
		for n := range 4 { // as a browser reads it, with scripts and without
			safe := []string{mail.Safe(m.HTML, func(string) string { return "" }), bare}[n/2]
			page, err := html.ParseWithOptions(strings.NewReader(safe), html.ParseOptionEnableScripting(n%2 == 0))
			require.NoError(r, err)
			for n := range page.Descendants() {
				require.False(r, n.Type == html.ElementNode && n.Data == "script", "%s", safe)
				for _, a := range n.Attr {
					require.False(r, strings.HasPrefix(a.Key, "on") || strings.HasPrefix(strings.ToLower(a.Val), "javascript:"), "%s=%q in %s", a.Key, a.Val, safe)
				}
			}
		}
		mail.ReadableHTML(m.HTML)
	})
	m := mail.Parse(strings.NewReader(""))
	assert.Contains(t, strings.Join(m.Problems, " "), "it has no From header")
	m = mail.Parse(strings.NewReader("From: a@b\r\nDate: x\r\nContent-Type: text/plain\r\n\r\nGr\xfc\xdfe\r\n"))
	assert.Contains(t, strings.Join(m.Problems, " "), "does not say in which charset")
}

// Of what is no mail it is known who sent it, and it is shown as it is.
func TestNoMail(t *testing.T) {
	s, _ := inbox(t, t.TempDir())
	require.NoError(t, s.Store.Add("a@example.org", []string{"b@example.org"}, bytes.NewReader(bytes.Repeat([]byte{1, 2, 255, 'x', '\n'}, 100))))
	l, _ := s.Store.List("", "", 1)
	assert.Equal(t, "a@example.org", l[0].From)
	assert.Equal(t, []string{"b@example.org"}, l[0].To)
	w, err := s.Store.Read(l[0].ID)
	require.NoError(t, err)
	assert.Contains(t, w.Problems[0], "this is no mail")
	assert.Contains(t, w.Text, "x\n")
}

// Search, waiting, seeing and deleting, over the web and across a restart.
func TestInbox(t *testing.T) {
	dir := t.TempDir()
	s, web := inbox(t, dir)
	for i := range 30 {
		add(t, s, fmt.Sprintf("m%d@example.org,all@example.org", i), fmt.Sprintf("From: Shed <s@example.org>\nSubject: Tool %d\n\nThe hammer drill no. %d is due.\n", i, i))
	}
	var l mail.Listed
	get(t, web.URL+"/messages?limit=10", &l)
	assert.Len(t, l.Messages, 10)
	assert.True(t, l.More)
	assert.Equal(t, 30, l.Unseen)
	assert.Equal(t, "Tool 29", l.Messages[0].Subject)
	get(t, web.URL+"/messages?limit=100&after="+l.Messages[9].ID, &l)
	assert.Len(t, l.Messages, 20)
	get(t, web.URL+"/messages?q="+url.QueryEscape("DRILL m7@example"), &l)
	require.Len(t, l.Messages, 1)
	id := l.Messages[0].ID
	answer, err := http.Post(web.URL+"/messages/"+id+"/seen", "application/json", nil)
	require.NoError(t, err)
	answer.Body.Close()

	waited := make(chan mail.Whole, 1)
	go func() {
		var w mail.Whole
		get(t, web.URL+"/wait?to=INES@example.org&within=10s", &w)
		waited <- w
	}()
	for len(waited) == 0 {
		add(t, s, "ines@example.org", "From: a@b\nSubject: for Ines\n\nx\n")
		time.Sleep(20 * time.Millisecond)
	}
	assert.Equal(t, "for Ines", (<-waited).Mail.Subject)
	assert.Equal(t, 408, get(t, web.URL+"/wait?to=nobody@example.org&within=50ms", nil))
	assert.Equal(t, 400, get(t, web.URL+"/wait?within=never", nil))
	assert.Equal(t, 200, get(t, web.URL+"/wait?to=m3@example.org&after=0&within=1s", nil), "one that is there")

	// What a kill left of the index is mended.
	f, err := os.OpenFile(filepath.Join(dir, "index.jsonl"), os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = f.WriteString(`{"id":"20`)
	require.NoError(t, err)
	f.Close()
	again, err := mail.OpenStore(dir)
	require.NoError(t, err)
	m, err := again.Mail(id)
	require.NoError(t, err)
	assert.True(t, m.Seen)
	count := again.Latest().Count
	require.NoError(t, again.Close())
	require.NoError(t, os.Remove(filepath.Join(dir, "index.jsonl")))
	again, err = mail.OpenStore(dir)
	require.NoError(t, err)
	assert.Equal(t, count, again.Latest().Count, "the messages are what counts")
	found, _ := again.List("drill m7", "", 10)
	assert.Len(t, found, 1)
	n, err := again.Delete(id)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	_, err = again.Delete(id)
	assert.ErrorIs(t, err, mail.ErrNoMail)
	n, err = again.Delete("")
	require.NoError(t, err)
	assert.Equal(t, count-1, n)
	assert.Empty(t, messages(t, dir))
	require.NoError(t, again.Close())
}

// Nobody but this machine gets at the mails: neither by a name that leads here nor
// from a page of another site.
func TestGuarded(t *testing.T) {
	s, web := inbox(t, t.TempDir())
	add(t, s, "a@b", "Subject: secret\n\nx\n")
	ask := func(method, path, host, origin string) int {
		r, err := http.NewRequest(method, web.URL+path, nil)
		require.NoError(t, err)
		if host != "" {
			r.Host = host
		}
		if origin != "" {
			r.Header.Set("Origin", origin)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		answer.Body.Close()
		return answer.StatusCode
	}
	assert.Equal(t, 403, ask("GET", "/messages", "evil.example", ""))
	assert.Equal(t, 403, ask("GET", "/messages", "127.0.0.1.evil.example", ""))
	assert.Equal(t, 403, ask("DELETE", "/messages", "", "http://evil.example"))
	assert.Equal(t, 403, ask("PUT", "/rules", "", "null"))
	assert.Equal(t, 200, ask("GET", "/messages", "mail.localhost:99", ""))
	assert.Equal(t, 200, ask("DELETE", "/messages", "", web.URL))
	assert.Zero(t, s.Store.Latest().Count)
}

// The rules that tests ask for hold, and a mail can be handed on.
func TestRules(t *testing.T) {
	address, stop := serveRules(t, mail.Rules{Refuse: []string{"*@Bounce.example.org"}, Drop: []string{"cut@*"}})
	defer stop()
	send := func(to string) error {
		return smtp.SendMail(address, nil, "a@example.org", []string{to}, []byte("Subject: x\r\n\r\ny\r\n"))
	}
	assert.NoError(t, send("ines@example.org"))
	assert.ErrorContains(t, send("x@bounce.example.org"), "550")
	assert.Error(t, send("cut@example.org"))
	full, stopFull := serveRules(t, mail.Rules{Misbehave: misbehave.Rules{Full: true, Slow: 50 * time.Millisecond}})
	defer stopFull()
	began := time.Now()
	assert.ErrorContains(t, smtp.SendMail(full, nil, "a@b", []string{"c@d"}, []byte("x")), "452")
	assert.GreaterOrEqual(t, time.Since(began), 50*time.Millisecond)

	s, web := inbox(t, t.TempDir())
	add(t, s, "ines@example.org", "Subject: on\n\nits text\n")
	l, _ := s.Store.List("", "", 1)
	body, _ := json.Marshal(mail.Release{Server: address, To: []string{"real@example.org"}})
	answer, err := http.Post(web.URL+"/messages/"+l[0].ID+"/release", "application/json", bytes.NewReader(body))
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 200, answer.StatusCode)
	for text, says := range map[string]string{`{"refuse":["[a"]}`: "no pattern", `{"misbehave":{"slow":"-1s"}}`: "-1s is no time to wait", `{"odd":1}`: "unknown field"} {
		r, _ := http.NewRequest("PUT", web.URL+"/rules", strings.NewReader(text))
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		b, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		assert.Equal(t, 400, answer.StatusCode)
		assert.Contains(t, string(b), says)
	}
}

func serveRules(t *testing.T, rules mail.Rules) (string, func()) {
	t.Helper()
	store, err := mail.OpenStore(t.TempDir())
	require.NoError(t, err)
	s := &mail.Server{Store: store, Log: log.New(io.Discard, "", 0)}
	require.NoError(t, s.SetRules(rules))
	l := listen(t)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	return l.Addr().String(), func() {
		cancel()
		<-done
		store.Close()
	}
}

// 20,000 mails: a look at the first page, a search, and one more.
func BenchmarkInbox(b *testing.B) {
	store, err := mail.OpenStore(b.TempDir())
	require.NoError(b, err)
	defer store.Close()
	text := strings.Repeat("The hammer drill is due, and somebody is waiting for it. ", 40)
	for i := range 20_000 {
		require.NoError(b, store.Add("shed@example.org", []string{"m@example.org"}, strings.NewReader(fmt.Sprintf("Subject: Tool %d\r\n\r\n%s\r\n", i, text))))
	}
	b.Run("first page", func(b *testing.B) {
		for b.Loop() {
			store.List("", "", 100)
		}
	})
	b.Run("search", func(b *testing.B) {
		for b.Loop() {
			store.List("tool 7 absent", "", 100)
		}
	})
	b.Run("add", func(b *testing.B) {
		for b.Loop() {
			_ = store.Add("a@b", []string{"c@d"}, strings.NewReader("Subject: x\r\n\r\ny\r\n"))
		}
	})
}
