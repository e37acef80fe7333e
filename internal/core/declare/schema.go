package declare

import (
	"encoding"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// SchemaID is the identifier of the declaration's schema.
const SchemaID = "https://example.org/neighbour/neighbour.schema.json"

// Schema generates the JSON Schema (draft 2020-12) of the declaration from
// the types that read it, so that editors can complete and check the file.
func Schema(kinds Catalogue) ([]byte, error) {
	names := slices.Clone(kinds.Kinds())
	slices.Sort(names)
	service := object(reflect.TypeFor[Service]())
	properties := service["properties"].(map[string]any)
	properties["kind"].(map[string]any)["enum"] = names
	service["unevaluatedProperties"] = false
	delete(service, "additionalProperties")
	var branches []any
	for _, name := range names {
		info, _ := kinds.Describe(name)
		own := object(reflect.TypeOf(info.Settings()).Elem())
		delete(own, "additionalProperties")
		when := map[string]any{"properties": map[string]any{"kind": map[string]any{"const": name}}}
		if name != DefaultKind { // a service without a kind is a program
			when["required"] = []string{"kind"}
		}
		branches = append(branches, map[string]any{"if": when, "then": own})
	}
	service["allOf"] = branches
	schema := map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": SchemaID,
		"title": "A project's declaration for Neighbour", "type": "object", "additionalProperties": false,
		"required": []string{"service"},
		"properties": map[string]any{
			"project": map[string]any{"type": "object", "additionalProperties": false, "properties": map[string]any{
				"name": map[string]any{"type": "string", "pattern": serviceName.String(), "description": "the project's name; left out: its folder's"},
			}},
			"service": map[string]any{"type": "object", "minProperties": 1, "additionalProperties": false,
				"patternProperties": map[string]any{serviceName.String(): map[string]any{"$ref": "#/$defs/service"}}},
		},
		"$defs": map[string]any{"service": service},
	}
	b, err := json.MarshalIndent(schema, "", "  ")
	return append(b, '\n'), err
}

// object is the schema of a struct with toml tags.
func object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	for _, f := range Keys(t) {
		s := schemaOf(f.Type)
		s["description"] = f.Doc
		properties[f.Name] = s
	}
	return map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
}

// Key is a key of the declaration, as its type tells.
type Key struct {
	Name string
	Doc  string
	Type reflect.Type
}

// Keys lists the keys of a struct with toml tags, in its order.
func Keys(t reflect.Type) []Key {
	var keys []Key
	for i := range t.NumField() {
		f := t.Field(i)
		if name := f.Tag.Get("toml"); name != "" {
			keys = append(keys, Key{name, f.Tag.Get("doc"), f.Type})
		}
	}
	return keys
}

func schemaOf(t reflect.Type) map[string]any {
	text := map[string]any{"type": "string"}
	switch {
	case t == durationType:
		text["pattern"] = `^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`
		return text
	case t == commandType:
		return map[string]any{"oneOf": []any{text, map[string]any{"type": "array", "items": map[string]any{"type": "string"}, "minItems": 1}}}
	case t == textType, t == wordType, t == serviceType, reflect.PointerTo(t).Implements(textReader), t.Implements(reflect.TypeFor[encoding.TextUnmarshaler]()):
		return text
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem())
	case reflect.Struct:
		return object(t)
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem())}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.String:
		return text
	}
	panic("declare: no schema for a " + t.String())
}

// TypeInWords says what a key takes.
func (k Key) TypeInWords() string {
	switch t := k.Type; {
	case t == durationType:
		return "length of time"
	case t == commandType:
		return "command"
	case t == serviceType:
		return "service"
	case t.Kind() == reflect.Slice:
		return "list"
	case t.Kind() == reflect.Map, t.Kind() == reflect.Pointer, t.Kind() == reflect.Struct && !reflect.PointerTo(t).Implements(textReader) && t != textType && t != wordType:
		return "table"
	case t.Kind() == reflect.Int:
		return "number"
	case t.Kind() == reflect.Bool:
		return "true or false"
	}
	return "text"
}

// KeyTable writes a table of keys in Markdown.
func KeyTable(t reflect.Type) string {
	var b strings.Builder
	b.WriteString("| key | takes | meaning |\n|---|---|---|\n")
	for _, k := range Keys(t) {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", k.Name, k.TypeInWords(), strings.ReplaceAll(k.Doc, "|", `\|`))
	}
	return b.String()
}
