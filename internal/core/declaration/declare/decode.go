package declare

import (
	"encoding"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"
)

// decoder fills Go values from the tree and collects what is wrong on the
// way, so that one mistake doesn't hide the next.
type decoder struct {
	file     string // what problems without a place are about
	lines    map[string][]string
	problems Problems
}

func (d *decoder) report(key string, at Position, width int, message, remedy string) {
	if at.File == "" {
		at.File = d.file
	}
	// What is taken over from another service is wrong once.
	if slices.ContainsFunc(d.problems, func(p Problem) bool { return p.Position == at && at.Line > 0 && p.Message == message }) {
		return
	}
	d.problems = append(d.problems, Problem{Position: at, Key: key, Width: width, Message: message, Remedy: remedy, Source: d.line(at)})
}

// line returns the line of a place.
func (d *decoder) line(at Position) string {
	if lines := d.lines[at.File]; at.Line > 0 && at.Line <= len(lines) {
		return strings.TrimRight(lines[at.Line-1], "\r")
	}
	return ""
}

func (d *decoder) mistyped(key string, n *node, want, example string) {
	remedy := ""
	if example != "" {
		remedy = "write for example " + example
	}
	if n.kind == stringNode && (want == integerNode.String() || want == boolNode.String()) {
		if text := n.value.(string); text == "true" || text == "false" || isInteger(text) {
			remedy = "leave the quotes out: " + text
		}
	}
	at, width := n.at, n.width
	if width == 0 {
		at, width = n.keyAt, n.keyLen
	}
	d.report(key, at, width, fmt.Sprintf("must be %s, not %s", want, n.kind), remedy)
}

func isInteger(text string) bool {
	_, err := strconv.ParseInt(text, 10, 64)
	return err == nil
}

// field is a key of a struct type, with its value.
type field struct {
	reflect.Value
	or string // a text that may stand in place of the value, which is left alone then
}

// tagged is a struct's field that a key of the declaration fills.
type tagged struct {
	index int
	key   string
	or    string
}

// tags has the tagged fields of the struct types that were seen, since there
// are few types and many values.
var tags sync.Map // reflect.Type to []tagged

func tagsOf(t reflect.Type) []tagged {
	if known, ok := tags.Load(t); ok {
		return known.([]tagged)
	}
	var all []tagged
	for i := range t.NumField() {
		tag := t.Field(i).Tag
		if key := tag.Get("toml"); key != "" {
			all = append(all, tagged{i, key, tag.Get("or")})
		}
	}
	tags.Store(t, all)
	return all
}

// fields maps the keys of struct types to their values.
func fields(targets ...any) (map[string]field, []string) {
	byKey := map[string]field{}
	var keys []string
	for _, target := range targets {
		v := reflect.ValueOf(target).Elem()
		for _, t := range tagsOf(v.Type()) {
			byKey[t.key] = field{v.Field(t.index), t.or}
			keys = append(keys, t.key)
		}
	}
	return byKey, keys
}

// table fills the structs that targets point to. Unknown keys are problems.
func (d *decoder) table(path string, n *node, targets ...any) {
	if n.kind != tableNode {
		d.mistyped(path, n, "a table", "")
		return
	}
	byKey, keys := fields(targets...)
	for _, key := range n.order {
		child := n.table[key]
		field, known := byKey[key]
		if !known {
			d.unknown(join(path, key), key, child, keys)
			continue
		}
		if field.or != "" && child.isText(field.or) {
			continue
		}
		d.value(join(path, key), child, field.Value)
	}
}

// isText reports whether a node is this text.
func (n *node) isText(text string) bool { return n != nil && n.kind == stringNode && n.value == text }

