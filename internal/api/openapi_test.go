package api

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

var update = flag.Bool("update", false, "write docs/openapi.yaml anew")

// The description of the interface is made of the endpoints and of the types
// that they take and return, with the words that stand at those in the source:
// go test ./internal/api -update writes it anew.
func TestDescriptionIsCurrent(t *testing.T) {
	s := NewServer(nil, nil, slog.New(slog.DiscardHandler))
	o := &openAPI{named: map[string]reflect.Type{}, schemas: map[string]any{}, sources: map[string]*source{}, t: t}
	paths := map[string]map[string]any{}
	for _, d := range s.described {
		path := "/v" + Version + d.path
		if paths[path] == nil {
			paths[path] = map[string]any{}
		}
		paths[path][strings.ToLower(d.method)] = o.operation(d)
	}
	o.schemas["Problem"] = o.object(reflect.TypeFor[Problem]())
	b, err := yaml.Marshal(map[string]any{
		"openapi": "3.1.0", "servers": []any{map[string]any{"url": "http://keeper"}}, "paths": paths, "components": map[string]any{"schemas": o.schemas},
		"info": map[string]any{"title": "Neighbour's keeper", "version": Version, "description": `The background process of one project. It serves HTTP on a Unix socket,
run/keeper.sock in the project's state, which .neighbour/place in the project names (a
path that is too long for a socket is replaced by one in the folder that run/sockets
names). Only its owner may connect.

A client sends the version that it speaks in the header Neighbour-Api; a keeper of
another version answers 409 and says so. Answers have the header, too. In the
header Neighbour-By it says who asks. Times are RFC 3339. A request whose client
has gone before it could begin is not carried out.
`},
	})
	require.NoError(t, err)
	got := "# Made from internal/api/endpoint.go by: go test ./internal/api -update\n" + string(b)
	const file = "../../docs/openapi.yaml"
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, string(want) == got, "docs/openapi.yaml is not current: write it anew with -update")

	// What clients see changes together with the version that they ask for.
	shape, err := yaml.Marshal(shapeOf(map[string]any{"paths": paths, "schemas": o.schemas}))
	require.NoError(t, err)
	shape = bytes.ReplaceAll(shape, []byte("/v"+Version+"/"), []byte("/"))
	sum := sha256.Sum256(shape)
	now := Version + " " + hex.EncodeToString(sum[:8]) + "\n"
	const versions = "testdata/version.txt" // the version, and a digest of what clients of it see
	b, err = os.ReadFile(versions)
	require.NoError(t, err)
	if was, _, _ := strings.Cut(string(b), " "); *update && was != Version {
		require.NoError(t, os.WriteFile(versions, []byte(now), 0o644))
		return
	}
	assert.Equal(t, string(b), now, "what clients see has changed, or the version alone has: raise Version in api.go, then write both anew with -update")
}

// shapeOf returns a description without its prose.
func shapeOf(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for name, one := range v {
			if _, prose := one.(string); !prose || name != "description" && name != "summary" {
				out[name] = shapeOf(one)
			}
		}
		return out
	case map[string]map[string]any:
		out := map[string]any{}
		for name, one := range v {
			out[name] = shapeOf(one)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, one := range v {
			out[i] = shapeOf(one)
		}
		return out
	}
	return v
}

type openAPI struct {
	schemas map[string]any
	named   map[string]reflect.Type
	sources map[string]*source // by package
	t       *testing.T
}

// source is what a package says of its types.
type source struct {
	fields map[string]string // comments, by "Type.Field"
	types  map[string]string
	values map[string][]string // of string constants, by their type
}

func (o *openAPI) operation(d described) map[string]any {
	content := map[string]any{"application/json": map[string]any{"schema": o.schema(d.out)}}
	if d.stream {
		content = map[string]any{"text/event-stream": map[string]any{"schema": o.schema(d.out)}}
	}
	problem := func(says string) any {
		return map[string]any{"description": says, "content": map[string]any{"application/json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/Problem"}}}}
	}
	op := map[string]any{"summary": d.summary, "responses": map[string]any{
		strconv.Itoa(d.code): map[string]any{"description": "The answer.", "content": content}, strconv.Itoa(d.refusal): problem("It could not be done."),
	}}
	if d.details != "" {
		op["description"] = d.details
	}
	var parameters []any
	for _, m := range regexp.MustCompile(`\{(\w+)\}`).FindAllStringSubmatch(d.path, -1) {
		parameters = append(parameters, map[string]any{"name": m[1], "in": "path", "required": true, "schema": map[string]any{"type": "string"}})
		op["responses"].(map[string]any)["404"] = problem("There is none of that name.")
	}
	for _, q := range d.query {
		parameters = append(parameters, map[string]any{"name": q.name, "in": "query", "description": q.says, "schema": map[string]any{"type": q.kind}})
	}
	if parameters != nil {
		op["parameters"] = parameters
	}
	if d.in != reflect.TypeFor[none]() {
		op["requestBody"] = map[string]any{"required": true, "content": map[string]any{"application/json": map[string]any{"schema": o.schema(d.in)}}}
		op["responses"].(map[string]any)["400"] = problem("The request's body is not what it should be.")
	}
	return op
}

