package traffic

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// exchange makes one that has ended.
func exchange(l *Log, method, path string, status int, took float64) *Full {
	f := &Full{RequestHeader: http.Header{"Accept": {"*/*"}}}
	f.Project, f.Method, f.Host, f.Path, f.Service, f.Scheme, f.Began = "/shed", method, "toolshed.localhost", path, "web", "https", time.Now()
	l.Begin(f)
	l.End(f, func(f *Full) {
		f.Status, f.TookMS, f.Header = status, took, http.Header{"Content-Type": {"application/json"}}
		f.Response = Body{Data: []byte(`{"a":1}`)}
		f.Received = 7
	})
	return f
}

// However much passes, what is remembered stays within its bounds, and is the newest.
func TestBounds(t *testing.T) {
	for _, size := range []int{0, 1000, BodyLimit} {
		l := &Log{}
		const n = 4000
		var open []*Full
		for i := range n {
			f := &Full{}
			f.Project = "/shed"
			l.Begin(f)
			if i%7 == 0 {
				open = append(open, f)
				continue
			}
			l.End(f, func(f *Full) { f.Status, f.Response.Data = 200, make([]byte, size) })
		}
		for _, f := range open { // some of which are forgotten already
			l.End(f, func(f *Full) { f.Status, f.Response.Data = 200, make([]byte, size) })
		}
		got := l.List("/shed", Filter{}, 0, 1<<20)
		assert.LessOrEqual(t, len(got), mostExchanges+spare)
		assert.Equal(t, l.next, got[0].ID, "the newest")
		sum := 0
		for _, f := range l.all {
			sum += f.weight()
		}
		assert.Equal(t, sum, l.bytes)
		assert.LessOrEqual(t, l.bytes, mostBytes+BodyLimit+4096)
		l.Clear("/shed")
		assert.Empty(t, l.List("/shed", Filter{}, 0, 9))
		assert.Zero(t, l.bytes)
	}
}

func TestFilter(t *testing.T) {
	l := &Log{}
	exchange(l, "GET", "/tools?q=drill", 200, 12)
	exchange(l, "POST", "/loans", 500, 31)
	last := exchange(l, "GET", "/tools/7", 404, 250).ID
	for filter, want := range map[string]string{
		"": "/tools/7 /loans /tools?q=drill", "post": "/loans", "/tools": "/tools/7 /tools?q=drill", "5xx": "/loans", ">200ms": "/tools/7", "<20ms": "/tools?q=drill",
		"/tools 404": "/tools/7", "-/tools": "/loans", "get -4xx": "/tools?q=drill", ">5b": "/tools/7 /loans /tools?q=drill", ">1kB": "", "web": "/tools/7 /loans /tools?q=drill", "DRILL": "/tools?q=drill",
	} {
		f, err := ParseFilter(filter)
		require.NoError(t, err, filter)
		var got []string
		for _, e := range l.List("/shed", f, 0, 99) {
			got = append(got, e.Path)
		}
		assert.Equal(t, want, strings.Join(got, " "), filter)
	}
	for filter, why := range map[string]string{">soon": `">soon" is neither a time nor a size`, "a -": "leaves out nothing", "<": "neither"} {
		_, err := ParseFilter(filter)
		assert.ErrorContains(t, err, why)
	}
	assert.Empty(t, l.List("/other", Filter{}, 0, 9), "another project's is nobody's business")
	assert.Len(t, l.List("/shed", Filter{}, last, 9), 2)
}

