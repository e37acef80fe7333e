package traffic

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"image"
	_ "image/gif"  // so that pictures are told with their sizes
	_ "image/jpeg" // the same
	_ "image/png"  // the same
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Field is a name with a value: a header, a cookie, a part of a query or of a form.
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	// Secret says that the value is not to be shown unless it is asked for.
	Secret bool `json:"secret,omitempty"`
}

// Message is a request or an answer, taken apart.
type Message struct {
	Headers []Field `json:"headers"`
	Cookies []Field `json:"cookies,omitempty"`
	Query   []Field `json:"query,omitempty"`
	Form    []Field `json:"form,omitempty"`
	// Type is the media type, Text the body as it can be read, JSON with its lines set
	// apart; "" if it can't be.
	Type string `json:"type,omitempty"`
	Text string `json:"text,omitempty"`
	// About says what the body is if it is no text, or what was left out of it.
	About string `json:"about,omitempty"`
}

// Shown is an exchange as it is shown.
type Shown struct {
	Exchange
	Request     Message `json:"request"`
	Response    Message `json:"response"`
	ConnectedMS float64 `json:"connected_ms,omitempty"`
	SentMS      float64 `json:"sent_ms,omitempty"`
	AnsweredMS  float64 `json:"answered_ms,omitempty"`
	// Why says what the service's files tell of an answer that was not meant: that the file
	// is under another root.
	Why string `json:"why,omitempty"`
	// Printed are the lines of warnings and errors that the service, and those it needs,
	// printed meanwhile, if it failed.
	Printed []Line `json:"printed,omitempty"`
	// Curl is a command that makes the same request, with its secrets.
	Curl string `json:"curl"`
	// Related are the exchanges that it has its trace in common with, the oldest first.
	Related []Exchange `json:"related,omitempty"`
}

// Line is a line that a service printed.
type Line struct {
	Service string    `json:"service"`
	At      time.Time `json:"at"`
	Text    string    `json:"text"`
}

// secretWords are parts of names whose values are nobody else's business.
var secretWords = []string{"authorization", "cookie", "token", "secret", "passw", "api-key", "apikey", "api_key", "session", "credential", "signature", "csrf", "xsrf"}

// Secret reports whether the value of a field of that name is not to be shown.
func Secret(name string) bool {
	name = strings.ToLower(name)
	return slices.ContainsFunc(secretWords, func(w string) bool { return strings.Contains(name, w) }) || name == "code" || name == "pin" || name == "key"
}

// Masked returns a path with the values of its query hidden that are not to be shown.
func Masked(path string) string {
	at, query, ok := strings.Cut(path, "?")
	if !ok {
		return path
	}
	parts := strings.Split(query, "&")
	for i, p := range parts {
		if name, _, has := strings.Cut(p, "="); has && Secret(name) {
			parts[i] = name + "=••••••••"
		}
	}
	return at + "?" + strings.Join(parts, "&")
}