var textMarshaler = reflect.TypeFor[interface{ MarshalText() ([]byte, error) }]()

func (o *openAPI) schema(t reflect.Type) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t.Implements(textMarshaler):
		return map[string]any{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return o.schema(t.Elem())
	case reflect.Slice, reflect.Array:
		return map[string]any{"type": "array", "items": o.schema(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": o.schema(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.String:
		s := map[string]any{"type": "string"}
		if values := o.source(t).values[t.Name()]; t.PkgPath() != "" && len(values) > 0 {
			s["enum"] = values
		}
		return s
	case reflect.Float32, reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Struct:
		name := o.nameOf(t)
		if _, known := o.schemas[name]; !known {
			o.schemas[name] = nil // it may be part of itself
			o.schemas[name] = o.object(t)
		}
		return map[string]any{"$ref": "#/components/schemas/" + name}
	}
	return map[string]any{"type": "integer"}
}

// nameOf returns what the schema of a type is called: as the type, with its package before it where
// a type of another package is called so, too.
func (o *openAPI) nameOf(t reflect.Type) string {
	name := t.Name()
	if was := o.named[name]; was != nil && was != t {
		in := path.Base(t.PkgPath())
		name = strings.ToUpper(in[:1]) + in[1:] + name
	}
	o.named[name] = t
	return name
}

// object describes a struct as encoding/json writes it.
func (o *openAPI) object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	var add func(t reflect.Type)
	add = func(t reflect.Type) {
		for i := range t.NumField() {
			f := t.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Anonymous && name == "" {
				add(f.Type)
				continue
			}
			if !f.IsExported() || name == "-" {
				continue
			}
			s := o.schema(f.Type)
			if says := o.source(t).fields[t.Name()+"."+f.Name]; says != "" {
				s["description"] = says
			}
			properties[cmp.Or(name, f.Name)] = s
		}
	}
	add(t)
	out := map[string]any{"type": "object", "properties": properties}
	if says := o.source(t).types[t.Name()]; says != "" {
		out["description"] = says
	}
	return out
}

// source reads what the source of a type's package says.
func (o *openAPI) source(t reflect.Type) *source {
	path := t.PkgPath()
	if s := o.sources[path]; s != nil {
		return s
	}
	s := &source{map[string]string{}, map[string]string{}, map[string][]string{}}
	o.sources[path] = s
	files, err := filepath.Glob(filepath.Join("..", "..", strings.TrimPrefix(path, "neighbour/"), "*.go"))
	require.NoError(o.t, err)
	for _, file := range files {
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
		require.NoError(o.t, err)
		ast.Inspect(parsed, func(n ast.Node) bool {
			if decl, ok := n.(*ast.GenDecl); ok {
				s.read(decl)
			}
			return true
		})
	}
	return s
}

func (s *source) read(decl *ast.GenDecl) {
	for _, spec := range decl.Specs {
		switch spec := spec.(type) {
		case *ast.ValueSpec:
			if kind, ok := spec.Type.(*ast.Ident); ok && decl.Tok == token.CONST {
				for _, v := range spec.Values {
					if text, ok := v.(*ast.BasicLit); ok && text.Kind == token.STRING {
						value, _ := strconv.Unquote(text.Value)
						s.values[kind.Name] = append(s.values[kind.Name], value)
					}
				}
			}
		case *ast.TypeSpec:
			s.types[spec.Name.Name] = comment(decl.Doc, spec.Doc)
			if st, ok := spec.Type.(*ast.StructType); ok {
				for _, f := range st.Fields.List {
					for _, name := range f.Names {
						s.fields[fmt.Sprintf("%s.%s", spec.Name.Name, name.Name)] = comment(f.Doc, f.Comment)
					}
				}
			}
		}
	}
}

// comment returns those of the first comment that there is, on one line.
func comment(comments ...*ast.CommentGroup) string {
	for _, c := range comments {
		if c != nil {
			return strings.Join(strings.Fields(c.Text()), " ")
		}
	}
	return ""
}
