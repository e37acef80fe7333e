package redis

import (
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
)

// Source looks into the keys.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	return &source{serverAt(in.Port)}, nil
}

// source looks into a server. Its collections are the keys that begin alike, up to
// a colon: session:*.
type source struct{ server }

// Limits of what is looked through at a time.
const (
	sampled    = 20_000 // keys, to find how they begin
	lookTime   = 300 * time.Millisecond
	partsShown = 1000 // of a list, hash, set or stream
)

const every = "*"

// Collections finds how keys begin. Of many keys it looks at some, and says so.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	size, err := number(s.do(ctx, "DBSIZE"))
	if err != nil {
		return nil, err
	}
	if size == 0 {
		return nil, nil
	}
	counts := map[string]int64{}
	seen, cursor := int64(0), uint64(0)
	whole := false
	for began := time.Now(); seen < sampled && time.Since(began) < lookTime; {
		keys, next, err := s.keys(ctx, cursor, every, 1000)
		if err != nil {
			return nil, err
		}
		for _, k := range keys {
			seen++
			if i := strings.IndexByte(k, ':'); i > 0 && utf8.ValidString(k[:i]) {
				counts[k[:i+1]]++
			}
		}
		if cursor = next; cursor == 0 {
			whole = true
			break
		}
	}
	out := []store.Collection{{Name: every, Title: "all keys", Is: "keys", Count: size, Bytes: -1}}
	for prefix, n := range counts {
		c := store.Collection{Name: store.Join(escape(prefix) + every), Title: prefix + every, Is: "keys", Count: n, Bytes: -1}
		if !whole && seen > 0 {
			c.Count, c.About = n*size/seen, true
		}
		out = append(out, c)
	}
	for i := range out {
		out[i].Can = []string{store.Change, store.Insert, store.Delete, store.Clear}
	}
	sort.Slice(out[1:], func(i, j int) bool { return out[1+i].Title < out[1+j].Title })
	return out, nil
}

// escape takes its meaning from what stands for other characters in a pattern.
func escape(text string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "]", `\]`).Replace(text)
}

// pattern reads a collection's name.
func pattern(collection string) (string, error) {
	parts, err := store.Split(collection)
	if err != nil {
		return "", err
	}
	p := strings.Join(parts, ".")
	if !strings.HasSuffix(p, every) {
		return "", &store.GoneError{What: "a collection " + collection + " (write " + strings.TrimSuffix(p, ":") + ":*, or * for all keys)"}
	}
	return p, nil
}

var columns = []store.Column{
	{Name: "key", Type: "text", Is: store.Text, Key: true}, {Name: "type", Type: "text", Is: store.Text}, {Name: "expires in", Type: "duration", Is: store.Time},
	{Name: "size", Type: "count", Is: store.Number}, {Name: "value", Type: "text", Is: store.Text},
}

// Items returns keys in the order of the server's own scan. A place to go on from is
// the scan's cursor, with the number of keys after it that were told already.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	began := time.Now()
	page := store.Page{Columns: columns, Rows: []store.Row{}}
	match, err := pattern(q.Collection)
	if err != nil {
		return page, err
	}
	if q.Back {
		return page, &store.FixedError{Why: "keys are in no order; go on from the beginning"}
	}
	if q.Where != "" {
		page.Where = fmt.Sprintf("with %q in the key", q.Where)
		if strings.ContainsAny(q.Where, "*?[") {
			page.Where = "like " + q.Where
			match = strings.TrimSuffix(match, every) + q.Where
		} else {
			match = strings.TrimSuffix(match, every) + every + escape(q.Where) + every
		}
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	cursor, told := uint64(0), 0
	if q.After != "" {
		if _, err := fmt.Sscanf(q.After, "%d.%d", &cursor, &told); err != nil {
			return page, fmt.Errorf("%q is not a place to go on from", q.After)
		}
	}
	var found []string
	for limit := began.Add(2 * time.Second); ; {
		keys, next, err := s.keys(ctx, cursor, match, 500)
		if err != nil {
			return page, err
		}
		keys = keys[min(told, len(keys)):]
		if room := q.Limit - len(found); len(keys) > room {
			found = append(found, keys[:room]...)
			page.More, page.Next = true, fmt.Sprintf("%d.%d", cursor, told+room)
			break
		}
		found = append(found, keys...)
		cursor, told = next, 0
		if cursor == 0 {
			break
		}
		if len(found) == q.Limit || time.Now().After(limit) {
			page.More, page.Next = true, fmt.Sprintf("%d.0", cursor)
			break
		}
	}
	if page.Rows, err = s.rows(ctx, found, q.Wide); err != nil {
		return page, err
	}
	page.Took = float64(time.Since(began).Microseconds()) / 1000
	return page, nil
}

// sizes are the commands that tell how many parts a value of a type has.
var sizes = map[string]string{"string": "STRLEN", "list": "LLEN", "hash": "HLEN", "set": "SCARD", "zset": "ZCARD", "stream": "XLEN"}

