package redis

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	client "github.com/redis/go-redis/v9"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/probe"
	"neighbour/internal/core/store"
	"neighbour/internal/core/words"
)

// Source looks into the keys.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	return &source{client.NewClient(&client.Options{
		Addr: "127.0.0.1:" + strconv.Itoa(in.Port), Protocol: 2, DisableIdentity: true, MaxRetries: -1, DialerRetries: 1,
		PoolSize: 2, ContextTimeoutEnabled: true, ReadTimeout: time.Minute,
	})}, nil
}

// source looks into a server. Its collections are the keys that begin alike, up to
// a colon: session:*.
type source struct{ c *client.Client }

func (s *source) Close() error { return s.c.Close() }

// Limits of what is looked through at a time.
const (
	sampled    = 20_000 // keys, to find how they begin
	lookTime   = 300 * time.Millisecond
	partsShown = 1000 // of a list, hash, set or stream
)

const every = "*"

// Collections finds how keys begin. Of many keys it looks at some, and says so.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	size, err := s.c.DBSize(ctx).Result()
	if err != nil {
		return nil, explain(err)
	}
	if size == 0 {
		return nil, nil
	}
	counts := map[string]int64{}
	seen, cursor := int64(0), uint64(0)
	whole := false
	for began := time.Now(); seen < sampled && time.Since(began) < lookTime; {
		keys, next, err := s.c.Scan(ctx, cursor, "", 1000).Result()
		if err != nil {
			return nil, explain(err)
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
		keys, next, err := s.c.Scan(ctx, cursor, match, 500).Result()
		if err != nil {
			return page, explain(err)
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

// rows describes keys, in two exchanges with the server.
func (s *source) rows(ctx context.Context, keys []string, wide int) ([]store.Row, error) {
	types := make([]*client.StatusCmd, len(keys))
	lives := make([]*client.DurationCmd, len(keys))
	if _, err := s.c.Pipelined(ctx, func(p client.Pipeliner) error {
		for i, k := range keys {
			types[i], lives[i] = p.Type(ctx, k), p.PTTL(ctx, k)
		}
		return nil
	}); err != nil && len(keys) > 0 {
		return nil, explain(err)
	}
	sizes := make([]*client.IntCmd, len(keys))
	values := make([]client.Cmder, len(keys))
	_, _ = s.c.Pipelined(ctx, func(p client.Pipeliner) error { // a key may be gone by now
		for i, k := range keys {
			switch types[i].Val() {
			case "string":
				sizes[i], values[i] = p.StrLen(ctx, k), p.GetRange(ctx, k, 0, int64(wide)*4)
			case "list":
				sizes[i], values[i] = p.LLen(ctx, k), p.LRange(ctx, k, 0, 3)
			case "hash":
				sizes[i], values[i] = p.HLen(ctx, k), p.HScan(ctx, k, 0, "", 4)
			case "set":
				sizes[i], values[i] = p.SCard(ctx, k), p.SScan(ctx, k, 0, "", 4)
			case "zset":
				sizes[i], values[i] = p.ZCard(ctx, k), p.ZRange(ctx, k, 0, 3)
			case "stream":
				sizes[i], values[i] = p.XLen(ctx, k), p.XRevRangeN(ctx, k, "+", "-", 1)
			}
		}
		return nil
	})
	out := make([]store.Row, 0, len(keys))
	for i, k := range keys {
		if types[i].Val() == "none" {
			continue // it has expired
		}
		row := store.Row{Key: store.KeyFor(k), Values: []store.Value{store.TextOf(k, wide), {Text: types[i].Val(), Is: store.Text}, store.NullValue, store.NullValue, store.NullValue}}
		if d := lives[i].Val(); d > 0 {
			row.Values[2] = store.Value{Text: words.Span(d), Is: store.Time}
		}
		if sizes[i] != nil && sizes[i].Err() == nil {
			row.Values[3] = store.Value{Text: strconv.FormatInt(sizes[i].Val(), 10), Is: store.Number}
		}
		row.Values[4] = preview(values[i], wide)
		out = append(out, row)
	}
	return out, nil
}

// preview is the beginning of a value.
func preview(c client.Cmder, wide int) store.Value {
	var parts []string
	switch c := c.(type) {
	case *client.StringCmd:
		return store.TextOf(c.Val(), wide)
	case *client.StringSliceCmd:
		parts = c.Val()
	case *client.ScanCmd:
		parts, _ = c.Val()
	case *client.XMessageSliceCmd:
		for _, m := range c.Val() {
			parts = append(parts, fieldsOf(m))
		}
	default:
		return store.NullValue
	}
	for i, p := range parts {
		if !utf8.ValidString(p) {
			parts[i] = "0x" + hex.EncodeToString([]byte(p[:min(len(p), 20)]))
		}
	}
	return store.TextOf(strings.Join(parts, "  "), wide)
}

func fieldsOf(m client.XMessage) string {
	var out []string
	for _, k := range slices.Sorted(func(yield func(string) bool) {
		for k := range m.Values {
			if !yield(k) {
				return
			}
		}
	}) {
		out = append(out, fmt.Sprintf("%s=%v", k, m.Values[k]))
	}
	return m.ID + " " + strings.Join(out, " ")
}

// Item returns a key with its value, of a large one the first parts.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	k, err := store.TextOfKey(key)
	if err != nil {
		return item, err
	}
	is, err := s.c.Type(ctx, k).Result()
	if err != nil {
		return item, explain(err)
	}
	if is == "none" {
		return item, &store.GoneError{What: "the key " + store.TextOf(k, 200).Text}
	}
	add := func(name, kind, text string) {
		item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: store.TextOf(name, 200).Text, Type: kind, Is: store.Text}, Value: store.TextOf(text, store.ValueLimit)})
	}
	size := int64(0)
	switch is {
	case "string":
		text, e := s.c.GetRange(ctx, k, 0, store.ValueLimit+4).Result()
		add("value", "string", text)
		size, err = int64(len(text)), e
		if whole, e := s.c.StrLen(ctx, k).Result(); e == nil {
			size = whole
		}
		item.Notes = append(item.Notes, "a string of "+words.Bytes(uint64(size)))
	case "list":
		all, e := s.c.LRange(ctx, k, 0, partsShown-1).Result()
		for i, v := range all {
			add(strconv.Itoa(i), "element", v)
		}
		size, err = s.c.LLen(ctx, k).Val(), e
	case "hash":
		var all []string
		for cursor := uint64(0); len(all) < 2*partsShown; {
			part, next, e := s.c.HScan(ctx, k, cursor, "", partsShown).Result()
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
		size = s.c.HLen(ctx, k).Val()
	case "set":
		all, _, e := s.c.SScan(ctx, k, 0, "", partsShown).Result()
		sort.Strings(all)
		for i, v := range all[:min(len(all), partsShown)] {
			add(strconv.Itoa(i+1), "member", v)
		}
		size, err = s.c.SCard(ctx, k).Val(), e
	case "zset":
		all, e := s.c.ZRangeWithScores(ctx, k, 0, partsShown-1).Result()
		for _, z := range all {
			add(fmt.Sprint(z.Member), "score", strconv.FormatFloat(z.Score, 'g', -1, 64))
		}
		size, err = s.c.ZCard(ctx, k).Val(), e
	case "stream":
		all, e := s.c.XRevRangeN(ctx, k, "+", "-", partsShown).Result()
		for _, m := range all {
			add(m.ID, "entry", strings.TrimPrefix(fieldsOf(m), m.ID+" "))
		}
		size, err = s.c.XLen(ctx, k).Val(), e
	default:
		item.Notes = append(item.Notes, "a value of the type "+is+", of a module; its parts are not known here")
	}
	if err != nil {
		return item, explain(err)
	}
	if is != "string" && size > 0 {
		item.Notes = append(item.Notes, fmt.Sprintf("a %s of %s", is, words.Thousands(size)))
		if n := int64(len(item.Fields)); n < size {
			item.Notes = append(item.Notes, fmt.Sprintf("the first %d are here", n))
		}
	}
	switch left, err := s.c.PTTL(ctx, k).Result(); {
	case err == nil && left > 0:
		item.Notes = append(item.Notes, "expires in "+words.Span(left))
	case err == nil:
		item.Notes = append(item.Notes, "does not expire")
	}
	if n, err := s.c.MemoryUsage(ctx, k).Result(); err == nil {
		item.Notes = append(item.Notes, words.Bytes(uint64(n))+" of memory")
	}
	return item, nil
}

func explain(err error) error {
	var answer client.Error
	if errors.As(err, &answer) {
		return &store.AnswerError{Message: answer.Error()}
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return errors.New(probe.Explain(err))
}
