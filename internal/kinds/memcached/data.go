package memcached

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
)

// Source looks into the cache, in memcached's text protocol.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	return source("127.0.0.1:" + strconv.Itoa(in.Port)), nil
}

// source is the server's address: each look has a connection of its own.
type source string

func (source) Close() error { return nil }

// talk sends a command and reads lines until do has had enough.
func (s source) talk(ctx context.Context, command string, do func(line string, in *bufio.Reader) (more bool, err error)) error {
	wire, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", string(s))
	if err != nil {
		return errors.New(probe.Explain(err))
	}
	defer wire.Close()
	defer context.AfterFunc(ctx, func() { wire.Close() })()
	_ = wire.SetDeadline(time.Now().Add(20 * time.Second))
	if _, err := wire.Write([]byte(command + "\r\n")); err != nil {
		return errors.New(probe.Explain(err))
	}
	for in := bufio.NewReaderSize(wire, 64<<10); ; {
		line, err := in.ReadString('\n')
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return errors.New(probe.Explain(err))
		}
		line = strings.TrimRight(line, "\r\n")
		if line == "ERROR" || strings.HasPrefix(line, "CLIENT_ERROR") || strings.HasPrefix(line, "SERVER_ERROR") || strings.HasPrefix(line, "BUSY") {
			return &store.AnswerError{Message: line}
		}
		if more, err := do(line, in); !more || err != nil {
			return err
		}
	}
}

// The collections.
const (
	keys  = "keys"
	stats = "statistics"
)

// statistics are the server's own.
func (s source) statistics(ctx context.Context) ([][2]string, error) {
	var out [][2]string
	err := s.talk(ctx, "stats", func(line string, _ *bufio.Reader) (bool, error) {
		if line == "END" {
			return false, nil
		}
		parts := strings.SplitN(line, " ", 3)
		if len(parts) == 3 {
			out = append(out, [2]string{parts[1], parts[2]})
		}
		return true, nil
	})
	return out, err
}

// Collections are the keys, and the server's statistics.
func (s source) Collections(ctx context.Context) ([]store.Collection, error) {
	all, err := s.statistics(ctx)
	if err != nil {
		return nil, err
	}
	c := store.Collection{Name: keys, Title: keys, Is: "keys", Count: -1, Bytes: -1, Can: []string{store.Delete, store.Clear}}
	for _, one := range all {
		switch one[0] {
		case "curr_items":
			c.Count, _ = strconv.ParseInt(one[1], 10, 64)
		case "bytes":
			c.Bytes, _ = strconv.ParseInt(one[1], 10, 64)
		}
	}
	return []store.Collection{c, {Name: stats, Title: stats, Is: "statistics", Count: int64(len(all)), Bytes: -1}}, nil
}

var columns = []store.Column{{Name: "key", Type: "text", Is: store.Text, Key: true}, {Name: "expires in", Type: "duration", Is: store.Time}, {Name: "size", Type: "bytes", Is: store.Number}}

// listed is how many keys the server is let tell at most.
const listed = 200_000

