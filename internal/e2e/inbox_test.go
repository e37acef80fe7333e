package e2e

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// The inbox in a real browser: mails come in without a reload; one that tries
// everything runs nothing, asks for nothing outside, and leads nowhere; a phone's
// width is enough.
func TestInboxInABrowser(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "chromium")
	var outside atomic.Int64
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { outside.Add(1) }))
	defer elsewhere.Close()
	p := newProject(t, "[service.postbox]\nkind = \"mail\"\n")
	p.must("start")
	facts := p.status().Service["postbox"].Facts

	b := browse(t)
	ctx, do := b.ctx, b.do
	do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(facts["url"]), chromedp.WaitVisible("#nothing"))
	_, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("window.same = true"))
	require.NoError(t, err)

	html := strings.ReplaceAll(`<h1 id="h">Due</h1><script>parent.document.title = "owned"; fetch("HOST/s")</script><img src="HOST/i" onerror="fetch('HOST/e')"><meta http-equiv="refresh" content="0;url=HOST/m">
<style>@import "HOST/c"; body { background: url(HOST/b) }</style><iframe src="HOST/f"></iframe><form action="HOST/a"><input autofocus></form><link rel="stylesheet" href="HOST/l"><object data="HOST/o"></object><video src="HOST/v" poster="HOST/p"></video><a href="javascript:alert(1)">x</a>`, "HOST", elsewhere.URL)
	for i := range 3 {
		require.NoError(t, smtp.SendMail(strings.TrimPrefix(facts["smtp_url"], "smtp://"), nil, "evil@example.org", []string{"ines@example.org"},
			[]byte(fmt.Sprintf("From: evil@example.org\r\nSubject: <b>no %d</b>\r\nContent-Type: text/html; charset=utf-8\r\n\r\n%s\r\n", i, html))))
	}
	do(chromedp.WaitVisible("#list li:nth-child(3)"))
	subject, err := chromedp.Run(ctx, chromedp.TextContent("#list li:first-child .subject"))
	require.NoError(t, err)
	assert.Equal(t, "<b>no 2</b>", subject, "as text")
	same, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("window.same === true"))
	require.NoError(t, err)
	assert.True(t, same, "without a reload")
	do(chromedp.Click("#list li:first-child"), chromedp.WaitVisible("#stage iframe"), chromedp.Sleep(time.Second))
	title, err := chromedp.Run(ctx, chromedp.Title())
	require.NoError(t, err)
	assert.Equal(t, "(2) Mail", title)
	frame, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.querySelector('#stage iframe').getAttribute('sandbox')"))
	require.NoError(t, err)
	assert.Equal(t, "allow-popups allow-popups-to-escape-sandbox", frame)
	assert.Zero(t, outside.Load(), "nothing is asked for outside")

	do(chromedp.EmulateViewport(360, 740), chromedp.Click("#back"), chromedp.WaitVisible("#list"))
	wide, err := chromedp.Run(ctx, chromedp.Evaluate[int]("document.documentElement.scrollWidth"))
	require.NoError(t, err)
	assert.LessOrEqual(t, wide, 360)
	// A row stays the same when others come, so that no click on it is lost.
	_, err = chromedp.Run(ctx, chromedp.Evaluate[bool]("(window.kept = document.querySelector('#list li')) !== null"))
	require.NoError(t, err)
	require.NoError(t, smtp.SendMail(strings.TrimPrefix(facts["smtp_url"], "smtp://"), nil, "shed@example.org", []string{"ines@example.org"}, []byte("Subject: one more\r\n\r\n")))
	do(chromedp.WaitVisible("#list li:nth-child(4)"))
	same, err = chromedp.Run(ctx, chromedp.Evaluate[bool]("window.kept.isConnected && window.kept === document.querySelector('#list li:nth-child(2)')"))
	require.NoError(t, err)
	assert.True(t, same)
	p.must("stop")
	_, err = net.Dial("tcp", strings.TrimPrefix(facts["url"], "http://"))
	assert.Error(t, err)
}

// Another program has the inbox's port by the time that its service starts again: what is told of
// it is where it is now.
func TestInboxWhosePortIsTaken(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.postbox]\nkind = \"mail\"\n")
	p.must("start")
	before := p.status().Service["postbox"].Facts["url"]
	p.must("stop", "postbox")
	l, err := net.Listen("tcp", strings.TrimPrefix(before, "http://"))
	require.NoError(t, err)
	defer l.Close()
	p.must("start", "postbox")
	now := p.status().Service["postbox"].Facts["url"]
	require.NotEqual(t, before, now)
	code, text := get(http.DefaultClient, now+"/")
	assert.Equal(t, 200, code, text)
}
