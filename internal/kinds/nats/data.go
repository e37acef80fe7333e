package nats

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
)

// Source looks into the streams.
func (Kind) Source(in *kind.Instance) (store.Source, error) { return &source{in: in}, nil }

// source looks into the streams of a server. It connects when it is asked.
type source struct {
	in *kind.Instance

	mu   sync.Mutex
	conn *client.Conn
}

func (s *source) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != nil {
		s.conn.Close()
	}
	return nil
}

func (s *source) streams(ctx context.Context) (jetstream.JetStream, error) {
	if !s.in.Service.Settings.(*Settings).JetStream {
		return nil, &store.FixedError{Why: "it keeps nothing: jetstream = true has it keep messages in streams"}
	}
	conn, err := s.connection(ctx)
	if err != nil {
		return nil, err
	}
	return jetstream.New(conn)
}

// connection connects, unless that was done before.
func (s *source) connection(ctx context.Context) (*client.Conn, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn == nil || s.conn.IsClosed() {
		conn, err := connect(ctx, s.in)
		if err != nil {
			return nil, err
		}
		s.conn = conn
	}
	return s.conn, nil
}

// explain tells what isn't there from what is refused.
func explain(err error, what string) error {
	var refused *jetstream.APIError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, jetstream.ErrStreamNotFound), errors.Is(err, jetstream.ErrMsgNotFound), errors.Is(err, jetstream.ErrInvalidStreamName):
		return &store.GoneError{What: what}
	case errors.As(err, &refused):
		return &store.AnswerError{Message: refused.Description}
	}
	return err
}

// Collections lists the streams, each with its consumers.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	js, err := s.streams(ctx)
	if err != nil {
		return nil, err
	}
	var out []store.Collection
	list := js.ListStreams(ctx)
	for info := range list.Info() {
		c := store.Collection{Name: store.Join(info.Config.Name), Title: info.Config.Name, Is: "stream", Count: int64(info.State.Msgs), Bytes: int64(info.State.Bytes), Can: []string{store.Insert, store.Delete, store.Clear}}
		c.Note = strings.Join(info.Config.Subjects, ", ")
		if n := info.State.Consumers; n > 0 {
			c.Note += ", " + words.Count(n, "consumer")
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b store.Collection) int { return strings.Compare(a.Title, b.Title) })
	return out, explain(list.Err(), "")
}

func (s *source) stream(ctx context.Context, collection string) (jetstream.Stream, *jetstream.StreamInfo, error) {
	parts, err := store.Split(collection)
	if err != nil {
		return nil, nil, err
	}
	js, err := s.streams(ctx)
	if err != nil {
		return nil, nil, err
	}
	st, err := js.Stream(ctx, strings.Join(parts, "."))
	if err != nil {
		return nil, nil, explain(err, "a stream "+collection)
	}
	info, err := st.Info(ctx)
	return st, info, explain(err, "a stream "+collection)
}

var columns = []store.Column{{Name: "seq", Type: "sequence", Is: store.Number, Key: true}, {Name: "at", Type: "time", Is: store.Time}, {Name: "subject", Type: "text", Is: store.Text}, {Name: "size", Type: "bytes", Is: store.Number}, {Name: "data", Type: "text", Is: store.Text}}

// searched is how many messages are looked through for a page.
const searched = 5000