// rows describes keys, in two exchanges with the server.
func (s *source) rows(ctx context.Context, keys []string, wide int) ([]store.Row, error) {
	var commands [][]any
	for _, k := range keys {
		commands = append(commands, []any{"TYPE", k}, []any{"PTTL", k})
	}
	about, err := s.pipeline(ctx, commands)
	if err != nil {
		return nil, err
	}
	commands = nil
	for i, k := range keys {
		is, _ := about[2*i].(string)
		beginning := []any{"ECHO", ""} // of what can't be shown
		switch is {
		case "string":
			beginning = []any{"GETRANGE", k, 0, wide * 4}
		case "list":
			beginning = []any{"LRANGE", k, 0, 3}
		case "hash":
			beginning = []any{"HSCAN", k, 0, "COUNT", 4}
		case "set":
			beginning = []any{"SSCAN", k, 0, "COUNT", 4}
		case "zset":
			beginning = []any{"ZRANGE", k, 0, 3}
		case "stream":
			beginning = []any{"XREVRANGE", k, "+", "-", "COUNT", 1}
		}
		size := []any{"ECHO", ""}
		if sizes[is] != "" {
			size = []any{sizes[is], k}
		}
		commands = append(commands, size, beginning)
	}
	parts, err := s.pipeline(ctx, commands) // a key may be gone by now
	if err != nil {
		return nil, err
	}
	out := make([]store.Row, 0, len(keys))
	for i, k := range keys {
		is, _ := about[2*i].(string)
		if is == "none" {
			continue // it has expired
		}
		row := store.Row{Key: store.KeyFor(k), Values: []store.Value{store.TextOf(k, wide), {Text: is, Is: store.Text}, store.NullValue, store.NullValue, store.NullValue}}
		if ms, _ := about[2*i+1].(int64); ms > 0 {
			row.Values[2] = store.Value{Text: words.Span(time.Duration(ms) * time.Millisecond), Is: store.Time}
		}
		if n, ok := parts[2*i].(int64); ok {
			row.Values[3] = store.Value{Text: strconv.FormatInt(n, 10), Is: store.Number}
		}
		if sizes[is] != "" {
			row.Values[4] = preview(is, parts[2*i+1], wide)
		}
		out = append(out, row)
	}
	return out, nil
}

// preview is the beginning of a value of a type.
func preview(is string, beginning any, wide int) store.Value {
	var parts []string
	switch is {
	case "string":
		s, _ := beginning.(string)
		return store.TextOf(s, wide)
	case "hash", "set":
		parts = scanned(beginning)
	case "stream":
		for _, e := range entries(beginning) {
			parts = append(parts, e.id+" "+e.String())
		}
	default:
		parts = texts(beginning)
	}
	for i, p := range parts {
		if !utf8.ValidString(p) {
			parts[i] = "0x" + hex.EncodeToString([]byte(p[:min(len(p), 20)]))
		}
	}
	return store.TextOf(strings.Join(parts, "  "), wide)
}

func (e entry) String() string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(e.fields)) {
		out = append(out, k+"="+e.fields[k])
	}
	return strings.Join(out, " ")
}

// Item returns a key with its value, of a large one the first parts.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	k, err := store.TextOfKey(key)
	if err != nil {
		return item, err
	}
	is, err := s.typeOf(ctx, k)
	if err != nil {
		return item, err
	}
	if is == "none" {
		return item, &store.GoneError{What: "the key " + store.TextOf(k, 200).Text}
	}
	add := func(name, kind, text string) {
		item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: store.TextOf(name, 200).Text, Type: kind, Is: store.Text}, Value: store.TextOf(text, store.ValueLimit)})
	}
	size := int64(0)
	if sizes[is] != "" {
		if size, err = number(s.do(ctx, sizes[is], k)); err != nil {
			return item, err
		}
	}
	switch is {
	case "string":
		value, e := text(s.do(ctx, "GETRANGE", k, 0, store.ValueLimit+4))
		err = e
		add("value", "string", value)
		item.Notes = append(item.Notes, "a string of "+words.Bytes(uint64(size)))
	case "list":
		all, e := s.do(ctx, "LRANGE", k, 0, partsShown-1)
		err = e
		for i, v := range texts(all) {
			add(strconv.Itoa(i), "element", v)
		}
	case "hash":
		var all []string
		for cursor := uint64(0); len(all) < 2*partsShown; {
			part, next, e := s.scan(ctx, "HSCAN", k, cursor, "COUNT", partsShown)
			all = append(all, part...)
			if err = e; next == 0 || err != nil {
				break
			}
			cursor = next
		}
		for i := 0; i+1 < min(len(all), 2*partsShown); i += 2 {
			add(all[i], "field", all[i+1])
		}
		sort.SliceStable(item.Fields, func(i, j int) bool { return item.Fields[i].Column.Name < item.Fields[j].Column.Name })
	case "set":
		all, _, e := s.scan(ctx, "SSCAN", k, 0, "COUNT", partsShown)
		err = e
		sort.Strings(all)
		for i, v := range all[:min(len(all), partsShown)] {
			add(strconv.Itoa(i+1), "member", v)
		}
	case "zset":
		answer, e := s.do(ctx, "ZRANGE", k, 0, partsShown-1, "WITHSCORES")
		err = e
		for all := texts(answer); len(all) > 1; all = all[2:] {
			add(all[0], "score", all[1])
		}
	case "stream":
		all, e := s.do(ctx, "XREVRANGE", k, "+", "-", "COUNT", partsShown)
		err = e
		for _, m := range entries(all) {
			add(m.id, "entry", m.String())
		}
	default:
		item.Notes = append(item.Notes, "a value of the type "+is+", of a module; its parts are not known here")
	}
	if err != nil {
		return item, err
	}
	if is != "string" && size > 0 {
		item.Notes = append(item.Notes, fmt.Sprintf("a %s of %s", is, words.Thousands(size)))
		if n := int64(len(item.Fields)); n < size {
			item.Notes = append(item.Notes, fmt.Sprintf("the first %d are here", n))
		}
	}
	switch left, err := s.expiry(ctx, k); {
	case err == nil && left > 0:
		item.Notes = append(item.Notes, "expires in "+words.Span(left))
	case err == nil:
		item.Notes = append(item.Notes, "does not expire")
	}
	if n, err := number(s.do(ctx, "MEMORY", "USAGE", k)); err == nil {
		item.Notes = append(item.Notes, words.Bytes(uint64(n))+" of memory")
	}
	return item, nil
}