// Items returns the keys in alphabetical order, as far as the server tells them.
func (s source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	began := time.Now()
	p := store.Page{Rows: []store.Row{}}
	switch q.Collection {
	case stats:
		p.Columns, p.Fixed = []store.Column{{Name: "name", Type: "text", Is: store.Text}, {Name: "value", Type: "text", Is: store.Number}}, "the server's own"
		all, err := s.statistics(ctx)
		for _, one := range all {
			if strings.Contains(one[0], q.Where) {
				p.Rows = append(p.Rows, store.Row{Values: []store.Value{{Text: one[0], Is: store.Text}, {Text: one[1], Is: store.Number}}})
			}
		}
		return p, err
	case keys:
	default:
		return p, &store.GoneError{What: "a collection " + q.Collection + " (there are keys and statistics)"}
	}
	p.Columns, p.Order = columns, "by key"
	if q.Where != "" {
		p.Where = fmt.Sprintf("with %q in the key", q.Where)
	}
	after := ""
	if q.After != "" {
		var err error
		if after, err = store.TextOfKey(q.After); err != nil {
			return p, err
		}
	}
	type item struct {
		key, size string
		expires   int64
	}
	var all []item
	told := 0
	err := s.talk(ctx, "lru_crawler metadump all", func(line string, _ *bufio.Reader) (bool, error) {
		if line == "END" || told == listed {
			return false, nil
		}
		told++
		var one item
		for _, f := range strings.Fields(line) {
			name, value, _ := strings.Cut(f, "=")
			switch name {
			case "key":
				one.key = value
				if plain, err := url.PathUnescape(value); err == nil {
					one.key = plain
				}
			case "exp":
				one.expires, _ = strconv.ParseInt(value, 10, 64)
			case "size":
				one.size = value
			}
		}
		if one.key != "" && (q.Where == "" || strings.Contains(one.key, q.Where)) && (q.After == "" || one.key > after && !q.Back || one.key < after && q.Back) {
			all = append(all, one)
		}
		return true, nil
	})
	if err != nil {
		return p, err
	}
	slices.SortFunc(all, func(a, b item) int { return strings.Compare(a.key, b.key) })
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	if n := len(all); n > q.Limit {
		p.More = true
		if q.Back {
			all = all[n-q.Limit:]
		} else {
			all = all[:q.Limit]
		}
	}
	for _, one := range all {
		expires := store.NullValue
		if one.expires > 0 {
			expires = store.Value{Text: words.Span(time.Until(time.Unix(one.expires, 0))), Is: store.Time}
		}
		p.Rows = append(p.Rows, store.Row{Key: store.KeyFor(one.key), Values: []store.Value{store.TextOf(one.key, store.ListWidth), expires, {Text: one.size, Is: store.Number}}})
	}
	if n := len(p.Rows); n > 0 {
		p.Prev, p.Next = p.Rows[0].Key, p.Rows[n-1].Key
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, nil
}

// Item returns a value.
func (s source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	k, err := checked(key)
	if err != nil {
		return item, err
	}
	found := false
	err = s.talk(ctx, "get "+k, func(line string, in *bufio.Reader) (bool, error) {
		if line == "END" {
			return false, nil
		}
		parts := strings.Fields(line) // VALUE key flags bytes
		if len(parts) < 4 {
			return false, &store.AnswerError{Message: line}
		}
		n, err := strconv.Atoi(parts[len(parts)-1])
		if err != nil || n < 0 {
			return false, &store.AnswerError{Message: line}
		}
		b := make([]byte, min(n, 4*store.ValueLimit))
		if _, err := readFull(in, b, n); err != nil {
			return false, err
		}
		found = true
		item.Says = k
		item.Fields = []store.Field{{Column: store.Column{Name: "value", Type: words.Bytes(uint64(n))}, Value: store.TextOf(string(b), store.ValueLimit)},
			{Column: store.Column{Name: "flags", Type: "number"}, Value: store.Value{Text: parts[len(parts)-2], Is: store.Number}}}
		return true, nil
	})
	if err == nil && !found {
		err = &store.GoneError{What: "the key " + k}
	}
	return item, err
}

// readFull reads the first bytes of n, and passes over the others and the line's end.
func readFull(in *bufio.Reader, b []byte, n int) (int, error) {
	for got := 0; got < len(b); {
		m, err := in.Read(b[got:])
		if err != nil {
			return got, err
		}
		got += m
	}
	_, err := in.Discard(n - len(b) + 2)
	return len(b), err
}

// checked is a key that can stand in a command.
func checked(key string) (string, error) {
	k, err := store.TextOfKey(key)
	if err != nil {
		return "", err
	}
	if k == "" || len(k) > 250 || strings.ContainsAny(k, " \r\n\t\x00") {
		return "", &store.FixedError{Why: "no key of memcached has blanks, or more than 250 bytes"}
	}
	return k, nil
}

// Actions lists what can be done.
func (s source) Actions(_ context.Context, collection, key string) ([]store.Action, error) {
	switch {
	case collection != keys:
		return nil, nil
	case key == "":
		return []store.Action{{Name: store.Clear, Says: "empty the cache"}}, nil
	}
	return []store.Action{{Name: store.Delete, Says: "delete it"}}, nil
}

// Plan says what an act would do.
func (s source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	switch {
	case a.Collection != keys:
	case a.Action == store.Delete:
		k, err := checked(a.Key)
		return store.Plan{Statement: "delete " + k, Loses: "the key " + k}, err
	case a.Action == store.Clear:
		all, err := s.Collections(ctx)
		if err != nil {
			return store.Plan{}, err
		}
		return store.Plan{Statement: "flush_all", Loses: words.Count(int(all[0].Count), "key")}, nil
	}
	return store.Plan{}, store.ErrNoAction
}

// Do carries an act out.
func (s source) Do(ctx context.Context, a store.Act) (string, error) {
	p, err := s.Plan(ctx, a)
	if err != nil {
		return "", err
	}
	var answer string
	err = s.talk(ctx, p.Statement, func(line string, _ *bufio.Reader) (bool, error) {
		answer = line
		return false, nil
	})
	switch {
	case err != nil:
		return "", err
	case answer == "NOT_FOUND":
		return "", &store.GoneError{What: "the key"}
	case a.Action == store.Clear:
		return "the cache is empty", nil
	}
	return "1 key deleted", nil
}
