package rabbitmq

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
)

// Source looks into the queues of the first virtual host.
func (k Kind) Source(in *kind.Instance) (store.Source, error) {
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	return &source{kind: k, in: in, url: facts["url"].Value}, nil
}

// source has one connection. The protocol lists neither queues nor exchanges, so
// their names are those that are declared and those that the server's own program
// tells now and then.
type source struct {
	kind Kind
	in   *kind.Instance
	url  string

	mu        sync.Mutex
	conn      *amqp.Connection
	named     map[string]string // the queues, with their types
	asked     time.Time
	exchanges []exchange
	seen      map[string][]amqp.Delivery // by queue, what was looked at last
}

// askEvery is how often the server's own program is asked, which takes a second of
// a processor.
const askEvery = time.Minute

func (s *source) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn == nil {
		return nil
	}
	return s.conn.Close()
}

// channel lends a channel. The messages that are taken on it go back to their places
// when it is closed.
func (s *source) channel(ctx context.Context, do func(*amqp.Channel) error) error {
	s.mu.Lock()
	if s.conn == nil || s.conn.IsClosed() {
		conn, err := dial(ctx, s.url)
		if err != nil {
			s.mu.Unlock()
			return err
		}
		s.conn = conn
	}
	conn := s.conn
	s.mu.Unlock()
	c, err := conn.Channel()
	if err != nil {
		return explain(err, "")
	}
	defer c.Close()
	return do(c)
}

// dial connects.
func dial(ctx context.Context, url string) (*amqp.Connection, error) {
	conn, err := amqp.DialConfig(url, amqp.Config{Heartbeat: 10 * time.Second, Properties: amqp.Table{"connection_name": "neighbour, looking"}, Dial: func(network, address string) (net.Conn, error) {
		conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, network, address)
		if err == nil {
			_ = conn.SetDeadline(time.Now().Add(10 * time.Second)) // of the handshake; later there are heartbeats
		}
		return conn, err
	}})
	if err != nil {
		return nil, explain(err, "")
	}
	return conn, nil
}

func explain(err error, queue string) error {
	var answer *amqp.Error
	switch {
	case errors.As(err, &answer) && answer.Code == amqp.NotFound:
		return &store.GoneError{What: "the queue " + queue}
	case errors.As(err, &answer):
		return &store.AnswerError{Message: answer.Reason}
	}
	return err
}

// names are those of the queues.
func (s *source) names(ctx context.Context) ([]string, error) {
	s.mu.Lock()
	due := time.Since(s.asked) > askEvery
	if s.named == nil {
		s.named, s.seen = map[string]string{}, map[string][]amqp.Delivery{}
		for _, q := range s.in.Service.Settings.(*Settings).Queues {
			s.named[q] = "classic"
		}
	}
	s.mu.Unlock()
	if due {
		all, found, err := s.list(ctx)
		if err != nil {
			return nil, err
		}
		s.mu.Lock()
		s.asked = time.Now()
		maps.Copy(s.named, all)
		s.exchanges = found
		s.mu.Unlock()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.named)), nil
}

// list asks the server's own program.
func (s *source) list(ctx context.Context) (map[string]string, []exchange, error) {
	var found []exchange
	var problem error
	var both sync.WaitGroup
	both.Go(func() { found, problem = listExchanges(ctx, s.ctl) })
	var rows []struct{ Name, Type string }
	err := s.ctl(ctx, &rows, "list_queues", "name", "type")
	both.Wait()
	names := map[string]string{}
	for _, r := range rows {
		names[r.Name] = r.Type
	}
	return names, found, errors.Join(err, problem)
}

