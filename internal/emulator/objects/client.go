package objects

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Sign signs a request with the keys (version 4 of the signatures), whatever its body is.
func (k Keys) Sign(r *http.Request, region string, now time.Time) {
	at := now.UTC().Format("20060102T150405Z")
	const payload = unsigned
	r.Header.Set("X-Amz-Date", at)
	r.Header.Set("X-Amz-Content-Sha256", payload)
	scope := []string{at[:8], region, "s3", "aws4_request"}
	headers := fmt.Sprintf("host:%s\nx-amz-content-sha256:%s\nx-amz-date:%s\n", r.URL.Host, payload, at)
	const names = "host;x-amz-content-sha256;x-amz-date"
	signature := k.signature(strings.Join([]string{r.Method, canonicalPath(r.URL.EscapedPath()), canonicalQuery(r.URL.Query()), headers, names, payload}, "\n"), at, scope)
	r.Header.Set("Authorization", fmt.Sprintf("%s Credential=%s/%s,SignedHeaders=%s,Signature=%s", algorithm, k.Access, strings.Join(scope, "/"), names, signature))
}

// key is the one that signs in a scope.
func (k Keys) key(scope []string) []byte {
	key := []byte("AWS4" + k.Secret)
	for _, part := range scope {
		key = keyed(key, part)
	}
	return key
}

// signature is that of a request in its canonical form.
func (k Keys) signature(canonical, at string, scope []string) string {
	return hex.EncodeToString(keyed(k.key(scope), strings.Join([]string{algorithm, at, strings.Join(scope, "/"), sumOf([]byte(canonical))}, "\n")))
}

// Link returns an address at which everybody can get an object for some time.
func (k Keys) Link(base, region, bucket, key string, now time.Time, life time.Duration) string {
	at := now.UTC().Format("20060102T150405Z")
	scope := []string{at[:8], region, "s3", "aws4_request"}
	u, _ := url.Parse(base) // ours
	path := "/" + escape(bucket, true) + "/" + escape(key, false)
	query := url.Values{"X-Amz-Algorithm": {algorithm}, "X-Amz-Credential": {k.Access + "/" + strings.Join(scope, "/")}, "X-Amz-Date": {at}, "X-Amz-Expires": {strconv.Itoa(int(life.Seconds()))}, "X-Amz-SignedHeaders": {"host"}}
	canonical := strings.Join([]string{"GET", path, canonicalQuery(query), "host:" + u.Host + "\n", "host", unsigned}, "\n")
	return base + path + "?" + canonicalQuery(query) + "&X-Amz-Signature=" + k.signature(canonical, at, scope)
}

// Client asks a server, as Neighbour itself.
type Client struct {
	Base   string // its address
	Keys   Keys
	Region string
	HTTP   *http.Client
}

func (c *Client) do(ctx context.Context, method, bucket, key string, query url.Values, body io.Reader, size int64, headers map[string]string) (*http.Response, error) {
	address := c.Base + "/" + escape(bucket, true)
	if key != "" {
		address += "/" + escape(key, false)
	}
	if len(query) > 0 {
		address += "?" + canonicalQuery(query)
	}
	r, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, err
	}
	r.ContentLength = size
	r.Header.Set("User-Agent", OwnAgent)
	for name, v := range headers {
		r.Header.Set(name, v)
	}
	c.Keys.Sign(r, c.Region, time.Now())
	answer, err := c.HTTP.Do(r)
	if err != nil {
		return nil, err
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	e := &Error{Status: answer.StatusCode, Code: http.StatusText(answer.StatusCode), Message: answer.Status}
	if answer.StatusCode == http.StatusNotFound {
		e.Code = errNoSuchKey.Code
	}
	b, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err == nil && len(b) > 0 {
		_ = xml.Unmarshal(b, e)
	}
	return nil, e
}

// Summary returns what there is.
func (c *Client) Summary(ctx context.Context) (out Summary, err error) {
	answer, err := c.do(ctx, http.MethodGet, "-", "summary", nil, nil, 0, nil)
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	return out, json.NewDecoder(answer.Body).Decode(&out)
}

// Listed are some of a bucket's objects.
type Listed struct {
	Objects []Entry
	Next    string // where to go on; "" at the end
}

// Entry is an object in a list.
type Entry struct {
	Key  string
	Size int64
	At   time.Time
	ETag string
}

// List returns objects whose keys begin so, from a place on.
func (c *Client) List(ctx context.Context, bucket, prefix, from string, limit int) (out Listed, err error) {
	query := url.Values{"list-type": {"2"}, "prefix": {prefix}, "max-keys": {strconv.Itoa(limit)}, "encoding-type": {"url"}}
	if from != "" {
		query.Set("continuation-token", from)
	}
	answer, err := c.do(ctx, http.MethodGet, bucket, "", query, nil, 0, nil)
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	var l listed
	if err := xml.NewDecoder(answer.Body).Decode(&l); err != nil {
		return out, err
	}
	for _, o := range l.Contents {
		key, err := url.QueryUnescape(o.Key)
		if err != nil {
			return out, err
		}
		at, _ := time.Parse(timeForm, o.LastModified) // the server's own form
		out.Objects = append(out.Objects, Entry{key, *o.Size, at, strings.Trim(o.ETag, `"`)})
	}
	if l.IsTruncated {
		out.Next = l.NextContinuationToken
	}
	return out, nil
}

// Head returns the headers of an object.
func (c *Client) Head(ctx context.Context, bucket, key string) (http.Header, int64, error) {
	answer, err := c.do(ctx, http.MethodHead, bucket, key, nil, nil, 0, nil)
	if err != nil {
		return nil, 0, err
	}
	defer answer.Body.Close()
	return answer.Header, answer.ContentLength, nil
}

// Get returns what an object holds, at most limit bytes of it; 0 is all.
func (c *Client) Get(ctx context.Context, bucket, key string, limit int64) (io.ReadCloser, error) {
	headers := map[string]string{}
	if limit > 0 {
		headers["Range"] = fmt.Sprintf("bytes=0-%d", limit-1)
	}
	answer, err := c.do(ctx, http.MethodGet, bucket, key, nil, nil, 0, headers)
	if err != nil {
		return nil, err
	}
	return answer.Body, nil
}

// Put makes an object.
func (c *Client) Put(ctx context.Context, bucket, key, contentType string, body io.Reader, size int64) error {
	headers := map[string]string{}
	if contentType != "" {
		headers["Content-Type"] = contentType
	}
	answer, err := c.do(ctx, http.MethodPut, bucket, key, nil, body, size, headers)
	if err == nil {
		answer.Body.Close()
	}
	return err
}

// Delete deletes an object, or an empty bucket if the key is "".
func (c *Client) Delete(ctx context.Context, bucket, key string) error {
	answer, err := c.do(ctx, http.MethodDelete, bucket, key, nil, nil, 0, nil)
	if err == nil {
		answer.Body.Close()
	}
	return err
}
