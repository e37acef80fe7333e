package mqtt

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	client "github.com/eclipse/paho.mqtt.golang"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
)

// Source listens to all topics while somebody looks.
func (k Kind) Source(in *kind.Instance) (store.Source, error) {
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	return &source{facts: facts}, nil
}

// source is what is heard since somebody looks, and what the server retains.
type source struct {
	facts map[string]kind.Fact

	sending sync.Mutex
	sender  client.Client

	mu     sync.Mutex
	client client.Client
	topics map[string][]heard // the oldest first
	last   uint64
}

// heard is a message.
type heard struct {
	id       uint64
	at       time.Time
	retained bool
	qos      byte
	payload  []byte
}

// kept is how many messages of a topic are kept.
const kept = 500

func (s *source) Close() error {
	s.mu.Lock()
	c := s.client
	s.client = nil
	s.mu.Unlock()
	if c != nil {
		c.Disconnect(100)
	}
	s.sending.Lock()
	defer s.sending.Unlock()
	if s.sender != nil {
		s.sender.Disconnect(50)
	}
	return nil
}

// listen connects, and subscribes to all topics. What is retained comes at once.
func (s *source) listen(ctx context.Context) (client.Client, error) {
	s.mu.Lock()
	c := s.client
	s.mu.Unlock()
	if c != nil && c.IsConnected() {
		return c, nil
	}
	c = client.NewClient(optionsOf(s.facts, "neighbour-"+strconv.FormatInt(time.Now().UnixNano(), 36)).SetCleanSession(true))
	if err := await(ctx, c.Connect()); err != nil {
		return nil, err
	}
	s.mu.Lock()
	s.client, s.topics = c, map[string][]heard{}
	s.mu.Unlock()
	if err := await(ctx, c.Subscribe("#", 0, func(_ client.Client, m client.Message) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.last++
		all := append(s.topics[m.Topic()], heard{s.last, time.Now(), m.Retained(), m.Qos(), slices.Clone(m.Payload())})
		s.topics[m.Topic()] = all[max(0, len(all)-kept):]
	})); err != nil {
		return nil, err
	}
	select { // for what is retained
	case <-time.After(150 * time.Millisecond):
	case <-ctx.Done():
	}
	return c, nil
}

func await(ctx context.Context, t client.Token) error {
	select {
	case <-t.Done():
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(5 * time.Second):
		return errors.New("the server does not answer")
	}
	if t.Error() != nil {
		return errors.New(probe.Explain(t.Error()))
	}
	return nil
}

// Collections lists the topics that were heard.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	if _, err := s.listen(ctx); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []store.Collection{{Name: "#", Title: "all topics", Is: "topic", Count: 0, Bytes: -1, Note: "what is heard since somebody looks, and what is retained", Can: []string{store.Insert}}}
	for name, all := range s.topics {
		c := store.Collection{Name: store.Join(name), Title: name, Is: "topic", Count: int64(len(all)), Bytes: -1, Can: []string{store.Insert}}
		if slices.ContainsFunc(all, func(h heard) bool { return h.retained }) {
			c.Note = "retained"
		}
		out[0].Count += c.Count
		out = append(out, c)
	}
	slices.SortFunc(out[1:], func(a, b store.Collection) int { return strings.Compare(a.Title, b.Title) })
	return out, nil
}

var columns = []store.Column{{Name: "#", Type: "count", Is: store.Number, Key: true}, {Name: "at", Type: "time", Is: store.Time}, {Name: "topic", Type: "text", Is: store.Text}, {Name: "qos", Type: "level", Is: store.Number}, {Name: "retained", Type: "truth", Is: store.Truth}, {Name: "size", Type: "bytes", Is: store.Number}, {Name: "payload", Type: "text", Is: store.Text}}

func topicOf(collection string) (string, error) {
	parts, err := store.Split(collection)
	return strings.Join(parts, "."), err
}

