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
// The kinds that a declaration has itself are added, if it is given.
func Schema(kinds Catalogue, d *Declaration) ([]byte, error) {
	c := &checker{kinds: kinds, decl: d}
	if d == nil {
		c.decl = &Declaration{}
	}
	names := slices.Clone(c.kindNames())
	slices.Sort(names)
	service := object(reflect.TypeFor[Service]())
	properties := service["properties"].(map[string]any)
	properties["kind"].(map[string]any)["enum"] = names
	service["unevaluatedProperties"] = false
	delete(service, "additionalProperties")
	var branches []any
	for _, name := range names {
		info, _ := c.describe(name)
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
				"name":    map[string]any{"type": "string", "pattern": serviceName.String(), "description": "the project's name; left out: its folder's"},
				"offline": map[string]any{"type": "boolean", "description": "nothing is started that a variable leads outside this machine, other than those of outside"},
				"outside": map[string]any{"type": "array", "items": map[string]any{"type": "string"}, "description": "variables that are meant to lead outside this machine: [\"api.PAYMENTS_URL\"]"},
			}},
			"service": map[string]any{"type": "object", "minProperties": 1, "additionalProperties": false,
				"patternProperties": map[string]any{serviceName.String(): map[string]any{"$ref": "#/$defs/service"}}},
			"errand":    named("one-off commands", object(reflect.TypeFor[Errand]())),
			"trigger":   named("what is done when something happens", trigger(kinds)),
			"env":       described("a file of environment variables that the app itself reads", object(reflect.TypeFor[EnvFile]())),
			"gate":      described("by which names the services are reached", object(reflect.TypeFor[Gate]())),
			"snapshots": described("what is done about the data that services keep", object(reflect.TypeFor[Snapshots]())),
			"kind":      named("kinds of the project's own", object(reflect.TypeFor[CustomKind]())),
			"profile": named("named sets of changes, chosen with start --profile", map[string]any{"type": "object", "additionalProperties": false,
				// What a service may have depends on its kind, which stands elsewhere.
				"properties": map[string]any{"service": named("", map[string]any{"type": "object"}), "errand": named("", map[string]any{"type": "object"}), "trigger": named("", map[string]any{"type": "object"}), "env": map[string]any{"type": "object"}, "gate": map[string]any{"type": "object"}}}),
		},
		"$defs": map[string]any{"service": service},
	}
	b, err := json.MarshalIndent(schema, "", "  ")
	return append(b, '\n'), err
}

// trigger returns the schema of a trigger.
func trigger(c Catalogue) map[string]any {
	whole := object(reflect.TypeFor[Trigger]())
	properties := whole["properties"].(map[string]any)
	part := func(doc string, t reflect.Type, text string, has func(KindInfo) bool) map[string]any {
		o := described(doc, object(t))
		for _, name := range c.Kinds() {
			if info, ok := c.Describe(name); ok && has(info) {
				o["properties"].(map[string]any)[name] = map[string]any{"type": "string", "description": text + " a service of kind " + name}
			}
		}
		return o
	}
	properties["on"] = part("what happens: { documents = \"loans\", change = [\"insert\"] }, { cron = \"0 8 * * MON-FRI\" }, { state = \"failed\", service = \"api\" }", reflect.TypeFor[Source](), "what is watched of", func(k KindInfo) bool { return len(k.Changes) > 0 })
	properties["send"] = part("what gets each event as a message: { rabbitmq = \"jobs\" }", reflect.TypeFor[Send](), "what gets the message of", func(k KindInfo) bool { return k.Takes })
	return whole
}

func described(doc string, schema map[string]any) map[string]any {
	if doc != "" {
		schema["description"] = doc
	}
	return schema
}

// named returns the schema of a table of tables with names of the user's.
func named(doc string, entry map[string]any) map[string]any {
	return described(doc, map[string]any{"type": "object", "additionalProperties": false, "patternProperties": map[string]any{serviceName.String(): entry}})
}

// object returns the schema of a struct with toml tags.
func object(t reflect.Type) map[string]any {
	properties := map[string]any{}
	for _, f := range Keys(t) {
		s := schemaOf(f.Type)
		if f.Or != "" {
			s = map[string]any{"oneOf": []any{s, map[string]any{"const": f.Or}}}
		}
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
	// Or is a text that may stand in place of the value; "" if none may.
	Or string
}

// Keys lists the keys of a struct with toml tags, in its order.
func Keys(t reflect.Type) []Key {
	var keys []Key
	for i := range t.NumField() {
		f := t.Field(i)
		if name := f.Tag.Get("toml"); name != "" {
			keys = append(keys, Key{name, f.Tag.Get("doc"), f.Type, f.Tag.Get("or")})
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
	case t == seedType:
		return map[string]any{"oneOf": []any{text, object(t)}}
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
	case reflect.Float64:
		return map[string]any{"type": "number", "exclusiveMinimum": 0}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.String:
		return text
	}
	panic("declare: no schema for a " + t.String())
}

// TypeInWords says what a key takes.
func (k Key) TypeInWords() string {
	if k.Or != "" {
		return typeInWords(k) + " or \"" + k.Or + "\""
	}
	return typeInWords(k)
}

func typeInWords(k Key) string {
	switch t := k.Type; {
	case t == reflect.TypeFor[*bool]():
		return "true or false"
	case t == durationType:
		return "length of time"
	case t == commandType:
		return "command"
	case t == serviceType:
		return "service"
	case t == seedType:
		return "file, or table"
	case t.Kind() == reflect.Slice:
		return "list"
	case t.Kind() == reflect.Map, t.Kind() == reflect.Pointer, t.Kind() == reflect.Struct && !reflect.PointerTo(t).Implements(textReader) && t != textType && t != wordType:
		return "table"
	case t == reflect.TypeFor[Size]():
		return "size"
	case t.Kind() == reflect.Int, t.Kind() == reflect.Float64:
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
		doc := strings.ReplaceAll(k.Doc, "|", `\|`)
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", k.Name, k.TypeInWords(), doc)
	}
	return b.String()
}

// HasKey reports whether settings have a key.
func HasKey(settings any, key string) bool {
	return slices.ContainsFunc(Keys(reflect.TypeOf(settings).Elem()), func(k Key) bool { return k.Name == key })
}
