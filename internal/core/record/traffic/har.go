package traffic

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"
)

// The parts of an HTTP archive, format 1.2.
type (
	archive struct {
		Log harLog `json:"log"`
	}
	harLog struct {
		Version string     `json:"version"`
		Creator harCreator `json:"creator"`
		Entries []harEntry `json:"entries"`
	}
	harCreator struct {
		Name    string `json:"name"`
		Version string `json:"version"`
	}
	harEntry struct {
		Started  time.Time   `json:"startedDateTime"`
		Time     float64     `json:"time"`
		Request  harRequest  `json:"request"`
		Response harResponse `json:"response"`
		Cache    struct{}    `json:"cache"`
		Timings  harTimings  `json:"timings"`
		Comment  string      `json:"comment,omitempty"`
	}
	harPair struct {
		Name  string `json:"name"`
		Value string `json:"value"`
	}
	harRequest struct {
		Method      string    `json:"method"`
		URL         string    `json:"url"`
		Version     string    `json:"httpVersion"`
		Cookies     []harPair `json:"cookies"`
		Headers     []harPair `json:"headers"`
		Query       []harPair `json:"queryString"`
		Post        *harPost  `json:"postData,omitempty"`
		HeadersSize int64     `json:"headersSize"`
		BodySize    int64     `json:"bodySize"`
	}
	harPost struct {
		Type    string    `json:"mimeType"`
		Params  []harPair `json:"params"`
		Text    string    `json:"text"`
		Comment string    `json:"comment,omitempty"`
	}
	harResponse struct {
		Status      int        `json:"status"`
		Text        string     `json:"statusText"`
		Version     string     `json:"httpVersion"`
		Cookies     []harPair  `json:"cookies"`
		Headers     []harPair  `json:"headers"`
		Content     harContent `json:"content"`
		Redirect    string     `json:"redirectURL"`
		HeadersSize int64      `json:"headersSize"`
		BodySize    int64      `json:"bodySize"`
	}
	harContent struct {
		Size     int64  `json:"size"`
		Type     string `json:"mimeType"`
		Text     string `json:"text,omitempty"`
		Encoding string `json:"encoding,omitempty"`
		Comment  string `json:"comment,omitempty"`
	}
	harTimings struct {
		Blocked float64 `json:"blocked"`
		Send    float64 `json:"send"`
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	}
)

func pairs(fields []Field) []harPair {
	out := []harPair{}
	for _, f := range fields {
		out = append(out, harPair{f.Name, f.Value})
	}
	return out
}

// WriteHAR writes exchanges as an HTTP archive, format 1.2. Secrets are in it.
func WriteHAR(w io.Writer, all []*Full) error {
	a := archive{harLog{"1.2", harCreator{"Neighbour", "1"}, []harEntry{}}}
	for _, f := range all {
		s := f.Show()
		e := harEntry{Started: f.Began, Time: f.TookMS}
		e.Request = harRequest{Method: f.Method, URL: f.Scheme + "://" + f.Host + f.Path, Version: f.Proto, Cookies: pairs(s.Request.Cookies), Headers: pairs(s.Request.Headers), Query: pairs(s.Request.Query), HeadersSize: -1, BodySize: f.Sent}
		if f.Sent > 0 {
			text, encoding := harText(f.Request.Data)
			e.Request.Post = &harPost{Type: f.RequestHeader.Get("Content-Type"), Params: pairs(s.Request.Form), Text: text}
			if encoding != "" { // which the format has no field for here
				e.Request.Post.Comment = encoding
			}
		}
		text, encoding := harText(f.Response.Data)
		e.Response = harResponse{Status: f.Status, Text: http.StatusText(f.Status), Version: f.Proto, Cookies: pairs(s.Response.Cookies), Headers: pairs(s.Response.Headers), Redirect: f.Header.Get("Location"), HeadersSize: -1, BodySize: f.Received}
		e.Response.Content = harContent{Size: f.Received, Type: f.Header.Get("Content-Type"), Text: text, Encoding: encoding}
		if f.Response.Cut {
			e.Response.Content.Comment = fmt.Sprintf("the first %d bytes", len(f.Response.Data))
		}
		e.Timings = harTimings{Blocked: f.ConnectedMS, Send: math.Max(0, f.SentMS-f.ConnectedMS), Wait: math.Max(0, f.AnsweredMS-f.SentMS), Receive: math.Max(0, f.TookMS-f.AnsweredMS)}
		e.Comment = f.Problem
		a.Log.Entries = append(a.Log.Entries, e)
	}
	out := json.NewEncoder(w)
	out.SetIndent("", "  ")
	return out.Encode(a)
}

func harText(data []byte) (text, encoding string) {
	if utf8.Valid(data) {
		return string(data), ""
	}
	return base64.StdEncoding.EncodeToString(data), "base64"
}

// harLimit is the most that is read of an archive, in bytes.
const harLimit = 256 << 20

// ReadHAR reads an HTTP archive. What has no place in an exchange is left out.
func ReadHAR(r io.Reader) ([]*Full, error) {
	var a archive
	in := io.LimitedReader{R: r, N: harLimit}
	if err := json.NewDecoder(&in).Decode(&a); err != nil {
		if in.N <= 0 {
			return nil, fmt.Errorf("the archive has more than %d MB", harLimit>>20)
		}
		return nil, fmt.Errorf("this is no HTTP archive: %w", err)
	}
	if a.Log.Version == "" && len(a.Log.Entries) == 0 {
		return nil, errors.New(`this is no HTTP archive: it has no "log" with "entries"`)
	}
	var out []*Full
	for i, e := range a.Log.Entries {
		u, err := url.Parse(e.Request.URL)
		if err != nil || u.Host == "" {
			return nil, fmt.Errorf("entry %d has no address: %q", i+1, e.Request.URL)
		}
		f := &Full{RequestHeader: http.Header{}, Header: http.Header{}}
		f.Began, f.TookMS, f.Method, f.Scheme, f.Proto = e.Started, e.Time, e.Request.Method, u.Scheme, e.Request.Version
		f.Host, f.Path, f.Status, f.Of = u.Host, u.RequestURI(), e.Response.Status, "read from a file"
		for _, h := range e.Request.Headers {
			f.RequestHeader.Add(h.Name, h.Value)
		}
		for _, h := range e.Response.Headers {
			f.Header.Add(h.Name, h.Value)
		}
		if p := e.Request.Post; p != nil {
			f.Request, f.Sent = kept(p.Text, p.Comment), max(e.Request.BodySize, int64(len(p.Text)))
		}
		f.Response, f.Received = kept(e.Response.Content.Text, e.Response.Content.Encoding), max(e.Response.BodySize, e.Response.Content.Size, 0)
		f.Response.Cut = f.Received > int64(len(f.Response.Data)) && len(f.Response.Data) > 0
		f.ConnectedMS = max(0, e.Timings.Blocked)
		f.SentMS = f.ConnectedMS + max(0, e.Timings.Send)
		f.AnsweredMS = f.SentMS + max(0, e.Timings.Wait)
		f.Trace = strings.TrimSpace(f.RequestHeader.Get("X-Request-Id"))
		out = append(out, f)
	}
	return out, nil
}

func kept(text, encoding string) Body {
	data := []byte(text)
	if encoding == "base64" {
		if b, err := base64.StdEncoding.DecodeString(text); err == nil {
			data = b
		}
	}
	if len(data) > BodyLimit {
		return Body{data[:BodyLimit], true}
	}
	return Body{Data: data}
}