// What is slower than usual stands out, and what failed is said.
func TestWhatStandsOut(t *testing.T) {
	l := &Log{}
	for i := range 10 {
		exchange(l, "GET", fmt.Sprintf("/tools/%d?page=%d", i, i), 200, 10+float64(i%3))
	}
	assert.Zero(t, exchange(l, "GET", "/tools/3", 200, 55).UsualMS)
	assert.InDelta(t, 11, exchange(l, "GET", "/tools/3", 200, 180).UsualMS, 1)
	assert.Zero(t, exchange(l, "GET", "/other", 200, 180).UsualMS, "nobody knows what is usual there")
	assert.Equal(t, "13 in the last minute, none failed. Slow: GET /tools/:id took 180 ms, usually 11 ms.", l.Says("/shed", time.Now()))
	exchange(l, "POST", "/loans", 500, 3)
	exchange(l, "POST", "/loans", 503, 3)
	assert.Contains(t, l.Says("/shed", time.Now()), "; 2 failed, all POST /loans.")
	assert.Equal(t, "Nothing passed in the last minute.", l.Says("/shed", time.Now().Add(time.Hour)))
	assert.Empty(t, l.Says("/other", time.Now()))

	routes := Routes(l.List("/shed", Filter{}, 0, 99))
	require.Len(t, routes, 3)
	assert.Equal(t, RouteSummary{"GET", "toolshed.localhost", "/other", "web", 1, 0, 180, 180}, routes[0])
	assert.Equal(t, "/tools/:id 12 0 11", fmt.Sprintf("%s %d %d %.0f", routes[1].Route, routes[1].Count, routes[1].Failed, routes[1].MedianMS))
	assert.Equal(t, 2, routes[2].Failed)
	for path, want := range map[string]string{"/a/12/b": "/a/:id/b", "/a/6b084df55237846541a33d85": "/a/:id", "/u/0b9de7b2-1c1f-4c5b-9d3a-1f2e3d4c5b6a?x=1": "/u/:id", "/feedface": "/feedface", "/": "/", "/v1/x": "/v1/x"} {
		assert.Equal(t, want, Route(path))
	}
}

func TestShow(t *testing.T) {
	f := &Full{RequestHeader: http.Header{"Cookie": {"session=s3cret; theme=dark"}, "Authorization": {"Bearer abc"}, "Accept": {"*/*"}, "Content-Type": {"application/x-www-form-urlencoded"}},
		Header: http.Header{"Content-Type": {"application/json; charset=utf-8"}, "Set-Cookie": {"a=b; Path=/"}}}
	f.Method, f.Path, f.Scheme, f.Host = "POST", "/loans?tool=7&token=t", "https", "toolshed.localhost"
	f.Request, f.Sent = Body{Data: []byte("who=ines&password=hush")}, 22
	f.Response, f.Received = Body{Data: []byte(`{"tools":[{"id":1}]}`)}, 20
	s := f.Show()
	assert.Equal(t, []Field{{"token", "t", true}, {"tool", "7", false}}, s.Request.Query)
	assert.Equal(t, []Field{{"password", "hush", true}, {"who", "ines", false}}, s.Request.Form)
	assert.Equal(t, []Field{{"session", "s3cret", true}, {"theme", "dark", true}}, s.Request.Cookies)
	assert.Contains(t, s.Request.Headers, Field{"Authorization", "Bearer abc", true})
	assert.Equal(t, "{\n  \"tools\": [\n    {\n      \"id\": 1\n    }\n  ]\n}", s.Response.Text)

	f.Header.Set("Content-Type", "image/png")
	var drawn bytes.Buffer
	require.NoError(t, png.Encode(&drawn, image.NewGray(image.Rect(0, 0, 120, 80))))
	f.Response.Data = drawn.Bytes()
	assert.Equal(t, "a picture (PNG) of 120 × 80, 20 B", f.Show().Response.About)
	f.Header.Set("Content-Type", "application/octet-stream")
	f.Response.Data = []byte{0, 1, 2}
	assert.Equal(t, "no text, 20 B", f.Show().Response.About)
	f.Header.Set("Content-Encoding", "br")
	assert.Equal(t, "20 B, compressed with br", f.Show().Response.About)
	f.RequestHeader.Set("Content-Type", "multipart/form-data; boundary=x")
	f.Request.Data = []byte("--x\r\nContent-Disposition: form-data; name=\"photo\"; filename=\"drill.png\"\r\n\r\n123\r\n--x\r\nContent-Disposition: form-data; name=\"pin\"\r\n\r\n77\r\n--x--\r\n")
	assert.Equal(t, []Field{{"photo", "the file drill.png, 3 B", false}, {"pin", "77", true}}, f.Show().Request.Form)
}

// The command that is copied makes the same request, whatever is in it.
func TestCurl(t *testing.T) {
	if _, err := exec.LookPath("curl"); err != nil {
		require.NoError(t, err, "scripts/packages.sh installs it")
	}
	came := make(chan *Full, 1)
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		got := &Full{RequestHeader: r.Header, Request: Body{Data: b}}
		got.Method, got.Path = r.Method, r.RequestURI
		came <- got
	}))
	defer server.Close()
	u, _ := url.Parse(server.URL)
	for _, body := range []string{"", `{"name":"it's a \"drill\" $HOME ` + "`x`" + `"}`, "a\nb\\", "@not-a-file"} {
		f := &Full{RequestHeader: http.Header{"X-Odd": {`it's "odd"; $(rm)`}, "Accept": {"*/*"}, "Cookie": {"a=b"}}, Request: Body{Data: []byte(body)}}
		f.Method, f.Path, f.Scheme, f.Host, f.Sent = "PATCH", "/a'b?x=1&y=%20", "http", u.Host, int64(len(body))
		out, err := exec.Command("sh", "-c", f.Curl()).CombinedOutput()
		require.NoError(t, err, string(out))
		got := <-came
		assert.Equal(t, "PATCH /a'b?x=1&y=%20", got.Method+" "+got.Path)
		assert.Equal(t, body, string(got.Request.Data))
		for name, values := range f.RequestHeader {
			assert.Equal(t, values, got.RequestHeader[name])
		}
	}
}

