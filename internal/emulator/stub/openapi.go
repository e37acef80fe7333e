package stub

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
)

// document is an OpenAPI document, ready to answer.
type document struct {
	file       string
	spec       *openapi3.T
	base       []string // the paths of its servers
	operations paths[*operation]
	count      int
	problems   []string
}

type operation struct {
	route *routers.Route
}

// load reads a document, with others in the same folder or below that it refers to; nothing is
// read from elsewhere.
func load(file, root string) (*document, error) {
	loader := openapi3.NewLoader()
	loader.IsExternalRefsAllowed = true
	within, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	loader.ReadFromURIFunc = func(_ *openapi3.Loader, u *url.URL) ([]byte, error) {
		if u.Scheme != "" && u.Scheme != "file" || u.Host != "" {
			return nil, fmt.Errorf("%s is elsewhere; only files of the project are read", u)
		}
		path, err := filepath.Abs(filepath.FromSlash(u.Path))
		if err != nil {
			return nil, err
		}
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
		}
		if real, err := filepath.EvalSymlinks(within); err == nil {
			within = real
		}
		if rel, err := filepath.Rel(within, path); err != nil || !filepath.IsLocal(rel) {
			return nil, fmt.Errorf("%s is outside of the project", path)
		}
		return os.ReadFile(path)
	}
	spec, err := loader.LoadFromFile(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if spec.OpenAPI == "" || spec.Paths == nil {
		return nil, fmt.Errorf("%s is no OpenAPI 3 document: it has no openapi and paths", file)
	}
	d := &document{file: file, spec: spec}
	if err := spec.Validate(context.Background(), openapi3.DisableExamplesValidation(), openapi3.DisableSchemaPatternValidation()); err != nil {
		line, _, _ := strings.Cut(err.Error(), "\n")
		d.problems = append(d.problems, "the document is not quite right: "+line)
	}
	for _, s := range spec.Servers {
		if u, err := url.Parse(braces.ReplaceAllString(s.URL, "x")); err == nil && strings.Trim(u.Path, "/") != "" {
			d.base = append(d.base, strings.TrimSuffix(u.Path, "/"))
		}
	}
	for _, path := range slices.Sorted(maps.Keys(spec.Paths.Map())) {
		item := spec.Paths.Map()[path]
		for method, op := range item.Operations() {
			d.count++
			// The parameters of the path hold for each of its methods.
			if !d.operations.add(method, path, &operation{&routers.Route{Spec: spec, Path: path, PathItem: item, Method: method, Operation: op}}) {
				d.problems = append(d.problems, method+" "+path+" is there twice, under other names")
			}
		}
	}
	return d, nil
}

// find finds the operation of a request, whose path may begin with that of a server.
func (d *document) find(r *http.Request) (*operation, map[string]string, []string) {
	path := r.URL.EscapedPath()
	op, params, methods, ok := d.operations.find(r.Method, path)
	if ok {
		return op, params, nil
	}
	for _, base := range d.base {
		if rest, below := strings.CutPrefix(path, base); below && strings.HasPrefix(rest, "/") {
			op, params, more, ok := d.operations.find(r.Method, rest)
			if ok {
				return op, params, nil
			}
			methods = append(methods, more...)
		}
	}
	return nil, nil, methods
}

// violations lists what a request has that the document does not allow.
func (d *document) violations(r *http.Request, op *operation, params map[string]string, body []byte) []string {
	in := &openapi3filter.RequestValidationInput{Request: r.Clone(r.Context()), PathParams: params, Route: op.route,
		Options: &openapi3filter.Options{MultiError: true, AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, SkipSettingDefaults: true}}
	in.Request.Body = http.NoBody
	if len(body) > 0 {
		in.Request.Body = bodyOf(body)
	}
	err := openapi3filter.ValidateRequest(r.Context(), in)
	if err == nil {
		return nil
	}
	var out []string
	var flatten func(prefix string, err error)
	flatten = func(prefix string, err error) {
		switch e := err.(type) { //nolint:errorlint // what they wrap is looked at in its turn
		case openapi3.MultiError:
			for _, one := range e {
				flatten(prefix, one)
			}
		case *openapi3filter.RequestError:
			where := "the body"
			if e.Parameter != nil {
				where = e.Parameter.In + " parameter " + e.Parameter.Name
			}
			if e.Err != nil {
				flatten(where, e.Err)
				return
			}
			out = append(out, where+": "+e.Reason)
		case *openapi3.SchemaError:
			if at := strings.Join(e.JSONPointer(), "."); at != "" {
				prefix = strings.TrimPrefix(prefix+" at "+at, " at ")
			}
			out = append(out, prefix+": "+plain(e.Reason))
		default:
			line, _, _ := strings.Cut(err.Error(), "\n")
			out = append(out, strings.TrimPrefix(prefix+": "+line, ": "))
		}
	}
	flatten("", err)
	return out
}