func (d *decoder) unknown(path, key string, n *node, known []string) {
	remedy := "known here: " + list(known)
	if near := Nearest(key, known); near != "" {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	d.report(path, n.keyAt, n.keyLen, fmt.Sprintf("there is no key %q", key), remedy)
}

var (
	textType     = reflect.TypeFor[Text]()
	wordType     = reflect.TypeFor[Word]()
	serviceType  = reflect.TypeFor[ServiceName]()
	commandType  = reflect.TypeFor[Command]()
	seedType     = reflect.TypeFor[Seed]()
	durationType = reflect.TypeFor[time.Duration]()
	textReader   = reflect.TypeFor[encoding.TextUnmarshaler]()
)

func (d *decoder) value(path string, n *node, v reflect.Value) {
	switch t := v.Type(); {
	case t == textType:
		if d.expect(path, n, stringNode, `"text"`) {
			v.Set(reflect.ValueOf(Text{n.value.(string), n.at, n.width}))
		} else if n.kind == integerNode || n.kind == boolNode {
			d.problems[len(d.problems)-1].Remedy = fmt.Sprintf("put it in quotes: \"%v\"", n.value)
		}
	case t == wordType:
		if d.expect(path, n, stringNode, `"text"`) {
			v.Set(reflect.ValueOf(Word{Value: n.value.(string), At: n.at, width: n.width, skipped: n.skipped}))
		}
	case t == serviceType:
		if d.expect(path, n, stringNode, `"${engine}"`) {
			v.Set(reflect.ValueOf(ServiceName{serviceNameOf(n.value.(string)), n.at, n.width}))
		}
	case t == commandType:
		d.command(path, n, v.Addr().Interface().(*Command))
	case t == seedType && n.kind == stringNode:
		d.value(path, n, v.FieldByName("File"))
	case t == seedType && n.kind != tableNode:
		d.mistyped(path, n, "a file of SQL or a table with a command", `"db/seed.sql"`)
	case t == durationType:
		d.duration(path, n, v)
	case reflect.PointerTo(t).Implements(textReader):
		if d.expect(path, n, stringNode, `"text"`) {
			if err := v.Addr().Interface().(encoding.TextUnmarshaler).UnmarshalText([]byte(n.value.(string))); err != nil {
				d.report(path, n.at, n.width, err.Error(), "")
			}
		}
	case t.Kind() == reflect.Pointer:
		v.Set(reflect.New(t.Elem()))
		d.value(path, n, v.Elem())
	case t.Kind() == reflect.Struct:
		if n.kind != tableNode {
			example := ""
			if t == reflect.TypeFor[Preparation]() {
				example = `{ run = "npm ci", when = ["package-lock.json"] }`
			}
			d.mistyped(path, n, "a table", example)
			return
		}
		d.table(path, n, v.Addr().Interface())
	case t.Kind() == reflect.Map:
		if n.kind != tableNode {
			d.mistyped(path, n, "a table", "")
			return
		}
		v.Set(reflect.MakeMap(t))
		for _, key := range n.order {
			item := reflect.New(t.Elem()).Elem()
			d.value(join(path, key), n.table[key], item)
			v.SetMapIndex(reflect.ValueOf(key), item)
		}
	case t.Kind() == reflect.Slice:
		if n.kind != arrayNode {
			d.mistyped(path, n, "a list", `["one", "two"]`)
			return
		}
		for i, item := range n.items {
			e := reflect.New(t.Elem()).Elem()
			d.value(fmt.Sprintf("%s[%d]", path, i), item, e)
			v.Set(reflect.Append(v, e))
		}
	case t.Kind() == reflect.String:
		if d.expect(path, n, stringNode, `"text"`) {
			v.SetString(n.value.(string))
		}
	case t.Kind() == reflect.Int:
		if d.expect(path, n, integerNode, "3") {
			v.SetInt(n.value.(int64))
		}
	case t.Kind() == reflect.Float64:
		d.number(path, n, v)
	case t.Kind() == reflect.Bool:
		if d.expect(path, n, boolNode, "true") {
			v.SetBool(n.value.(bool))
		}
	default:
		panic("declare: no way to read a " + t.String())
	}
}

func (d *decoder) expect(path string, n *node, kind nodeKind, example string) bool {
	if n.kind != kind {
		d.mistyped(path, n, kind.String(), example)
		return false
	}
	return true
}

func (d *decoder) command(path string, n *node, c *Command) {
	switch n.kind {
	case stringNode:
		c.Line = Text{n.value.(string), n.at, n.width}
		if strings.TrimSpace(c.Line.Value) == "" {
			d.report(path, n.at, n.width, "is empty", `write a command, for example "node server.js"`)
		}
	case arrayNode:
		for i, item := range n.items {
			if d.expect(fmt.Sprintf("%s[%d]", path, i), item, stringNode, `["node", "server.js"]`) {
				c.Args = append(c.Args, Text{item.value.(string), item.at, item.width})
			}
		}
		if len(n.items) == 0 {
			d.report(path, n.keyAt, n.keyLen, "is empty", `write a command, for example ["node", "server.js"]`)
		}
	default:
		d.mistyped(path, n, "a command line or a list of arguments", `"node server.js"`)
	}
}

func (d *decoder) duration(path string, n *node, v reflect.Value) {
	if !d.expect(path, n, stringNode, `"500ms", "10s" or "2m"`) {
		return
	}
	parsed, err := time.ParseDuration(n.value.(string))
	switch {
	case err != nil:
		d.report(path, n.at, n.width, fmt.Sprintf("%q is not a length of time", n.value), `write for example "500ms", "10s" or "2m"`)
	case parsed <= 0:
		d.report(path, n.at, n.width, "must be longer than nothing", `write for example "500ms", "10s" or "2m"`)
	default:
		v.SetInt(int64(parsed))
	}
}

func (d *decoder) number(path string, n *node, v reflect.Value) {
	number, err := strconv.ParseFloat(fmt.Sprint(n.value), 64)
	switch {
	case n.kind != integerNode && n.kind != otherNode || err != nil:
		d.mistyped(path, n, "a number", "1.5")
	case !(number > 0 && number < 1e6):
		d.report(path, n.at, n.width, "must be more than nothing", "write for example 1.5")
	default:
		v.SetFloat(number)
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// texts visits every Text inside a value, with its key; the name of a service
// as a text of the form ${name}.
func texts(path string, v reflect.Value, visit func(key string, t Text)) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			texts(path, v.Elem(), visit)
		}
	case reflect.Struct:
		if v.Type() == textType {
			if t := v.Interface().(Text); t.Value != "" {
				visit(path, t)
			}
			return
		}
		if v.Type() == serviceType {
			if s := v.Interface().(ServiceName); s.Name != "" {
				visit(path, Text{"${" + s.Name + "}", s.At, s.width})
			}
			return
		}
		if v.Type() == commandType {
			c := v.Interface().(Command)
			texts(path, reflect.ValueOf(c.Line), visit)
			texts(path, reflect.ValueOf(c.Args), visit)
			return
		}
		for _, t := range tagsOf(v.Type()) {
			texts(join(path, t.key), v.Field(t.index), visit)
		}
	case reflect.Map:
		if e := v.Type().Elem(); e != textType && e != commandType && (e.Kind() != reflect.Struct || reflect.PointerTo(e).Implements(textReader)) {
			return
		}
		for it := v.MapRange(); it.Next(); {
			texts(join(path, it.Key().String()), it.Value(), visit)
		}
	case reflect.Slice:
		for i := range v.Len() {
			texts(path, v.Index(i), visit)
		}
	}
}

// columnIn returns the place of a byte of a text, where the text stands on
// one line; otherwise the text's own place.
func columnIn(t Text, offset int) Position {
	if strings.Contains(t.Value, "\n") {
		return t.At
	}
	return Position{t.At.File, t.At.Line, t.At.Column + 1 + utf8.RuneCountInString(t.Value[:offset])}
}