// Collections lists the queues and exchanges.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	names, err := s.names(ctx)
	if err != nil {
		return nil, err
	}
	var out []store.Collection
	for _, name := range names {
		var q amqp.Queue
		err := s.channel(ctx, func(c *amqp.Channel) (err error) { // one that isn't there closes it
			q, err = c.QueueDeclarePassive(name, false, false, false, false, nil)
			return explain(err, name)
		})
		var gone *store.GoneError
		if errors.As(err, &gone) {
			s.mu.Lock()
			delete(s.named, name)
			s.mu.Unlock()
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, store.Collection{Name: store.Join(name), Group: "queues", Title: name, Is: "queue", Count: int64(q.Messages), Bytes: -1, Note: words.Count(q.Consumers, "consumer"), Can: []string{store.Insert, store.Clear}})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.exchanges {
		out = append(out, e.collection())
	}
	return out, nil
}

var columns = []store.Column{{Name: "place", Type: "count", Is: store.Number, Key: true}, {Name: "exchange", Type: "text", Is: store.Text}, {Name: "routing key", Type: "text", Is: store.Text}, {Name: "type", Type: "text", Is: store.Text}, {Name: "given before", Type: "truth", Is: store.Truth}, {Name: "size", Type: "bytes", Is: store.Number}, {Name: "body", Type: "text", Is: store.Text}}

// most is how many messages are looked at: they are held back from consumers for
// that moment.
const most = 200

// peek looks at the first messages of a queue. They are taken and not acknowledged,
// so that they go back to their places when the channel is closed.
func (s *source) peek(ctx context.Context, collection string, n int) (all []amqp.Delivery, more bool, err error) {
	queue, err := queueOf(collection)
	if err != nil {
		return nil, false, err
	}
	if _, err := s.names(ctx); err != nil {
		return nil, false, err
	}
	s.mu.Lock()
	is := s.named[queue]
	s.mu.Unlock()
	if is != "" && is != "classic" && is != "rabbit_classic_queue" {
		return nil, false, &store.FixedError{Why: "a " + is + " queue counts each look as a delivery, and may drop what was delivered too often; only its length is shown"}
	}
	err = s.channel(ctx, func(c *amqp.Channel) error {
		for range n {
			m, ok, err := c.Get(queue, false)
			if err != nil {
				return explain(err, queue)
			}
			if !ok {
				more = false
				return nil
			}
			all = append(all, m)
			more = m.MessageCount > 0
		}
		return nil
	})
	s.mu.Lock()
	s.seen[queue] = all
	s.mu.Unlock()
	return all, more, err
}

func queueOf(collection string) (string, error) {
	parts, err := store.Split(collection)
	return strings.Join(parts, "."), err
}