// plain returns a reason without what the checker of OpenAPI 3.1 says of itself.
func plain(reason string) string {
	head, rest, ok := strings.Cut(reason, "\n")
	if !ok || !strings.HasPrefix(head, "jsonschema validation failed") {
		return reason
	}
	var parts []string
	for line := range strings.Lines(rest) {
		line = strings.TrimPrefix(strings.TrimSpace(line), "- ")
		parts = append(parts, strings.TrimPrefix(line, "at '': "))
	}
	return strings.Join(parts, ", ")
}

// answer makes the answer of an operation.
func (d *document) answer(r *http.Request, op *operation, params map[string]string, seed int64) (status int, header http.Header, body []byte, problem string) {
	status, response := choose(op.route.Operation)
	header = http.Header{}
	if response == nil {
		return http.StatusNoContent, header, nil, ""
	}
	about := append([]string{r.Method, op.route.Path}, slices.Sorted(maps.Values(params))...)
	for _, name := range slices.Sorted(maps.Keys(response.Headers)) {
		if h := response.Headers[name].Value; h != nil && h.Schema != nil && !strings.EqualFold(name, "Content-Type") {
			if v, ok := newMaker(seed, append(about, name)...).value(h.Schema, name); ok {
				header.Set(name, fmt.Sprint(v))
			}
		}
	}
	kind, media := chooseMedia(response.Content, r.Header.Get("Accept"))
	if media == nil {
		return status, header, nil, ""
	}
	header.Set("Content-Type", kind)
	v, made, ok := example(media, seed, about)
	if !ok {
		return http.StatusInternalServerError, header, nil, "no value can be made of the schema of " + op.route.Method + " " + op.route.Path + ": it needs itself without an end"
	}
	if made {
		echo(v, params)
	}
	if text, is := v.(string); is && !isJSON(kind) {
		return status, header, []byte(text), ""
	}
	body, err := json.Marshal(v)
	if err != nil {
		return http.StatusInternalServerError, header, nil, err.Error()
	}
	return status, header, body, ""
}

// choose returns the response that stands for success: the lowest of 2xx, else the default, else
// the lowest there is.
func choose(op *openapi3.Operation) (int, *openapi3.Response) {
	if op.Responses == nil {
		return 0, nil
	}
	all := op.Responses.Map()
	var codes []string
	for code := range all {
		codes = append(codes, code)
	}
	slices.Sort(codes)
	status := func(code string) int {
		n, err := strconv.Atoi(strings.NewReplacer("XX", "00", "xx", "00").Replace(code))
		if err != nil || n < 100 {
			return http.StatusOK
		}
		return n
	}
	for _, code := range codes {
		if strings.HasPrefix(code, "2") && all[code].Value != nil {
			return status(code), all[code].Value
		}
	}
	if d := all["default"]; d != nil && d.Value != nil {
		return http.StatusOK, d.Value
	}
	for _, code := range codes {
		if all[code].Value != nil {
			return max(200, status(code)), all[code].Value
		}
	}
	return 0, nil
}

func isJSON(kind string) bool {
	media, _, err := mime.ParseMediaType(kind)
	return err == nil && (media == "application/json" || strings.HasSuffix(media, "+json"))
}

// chooseMedia returns the type of an answer that is asked for, JSON before others.
func chooseMedia(content openapi3.Content, accept string) (string, *openapi3.MediaType) {
	kinds := slices.Sorted(maps.Keys(content))
	slices.SortStableFunc(kinds, func(a, b string) int {
		rank := func(k string) int {
			switch {
			case accept != "" && strings.Contains(accept, strings.Split(k, ";")[0]):
				return 0
			case isJSON(k):
				return 1
			}
			return 2
		}
		return rank(a) - rank(b)
	})
	if len(kinds) == 0 {
		return "", nil
	}
	if strings.Contains(kinds[0], "*") {
		return "application/json", content[kinds[0]]
	}
	return kinds[0], content[kinds[0]]
}

// example returns a value that the document gives, or one that is made.
func example(m *openapi3.MediaType, seed int64, about []string) (v any, made, ok bool) {
	if m.Example != nil {
		return m.Example, false, true
	}
	for _, name := range slices.Sorted(maps.Keys(m.Examples)) {
		if e := m.Examples[name].Value; e != nil && e.Value != nil {
			return e.Value, false, true
		}
	}
	v, ok = newMaker(seed, about...).value(m.Schema, "")
	return v, true, ok
}

// echo has an answer about a thing say which one was asked for.
func echo(v any, params map[string]string) {
	object, ok := v.(map[string]any)
	if !ok {
		return
	}
	for name, value := range params {
		key := name
		if _, has := object[key]; !has {
			if key = "id"; len(params) != 1 && !strings.EqualFold(name, "id") {
				continue
			}
		}
		switch object[key].(type) {
		case string:
			object[key] = value
		case int64:
			if n, err := strconv.ParseInt(value, 10, 64); err == nil {
				object[key] = n
			}
		}
	}
}

func bodyOf(b []byte) *body { return &body{bytes.NewReader(b)} }

type body struct{ *bytes.Reader }

func (*body) Close() error { return nil }