// Items returns messages, the newest first.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	p := store.Page{Columns: columns, Rows: []store.Row{}, Order: "newest first", Fixed: "messages that were heard"}
	topic, err := topicOf(q.Collection)
	if err != nil {
		return p, err
	}
	if _, err := s.listen(ctx); err != nil || q.Back {
		return p, err
	}
	if q.Where != "" {
		p.Where = fmt.Sprintf("with %q in them", q.Where)
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	before := uint64(1 << 63)
	if q.After != "" {
		if before, err = numberOf(q.After); err != nil {
			return p, err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	type message struct {
		heard
		topic string
	}
	var all []message
	for name, list := range s.topics {
		if topic != "#" && name != topic {
			continue
		}
		for _, h := range list {
			if h.id < before && strings.Contains(strings.ToLower(name+" "+string(h.payload)), strings.ToLower(q.Where)) {
				all = append(all, message{h, name})
			}
		}
	}
	slices.SortFunc(all, func(a, b message) int { return int(b.id) - int(a.id) })
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	if p.More = len(all) > q.Limit; p.More {
		all = all[:q.Limit]
	}
	for _, m := range all {
		id := strconv.FormatUint(m.id, 10)
		p.Rows = append(p.Rows, store.Row{Key: store.KeyFor(id), Values: []store.Value{{Text: id, Is: store.Number}, {Text: m.at.Format("15:04:05.000"), Is: store.Time}, store.TextOf(m.topic, q.Wide),
			{Text: strconv.Itoa(int(m.qos)), Is: store.Number}, {Text: strconv.FormatBool(m.retained), Is: store.Truth}, {Text: strconv.Itoa(len(m.payload)), Is: store.Number}, store.TextOf(string(m.payload), q.Wide)}})
	}
	if n := len(p.Rows); n > 0 {
		p.Next = p.Rows[n-1].Key
	}
	return p, nil
}

func numberOf(key string) (uint64, error) {
	text, err := store.TextOfKey(key)
	if err != nil {
		return 0, err
	}
	return strconv.ParseUint(text, 10, 64)
}

// Item returns a message whole.
func (s *source) Item(_ context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key, Fixed: "a message that was heard"}
	id, err := numberOf(key)
	if err != nil {
		return item, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, all := range s.topics {
		for _, h := range all {
			if h.id != id {
				continue
			}
			add := func(name, kind string, v store.Value) {
				item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: name, Type: kind, Is: v.Is}, Value: v})
			}
			item.Says = name
			add("topic", "text", store.TextOf(name, store.ValueLimit))
			add("payload", "text", store.TextOf(string(h.payload), store.ValueLimit))
			add("at", "time", store.Value{Text: h.at.Format(time.RFC3339Nano), Is: store.Time})
			add("qos", "level", store.Value{Text: strconv.Itoa(int(h.qos)), Is: store.Number})
			add("retained", "truth", store.Value{Text: strconv.FormatBool(h.retained), Is: store.Truth})
			return item, nil
		}
	}
	return item, &store.GoneError{What: "the message"}
}

// Actions lists what can be done.
func (s *source) Actions(_ context.Context, collection, key string) ([]store.Action, error) {
	if key != "" {
		return nil, nil
	}
	topic, _ := topicOf(collection)
	if topic == "#" {
		topic = ""
	}
	return []store.Action{{Name: store.Insert, Says: "publish a message", Inputs: []store.Input{{Name: "topic", Value: topic}, {Name: "payload", Hint: "nothing takes a retained one away"}, {Name: "retain", Hint: "yes: whoever subscribes later gets it, too", Value: "no"}}}}, nil
}

// Plan says what an act would do.
func (s *source) Plan(_ context.Context, a store.Act) (store.Plan, error) {
	topic := a.Given("topic", "")
	switch {
	case a.Action != store.Insert:
		return store.Plan{}, store.ErrNoAction
	case topic == "" || strings.ContainsAny(topic, "#+\x00"):
		return store.Plan{}, &store.FixedError{Why: "topic: write the one to publish to, without # and +"}
	}
	statement := "PUBLISH " + topic
	switch strings.ToLower(a.Given("retain", "no")) {
	case "yes":
		statement += ", retained"
	case "no", "":
	default:
		return store.Plan{}, &store.FixedError{Why: "retain: write yes or no"}
	}
	return store.Plan{Statement: statement + ":\n" + a.Given("payload", "")}, nil
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	if _, err := s.Plan(ctx, a); err != nil {
		return "", err
	}
	c, err := s.listen(ctx)
	if err != nil {
		return "", err
	}
	return "published", await(ctx, c.Publish(a.Given("topic", ""), 1, strings.ToLower(a.Given("retain", "no")) == "yes", a.Given("payload", "")))
}