// Items returns the first messages of a queue, or what is bound to an exchange.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	if name, is := exchangeOf(q.Collection); is {
		return s.bindings(ctx, name, q)
	}
	began := time.Now()
	p := store.Page{Columns: columns, Rows: []store.Row{}, Order: "the next first; they count as given before from now on", Still: true}
	if q.Back || q.After != "" {
		return p, nil
	}
	if q.Where != "" {
		p.Where = fmt.Sprintf("with %q in them", q.Where)
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	all, more, err := s.peek(ctx, q.Collection, min(max(q.Limit, 1), most))
	for i, m := range all {
		place := strconv.Itoa(i + 1)
		if strings.Contains(strings.ToLower(m.RoutingKey+" "+string(m.Body)), strings.ToLower(q.Where)) {
			p.Rows = append(p.Rows, store.Row{Key: store.KeyFor(place), Values: []store.Value{{Text: place, Is: store.Number}, store.TextOf(m.Exchange, q.Wide), store.TextOf(m.RoutingKey, q.Wide),
				store.TextOf(m.ContentType, q.Wide), {Text: strconv.FormatBool(m.Redelivered), Is: store.Truth}, {Text: strconv.Itoa(len(m.Body)), Is: store.Number}, store.TextOf(string(m.Body), q.Wide)}})
		}
	}
	p.More = more
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

// Item returns the message that was at a place when the queue was looked at last.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	if name, is := exchangeOf(collection); is {
		return s.binding(ctx, name, collection, key)
	}
	item := store.Item{Collection: collection, Key: key, Fixed: "messages are only looked at"}
	text, err := store.TextOfKey(key)
	if err != nil {
		return item, err
	}
	place, err := strconv.Atoi(text)
	if err != nil || place < 1 || place > most {
		return item, &store.GoneError{What: "a message at the place " + text}
	}
	add := func(name, kind, text string) {
		if text != "" {
			item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: name, Type: kind, Is: store.Text}, Value: store.TextOf(text, store.ValueLimit)})
		}
	}
	queue, err := queueOf(collection)
	if err != nil {
		return item, err
	}
	s.mu.Lock()
	all := s.seen[queue]
	s.mu.Unlock()
	if place > len(all) {
		if all, _, err = s.peek(ctx, collection, place); err != nil {
			return item, err
		}
	}
	if place <= len(all) {
		m := all[place-1]
		add("body", words.Bytes(uint64(len(m.Body))), string(m.Body))
		add("exchange", "text", m.Exchange)
		add("routing key", "text", m.RoutingKey)
		add("type", "text", m.ContentType)
		add("encoding", "text", m.ContentEncoding)
		add("message id", "text", m.MessageId)
		add("correlation id", "text", m.CorrelationId)
		add("reply to", "text", m.ReplyTo)
		add("expires in", "milliseconds", m.Expiration)
		for _, name := range slices.Sorted(maps.Keys(m.Headers)) {
			add(name, "header", fmt.Sprint(m.Headers[name]))
		}
		if m.DeliveryMode == amqp.Persistent {
			item.Notes = append(item.Notes, "kept on disk")
		}
	}
	if len(item.Fields) == 0 {
		err = &store.GoneError{What: "a message at the place " + text}
	}
	return item, err
}

// Actions lists what can be done with a queue.
func (s *source) Actions(_ context.Context, collection, key string) ([]store.Action, error) {
	if key != "" {
		return nil, nil
	}
	if name, is := exchangeOf(collection); is {
		return []store.Action{publishing(name, "")}, nil
	}
	queue, err := queueOf(collection)
	return []store.Action{publishing("", queue), {Name: store.Clear, Says: "delete all messages"}}, err
}

// Plan says what an act would do.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	queue, err := queueOf(a.Collection)
	if err != nil {
		return store.Plan{}, err
	}
	name, isExchange := exchangeOf(a.Collection)
	if isExchange {
		queue = ""
	}
	switch a.Action {
	case store.Insert:
		where := a.Given("exchange", name)
		if where == "" {
			where = "the default exchange"
		}
		return store.Plan{Statement: "publish to " + where + ", key " + a.Given("routing key", queue) + ":\n" + a.Given("body", "")}, nil
	case store.Clear:
		if isExchange {
			return store.Plan{}, store.ErrNoAction
		}
		n := 0
		err := s.channel(ctx, func(c *amqp.Channel) error {
			q, err := c.QueueDeclarePassive(queue, false, false, false, false, nil)
			n = q.Messages
			return explain(err, queue)
		})
		return store.Plan{Statement: "queue.purge " + queue, Loses: words.Count(n, "message")}, err
	}
	return store.Plan{}, store.ErrNoAction
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (says string, err error) {
	queue, err := queueOf(a.Collection)
	if err != nil {
		return "", err
	}
	name, isExchange := exchangeOf(a.Collection)
	if isExchange {
		queue = ""
	}
	err = s.channel(ctx, func(c *amqp.Channel) error {
		switch {
		case a.Action == store.Clear && !isExchange:
			n, err := c.QueuePurge(queue, false)
			says = words.Count(n, "message") + " deleted"
			return explain(err, queue)
		case a.Action == store.Insert:
			if err := publish(ctx, c, a, name, queue); err != nil {
				return err
			}
			says = "published"
			return nil
		}
		return store.ErrNoAction
	})
	return says, err
}