// Items returns messages by their sequence, one request for each: nothing is
// consumed, and no consumer is made.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	began := time.Now()
	p := store.Page{Columns: columns, Rows: []store.Row{}, Order: "by sequence"}
	st, info, err := s.stream(ctx, q.Collection)
	if err != nil {
		return p, err
	}
	if q.Where != "" {
		p.Where = fmt.Sprintf("with %q in them", q.Where)
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	first, last := info.State.FirstSeq, info.State.LastSeq
	at, step := first, 1
	if q.Back {
		at, step = last, -1
	}
	if q.After != "" {
		n, err := sequence(q.After)
		if err != nil {
			return p, err
		}
		at = uint64(int64(n) + int64(step))
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	looked := 0
	for ; info.State.Msgs > 0 && at >= first && at <= last && at > 0; at = uint64(int64(at) + int64(step)) {
		if len(p.Rows) == q.Limit || looked == searched {
			p.More = true
			break
		}
		looked++
		m, err := st.GetMsg(ctx, at)
		if errors.Is(err, jetstream.ErrMsgNotFound) {
			continue // deleted
		}
		if err != nil {
			return p, explain(err, "")
		}
		if q.Where != "" && !strings.Contains(strings.ToLower(m.Subject+" "+string(m.Data)), strings.ToLower(q.Where)) {
			continue
		}
		p.Rows = append(p.Rows, store.Row{Key: keyOf(m.Sequence), Values: []store.Value{number(int(m.Sequence)), {Text: m.Time.Local().Format("2006-01-02 15:04:05.000"), Is: store.Time},
			store.TextOf(m.Subject, q.Wide), number(len(m.Data)), store.TextOf(string(m.Data), q.Wide)}})
	}
	if q.Back {
		slices.Reverse(p.Rows)
	}
	if n := len(p.Rows); n > 0 {
		p.Prev, p.Next = p.Rows[0].Key, p.Rows[n-1].Key
	}
	if p.More && !q.Back {
		p.Next = keyOf(at - 1)
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, nil
}

func number(n int) store.Value { return store.Value{Text: strconv.Itoa(n), Is: store.Number} }

func keyOf(n uint64) string { return store.KeyFor(strconv.FormatUint(n, 10)) }

func sequence(key string) (uint64, error) {
	text, err := store.TextOfKey(key)
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseUint(text, 10, 63)
	if err != nil {
		return 0, fmt.Errorf("%s is no sequence number", text)
	}
	return n, nil
}

// Item returns a message whole.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	n, err := sequence(key)
	if err != nil {
		return item, err
	}
	st, info, err := s.stream(ctx, collection)
	if err != nil {
		return item, err
	}
	m, err := st.GetMsg(ctx, n)
	if err != nil {
		return item, explain(err, fmt.Sprintf("the message %d", n))
	}
	add := func(name, kind string, v store.Value) {
		item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: name, Type: kind, Is: v.Is}, Value: v})
	}
	item.Says = strconv.FormatUint(n, 10)
	add("subject", "text", store.TextOf(m.Subject, store.ValueLimit))
	add("at", "time", store.Value{Text: m.Time.Local().Format(time.RFC3339Nano), Is: store.Time})
	for _, name := range slices.Sorted(headerNames(m.Header)) {
		add(name, "header", store.TextOf(strings.Join(m.Header[name], ", "), store.ValueLimit))
	}
	add("data", words.Bytes(uint64(len(m.Data))), store.TextOf(string(m.Data), store.ValueLimit))
	if info.State.Consumers > 0 {
		for c := range st.ListConsumers(ctx).Info() {
			says := "consumer " + c.Name + " has it before it"
			if c.Delivered.Stream >= n {
				says = "consumer " + c.Name + " has got it"
			}
			item.Notes = append(item.Notes, says)
		}
	}
	return item, nil
}

func headerNames(h client.Header) func(func(string) bool) {
	return func(yield func(string) bool) {
		for name := range h {
			if !yield(name) {
				return
			}
		}
	}
}

// Actions lists what can be done with a stream or a message.
func (s *source) Actions(_ context.Context, _, key string) ([]store.Action, error) {
	if key != "" {
		return []store.Action{{Name: store.Delete, Says: "delete it"}}, nil
	}
	return []store.Action{{Name: store.Insert, Says: "publish a message", Inputs: []store.Input{{Name: "subject"}, {Name: "data"}}}, {Name: store.Clear, Says: "delete all messages"}}, nil
}

// Plan says what an act would do.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	_, info, err := s.stream(ctx, a.Collection)
	if err != nil {
		return store.Plan{}, err
	}
	switch a.Action {
	case store.Insert:
		if a.Given("subject", "") == "" {
			return store.Plan{}, &store.FixedError{Why: "say the subject: " + strings.Join(info.Config.Subjects, ", ")}
		}
		return store.Plan{Statement: "publish to " + a.Given("subject", "") + ":\n" + a.Given("data", "")}, nil
	case store.Delete:
		n, err := sequence(a.Key)
		return store.Plan{Statement: fmt.Sprintf("delete message %d of %s", n, info.Config.Name), Loses: fmt.Sprintf("the message %d", n)}, err
	case store.Clear:
		return store.Plan{Statement: "purge " + info.Config.Name, Loses: words.Count(int(info.State.Msgs), "message")}, nil
	}
	return store.Plan{}, store.ErrNoAction
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	if _, err := s.Plan(ctx, a); err != nil {
		return "", err
	}
	st, info, err := s.stream(ctx, a.Collection)
	if err != nil {
		return "", err
	}
	switch a.Action {
	case store.Insert:
		js, err := s.streams(ctx)
		if err != nil {
			return "", err
		}
		got, err := js.Publish(ctx, a.Given("subject", ""), []byte(a.Given("data", "")))
		if errors.Is(err, jetstream.ErrNoStreamResponse) {
			return "", &store.FixedError{Why: "no stream takes the subject " + a.Given("subject", "")}
		}
		if err != nil {
			return "", explain(err, "")
		}
		return fmt.Sprintf("published as message %d of %s", got.Sequence, got.Stream), nil
	case store.Delete:
		n, _ := sequence(a.Key)
		return "1 message deleted", explain(st.DeleteMsg(ctx, n), fmt.Sprintf("the message %d", n))
	}
	return words.Count(int(info.State.Msgs), "message") + " deleted", explain(st.Purge(ctx), "")
}