// An archive that was written is read with everything that matters.
func TestHAR(t *testing.T) {
	l := &Log{}
	a := exchange(l, "GET", "/tools?q=drill", 200, 12)
	a.RequestHeader.Set("Cookie", "session=1")
	b := exchange(l, "PUT", "/photo", 201, 3)
	b.Request, b.Sent = Body{Data: []byte("hello")}, 5
	b.Response.Data = []byte{0xff, 0, 1}
	b.AnsweredMS, b.SentMS, b.ConnectedMS = 2, 1, 0.5
	var file bytes.Buffer
	require.NoError(t, WriteHAR(&file, l.Wholes("/shed")))
	var raw map[string]any
	require.NoError(t, json.Unmarshal(file.Bytes(), &raw))
	assert.Equal(t, "1.2", raw["log"].(map[string]any)["version"])
	all, err := ReadHAR(&file)
	require.NoError(t, err)
	require.Len(t, all, 2)
	for i, want := range []*Full{a, b} {
		got := all[i]
		assert.Equal(t, want.Method+want.Scheme+want.Host+want.Path, got.Method+got.Scheme+got.Host+got.Path)
		assert.Equal(t, want.Request.Data, got.Request.Data[:len(want.Request.Data)])
		assert.Equal(t, want.Response.Data, got.Response.Data)
		assert.Equal(t, want.RequestHeader, got.RequestHeader)
		assert.Equal(t, want.Status, got.Status)
		assert.InDelta(t, want.AnsweredMS, got.AnsweredMS, 0.001)
		assert.WithinDuration(t, want.Began, got.Began, time.Microsecond)
	}
	l.Import("/other", all)
	assert.Len(t, l.List("/other", Filter{}, 0, 9), 2)
	for text, why := range map[string]string{"": "no HTTP archive", "[]": "no HTTP archive", "{}": `no "log"`, `{"log":{"entries":[{"request":{"url":"::"}}]}}`: "entry 1 has no address"} {
		_, err := ReadHAR(strings.NewReader(text))
		assert.ErrorContains(t, err, why, text)
	}
}

func TestRepeatAndCompare(t *testing.T) {
	l := &Log{}
	f := exchange(l, "POST", "/loans", 500, 3)
	f.Request, f.Sent = Body{Data: []byte(`{"tool":7}`)}, 10
	other := `{"tool":8}`
	r, err := f.NewRequest(Repeat{Path: "/loans?dry=1", Body: &other, Header: map[string]string{"Accept": "", "X-A": "b"}})
	require.NoError(t, err)
	b, _ := io.ReadAll(r.Body)
	assert.Equal(t, "POST https://toolshed.localhost/loans?dry=1 "+other, r.Method+" "+r.URL.String()+" "+string(b))
	assert.Equal(t, http.Header{"X-A": {"b"}}, r.Header)
	_, err = f.NewRequest(Repeat{Path: "loans"})
	assert.ErrorContains(t, err, "begins with a slash")
	f.Request.Cut, f.Sent = true, 1<<30
	_, err = f.NewRequest(Repeat{})
	var cut *BodyCutError
	require.ErrorAs(t, err, &cut)

	a, b2 := exchange(l, "GET", "/a", 200, 1).Show(), exchange(l, "GET", "/a", 404, 1).Show()
	b2.Response.Text = strings.Replace(b2.Response.Text, "1", "2", 1)
	b2.Response.Headers = append(b2.Response.Headers, Field{"Set-Cookie", "x", true})
	diff := Compare(a, b2)
	assert.Equal(t, []Difference{{"status", "200", "404", false}, {"answer Set-Cookie", "", "x", true}, {"answer, line 2", `  "a": 1`, `  "a": 2`, false}}, diff)
	assert.Empty(t, Compare(a, a))
}
