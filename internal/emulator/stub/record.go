package stub

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/record/traffic"
)

// recording is a request that the real API was asked once, with its answer, as it is kept in a
// file: without secrets.
type recording struct {
	Request struct {
		Method string `json:"method"`
		Path   string `json:"path"` // with the query
		Body   any    `json:"body,omitempty"`
	} `json:"request"`
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers,omitempty"`
	// JSON is the body if it is that, else it is Text, or Bytes.
	JSON  any    `json:"json,omitempty"`
	Text  string `json:"text,omitempty"`
	Bytes []byte `json:"bytes,omitempty"`
}

// struck stands for a secret.
const struck = "struck out"

// strike replaces the values of a JSON value whose names say that they are secret.
func strike(v any) any {
	switch is := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for name, value := range is {
			if _, text := value.(string); text && traffic.Secret(name) {
				out[name] = struck
			} else {
				out[name] = strike(value)
			}
		}
		return out
	case []any:
		out := make([]any, len(is))
		for i, value := range is {
			out[i] = strike(value)
		}
		return out
	}
	return v
}

// plainPath is a path with its query in order, as it may be shown: without secrets, those that are
// known and what looks like one in the path. Key is what tells it from others: of what only looks
// like a secret, and may be the name of a thing, it has a sum.
func plainPath(u *url.URL, secrets []string) (shown, key string) {
	shown, key = plainSegments(u.EscapedPath(), secrets)
	q := u.Query()
	for name := range q {
		if traffic.Secret(name) {
			q[name] = []string{struck}
		}
	}
	if len(q) > 0 {
		shown, key = shown+"?"+q.Encode(), key+"?"+q.Encode()
	}
	return shown, key
}

// struckInPath stands for a secret in a path.
const struckInPath = "struck-out"

var (
	// named finds a secret behind the name of whom it is given to: bot110201543:AAHdqTcvCH1vGWJx.
	named = lazyregexp.New(`^([A-Za-z]*)[0-9]+:[A-Za-z0-9_-]{12,}$`)
	// long are segments that may be made at random.
	long = lazyregexp.New(`^[A-Za-z0-9_.~-]{22,}$`)
	// prefixed are names of things as many interfaces make them: ch_3MmlLrLkdIwHu7ix0snN0B15.
	prefixed = lazyregexp.New(`^([a-z]{2,10})_[A-Za-z0-9]+$`)
)

// secretParents are segments behind which a secret follows: /token/4f5e6d.
var secretParents = []string{"token", "key", "secret", "apikey", "api-key", "api_key"}

// plainSegments is plainPath for the path alone.
func plainSegments(path string, secrets []string) (shown, key string) {
	parts := strings.Split(path, "/")
	keys := slices.Clone(parts)
	before := ""
	for i, part := range parts {
		text, err := url.PathUnescape(part)
		if err != nil {
			text = part
		}
		switch m := named.FindStringSubmatch(text); {
		case m != nil:
			parts[i], keys[i] = m[1]+struckInPath, m[1]+struckInPath
		case slices.Contains(secrets, text), len(text) >= shortest && slices.Contains(secretParents, strings.ToLower(before)):
			parts[i], keys[i] = struckInPath, struckInPath
		case atRandom(text):
			sum := sha256.Sum256([]byte(text))
			parts[i], keys[i] = struckInPath, hex.EncodeToString(sum[:])
		}
		before = text
	}
	return strings.Join(parts, "/"), strings.Join(keys, "/")
}

// atRandom reports whether a segment of a path may be a secret that was made at random, and is none
// of the usual forms of names of things.
func atRandom(text string) bool {
	if !long.MatchString(text) {
		return false
	}
	if m := prefixed.FindStringSubmatch(text); m != nil && !slices.Contains([]string{"sk", "rk", "pk", "key", "secret", "token", "whsec"}, m[1]) {
		return false
	}
	return strings.ContainsAny(text, "0123456789") && strings.ToLower(text) != text && strings.ToUpper(text) != text
}