func fields(values map[string][]string) []Field {
	out := []Field{}
	for name, all := range values {
		for _, v := range all {
			out = append(out, Field{name, v, Secret(name)})
		}
	}
	slices.SortStableFunc(out, func(a, b Field) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Show takes an exchange apart.
func (f *Full) Show() Shown {
	s := Shown{Exchange: f.Exchange, ConnectedMS: f.ConnectedMS, SentMS: f.SentMS, AnsweredMS: f.AnsweredMS, Curl: f.Curl()}
	s.Request = message(f.RequestHeader, f.Request, f.Sent)
	if _, query, ok := strings.Cut(f.Path, "?"); ok {
		values, _ := url.ParseQuery(query)
		s.Request.Query = fields(values)
	}
	for _, c := range (&http.Request{Header: f.RequestHeader}).Cookies() {
		s.Request.Cookies = append(s.Request.Cookies, Field{c.Name, c.Value, true})
	}
	s.Response = message(f.Header, f.Response, f.Received)
	for _, c := range (&http.Response{Header: f.Header}).Cookies() {
		s.Response.Cookies = append(s.Response.Cookies, Field{c.Name, c.Value, true})
	}
	return s
}

func message(h http.Header, b Body, size int64) Message {
	m := Message{Headers: fields(h)}
	kind, params, _ := mime.ParseMediaType(h.Get("Content-Type"))
	m.Type = kind
	data := b.Data
	switch encoding := h.Get("Content-Encoding"); {
	case len(data) == 0:
		if size > 0 {
			m.About = count(size) + ", none of it kept"
		}
		return m
	case encoding == "gzip":
		if z, err := gzip.NewReader(bytes.NewReader(data)); err == nil {
			data, _ = io.ReadAll(io.LimitReader(z, 4*BodyLimit)) // as far as it is there
		}
	case encoding != "" && encoding != "identity":
		m.About = fmt.Sprintf("%s, compressed with %s", count(size), encoding)
		return m
	}
	if b.Cut {
		m.About = fmt.Sprintf("the first %s of %s", count(int64(len(b.Data))), count(size))
	}
	switch {
	case kind == "application/x-www-form-urlencoded":
		values, _ := url.ParseQuery(string(data))
		m.Form = fields(values)
	case kind == "multipart/form-data":
		m.Form = parts(data, params["boundary"])
	case strings.HasPrefix(kind, "image/") && kind != "image/svg+xml":
		m.About = "a picture, " + count(size)
		if c, format, err := image.DecodeConfig(bytes.NewReader(data)); err == nil {
			m.About = fmt.Sprintf("a picture (%s) of %d × %d, %s", strings.ToUpper(format), c.Width, c.Height, count(size))
		}
	case kind == "application/json" || strings.HasSuffix(kind, "+json"):
		m.Text = string(data)
		var pretty bytes.Buffer
		if !b.Cut && json.Indent(&pretty, data, "", "  ") == nil {
			m.Text = pretty.String()
		}
	case isText(data):
		m.Text = string(data)
	default:
		m.About = "no text, " + count(size)
	}
	return m
}

// isText reports whether bytes are text, of which the last character may be cut.
func isText(b []byte) bool {
	for i := 1; i < utf8.UTFMax && i <= len(b); i++ {
		if end := b[len(b)-i:]; utf8.RuneStart(end[0]) {
			if !utf8.FullRune(end) {
				b = b[:len(b)-i]
			}
			break
		}
	}
	return utf8.Valid(b) && !bytes.ContainsRune(b, 0)
}

func count(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case n < 1000*1000:
		return fmt.Sprintf("%.1f kB", float64(n)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1000/1000)
}

// Curl returns a command for a POSIX shell that makes the same request, with its secrets. A
// body that was not kept whole, or is no text, is read from a file.
func (f *Full) Curl() string {
	var b strings.Builder
	b.WriteString("curl")
	if f.Method != http.MethodGet {
		b.WriteString(" -X " + quote(f.Method))
	}
	b.WriteString(" " + quote(f.Scheme+"://"+f.Host+f.Path))
	for _, h := range fields(f.RequestHeader) {
		if slices.Contains(notSent, h.Name) {
			continue
		}
		b.WriteString(" \\\n  -H " + quote(h.Name+": "+h.Value))
	}
	switch {
	case len(f.Request.Data) > 0 && !f.Request.Cut && isText(f.Request.Data):
		b.WriteString(" \\\n  --data-raw " + quote(string(f.Request.Data)))
	case f.Sent > 0:
		b.WriteString(" \\\n  --data-binary @BODY")
	}
	return b.String()
}

// notSent are headers that whoever repeats a request makes itself.
var notSent = []string{"Content-Length", "Connection", "Host", "X-Request-Id", "Transfer-Encoding", "Accept-Encoding", "Upgrade-Insecure-Requests", "Te"}

func quote(text string) string {
	plain := strings.IndexFunc(text, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && !strings.ContainsRune("-_./:=@%+,", c)
	}) < 0
	if plain && text != "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// Repeat makes the request of an exchange once more, as it is changed.
type Repeat struct {
	Method string `json:"method,omitempty"`
	// Path is with the query.
	Path string `json:"path,omitempty"`
	// Header has the headers that are set anew; one without a value is left out.
	Header map[string]string `json:"header,omitempty"`
	Body   *string           `json:"body,omitempty"`
}

// BodyCutError says that a request can't be repeated, since not all of its body is there.
type BodyCutError struct{ Size int64 }

func (e *BodyCutError) Error() string {
	return fmt.Sprintf("its body had %s, of which %s are kept; send it with another body, or from where it came", count(e.Size), count(BodyLimit))
}

// NewRequest returns the request to send.
func (f *Full) NewRequest(r Repeat) (*http.Request, error) {
	body := f.Request.Data
	if r.Body != nil {
		body = []byte(*r.Body)
	} else if f.Request.Cut {
		return nil, &BodyCutError{f.Sent}
	}
	path := cmp.Or(r.Path, f.Path)
	if !strings.HasPrefix(path, "/") {
		return nil, fmt.Errorf("%q is no path: it begins with a slash", path)
	}
	req, err := http.NewRequest(cmp.Or(r.Method, f.Method), f.Scheme+"://"+f.Host+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	for name, values := range f.RequestHeader {
		if !slices.Contains(notSent, name) || name == "Accept-Encoding" {
			req.Header[name] = slices.Clone(values)
		}
	}
	for name, value := range r.Header {
		if value == "" {
			req.Header.Del(name)
		} else {
			req.Header.Set(name, value)
		}
	}
	return req, nil
}