// plainBody is a body without secrets.
func plainBody(header http.Header, b []byte) any {
	if len(b) == 0 {
		return nil
	}
	var v any
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	if d.Decode(&v) == nil {
		return strike(v)
	}
	if strings.HasPrefix(header.Get("Content-Type"), "application/x-www-form-urlencoded") {
		if q, err := url.ParseQuery(string(b)); err == nil {
			_, key := plainPath(&url.URL{RawQuery: q.Encode()}, nil)
			return strings.TrimPrefix(key, "?")
		}
	}
	if utf8.Valid(b) {
		return string(b)
	}
	sum := sha256.Sum256(b)
	return "sha256 " + hex.EncodeToString(sum[:])
}

// shortest is how long a secret must be to be looked for in an answer.
const shortest = 6

// secretsOf returns the secrets of a request, which an answer may repeat.
func secretsOf(r *http.Request, body []byte) []string {
	var out []string
	add := func(values ...string) {
		for _, v := range values {
			if len(v) >= shortest && !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	for name, values := range r.Header {
		if traffic.Secret(name) {
			for _, v := range values {
				add(v)
				if _, credentials, ok := strings.Cut(v, " "); ok {
					add(credentials)
				}
			}
		}
	}
	if user, password, ok := r.BasicAuth(); ok {
		add(user+":"+password, password)
	}
	for _, c := range r.Cookies() {
		add(c.Value)
	}
	fields := func(q url.Values) {
		for name, values := range q {
			if traffic.Secret(name) {
				add(values...)
			}
		}
	}
	fields(r.URL.Query())
	var v any
	if json.Unmarshal(body, &v) == nil {
		addSecrets(v, add)
	} else if q, err := url.ParseQuery(string(body)); err == nil {
		fields(q)
	}
	// A longer one first: it may begin with another.
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}

// addSecrets adds the values of a JSON value whose names say that they are secret.
func addSecrets(v any, add func(...string)) {
	switch is := v.(type) {
	case map[string]any:
		for name, value := range is {
			if text, ok := value.(string); ok && traffic.Secret(name) {
				add(text)
			}
			addSecrets(value, add)
		}
	case []any:
		for _, value := range is {
			addSecrets(value, add)
		}
	}
}

// strikeText replaces secrets in a text, however they are written in it.
func strikeText(text string, secrets []string) string {
	for _, s := range secrets {
		quoted, _ := json.Marshal(s) // of a text: never fails
		for _, form := range []string{s, strings.Trim(string(quoted), `"`), url.QueryEscape(s), url.PathEscape(s)} {
			text = strings.ReplaceAll(text, form, struck)
		}
	}
	return text
}

var notInNames = lazyregexp.New(`[^a-zA-Z0-9]+`)

// fileFor is where the answer of a request is kept: path is that which may be shown, key that which
// tells it from others.
func fileFor(dir, method, path, key string, body any) string {
	b, _ := json.Marshal(body) // which was JSON, or a text
	sum := sha256.Sum256([]byte(method + " " + key + "\n" + string(b)))
	name, _, _ := strings.Cut(path, "?")
	name = strings.Trim(notInNames.ReplaceAllString(name, "-"), "-")
	return filepath.Join(dir, method+"-"+name[:min(len(name), 60)]+"-"+hex.EncodeToString(sum[:5])+".json")
}

// keptHeaders are those of an answer that are kept.
var keptHeaders = []string{"Content-Type", "Location", "Link", "Etag", "Retry-After", "Content-Language", "Cache-Control"}

// errUnrecorded says that there is no recording, and that the real API isn't asked.
var errUnrecorded = errors.New("it is not recorded")

// recorded answers from a recording, or from the real API, which is recorded then.
func (s *Server) recorded(w http.ResponseWriter, r *http.Request, body []byte) error {
	kept := plainBody(r.Header, body)
	path, key := plainPath(r.URL, secretsOf(r, body))
	file := fileFor(s.config.Recordings, r.Method, path, key, kept)
	b, err := os.ReadFile(file)
	if err == nil {
		var rec recording
		d := json.NewDecoder(bytes.NewReader(b))
		d.UseNumber()
		if err := d.Decode(&rec); err != nil {
			return fmt.Errorf("%s is damaged: %w; delete it to have it recorded anew", file, err)
		}
		return rec.write(w)
	}
	switch {
	case !errors.Is(err, fs.ErrNotExist):
		return err
	case s.config.Record == "":
		return errUnrecorded
	case s.config.Offline != "":
		return fmt.Errorf("%w, and %s", errUnrecorded, s.config.Offline)
	}
	return s.record(w, r, body, file, kept)
}

func (rec *recording) write(w http.ResponseWriter) error {
	for name, value := range rec.Headers {
		w.Header().Set(name, value)
	}
	body := rec.Bytes
	switch {
	case rec.JSON != nil:
		var err error
		if body, err = json.Marshal(rec.JSON); err != nil {
			return err
		}
	case rec.Text != "":
		body = []byte(rec.Text)
	}
	w.Header().Set("Neighbour-Recorded", "yes")
	w.WriteHeader(rec.Status)
	_, _ = w.Write(body)
	return nil
}

// passedOn are the headers that concern one connection only (RFC 9110, section 7.6.1), and
// those that the client adds itself.
var notPassedOn = []string{"Connection", "Keep-Alive", "Proxy-Connection", "Te", "Trailer", "Transfer-Encoding", "Upgrade", "Host", "Content-Length", "Accept-Encoding", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto", "X-Forwarded-Port", "Forwarded"}

// record asks the real API, keeps its answer, and passes it on.
func (s *Server) record(w http.ResponseWriter, r *http.Request, body []byte, file string, kept any) error {
	base, err := url.Parse(s.config.Record)
	if err != nil {
		return err
	}
	to := base.JoinPath(r.URL.EscapedPath())
	to.RawQuery = r.URL.RawQuery
	ctx, cancel := context.WithTimeout(r.Context(), recordTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, r.Method, to.String(), bytes.NewReader(body))
	if err != nil {
		return err
	}
	for name, values := range r.Header {
		if !slices.Contains(notPassedOn, name) {
			req.Header[name] = values
		}
	}
	resp, err := s.http.Do(req)
	if err != nil {
		return fmt.Errorf("the real API at %s does not answer: %w", base.Host, errors.Unwrap(err))
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, bodyLimit+1))
	if err != nil {
		return fmt.Errorf("the answer of the real API broke off: %w", err)
	}
	if len(answer) > bodyLimit {
		return fmt.Errorf("the real API answered more than %d MB, which is not recorded", bodyLimit>>20)
	}
	rec := recording{Status: resp.StatusCode, Headers: map[string]string{}}
	secrets := secretsOf(r, body)
	rec.Request.Method, rec.Request.Body = r.Method, kept
	rec.Request.Path, _ = plainPath(r.URL, secrets)
	// The response may repeat secrets of the path, too.
	for part := range strings.SplitSeq(r.URL.Path, "/") {
		if shown, _ := plainSegments(part, secrets); shown != part && shown != url.PathEscape(part) {
			secrets = append(secrets, part)
		}
	}
	for _, name := range keptHeaders {
		if v := resp.Header.Get(name); v != "" {
			rec.Headers[name] = strikeText(v, secrets)
		}
	}
	keep := answer
	if utf8.Valid(keep) {
		keep = []byte(strikeText(string(keep), secrets))
	}
	var v any
	d := json.NewDecoder(bytes.NewReader(keep))
	d.UseNumber()
	switch {
	case len(keep) == 0:
	case isJSON(resp.Header.Get("Content-Type")) && d.Decode(&v) == nil && v != nil:
		rec.JSON = strike(v)
	case utf8.Valid(keep):
		rec.Text = string(keep)
	default:
		rec.Bytes = keep
	}
	// What failed for a moment is not what is wanted again and again.
	if resp.StatusCode < 500 && resp.StatusCode != http.StatusTooManyRequests {
		text, err := json.MarshalIndent(rec, "", "  ")
		if err != nil {
			return err
		}
		if err := os.MkdirAll(s.config.Recordings, 0o755); err != nil {
			return err
		}
		if err := atomicfile.Write(file, append(text, '\n'), 0o644); err != nil {
			return err
		}
		s.Log.Printf("recorded: %s %s, %d, in %s", r.Method, rec.Request.Path, resp.StatusCode, filepath.Base(file))
	}
	for name, values := range resp.Header {
		if !slices.Contains(notPassedOn, name) {
			w.Header()[name] = values
		}
	}
	w.WriteHeader(resp.StatusCode)
	_, _ = w.Write(answer)
	return nil
}
