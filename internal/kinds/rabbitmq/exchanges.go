package rabbitmq

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
)

// exchange is where messages are published: it hands them on to the queues that
// are bound to it.
type exchange struct{ Name, Type string }

// exchanges is the first part of an exchange's address.
const exchanges = "exchanges"

// exchangeOf returns the exchange that an address names, and whether it does.
func exchangeOf(collection string) (string, bool) {
	parts, err := store.Split(collection)
	if err != nil || len(parts) != 2 || parts[0] != exchanges {
		return "", false
	}
	return parts[1], true
}

// exchanges are those of the virtual host. The server's own are left out, but for
// those that every client knows: nothing is bound to the others.
func listExchanges(ctx context.Context, ctl func(ctx context.Context, out any, args ...string) error) ([]exchange, error) {
	var all []exchange
	if err := ctl(ctx, &all, "list_exchanges", "name", "type"); err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(e exchange) bool {
		return e.Name == "" || strings.HasPrefix(e.Name, "amq.rabbitmq.") || e.Name == "amq.match"
	})
	slices.SortFunc(all, func(a, b exchange) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

// collection describes an exchange.
func (e exchange) collection() store.Collection {
	return store.Collection{Name: store.Join(exchanges, e.Name), Group: "exchanges", Title: e.Name, Is: "exchange", Count: -1, Bytes: -1, Note: e.Type, Can: []string{store.Insert}}
}

// bindings lists to where an exchange hands messages on.
func (s *source) bindings(ctx context.Context, name string, q store.Query) (store.Page, error) {
	began := time.Now()
	p := store.Page{Columns: []store.Column{{Name: "routing key", Type: "text", Is: store.Text}, {Name: "leads to", Type: "text", Is: store.Text}, {Name: "is", Type: "text", Is: store.Text}, {Name: "arguments", Type: "text", Is: store.JSON}},
		Rows: []store.Row{}, Order: "an exchange keeps no messages; it hands them on", Still: true}
	if q.Back || q.After != "" {
		return p, nil
	}
	var all []struct {
		Source      string `json:"source_name"`
		Destination string `json:"destination_name"`
		Kind        string `json:"destination_kind"`
		Key         string `json:"routing_key"`
		Arguments   any    `json:"arguments"` // a list of names, types and values, or an object
	}
	if err := s.ctl(ctx, &all, "list_bindings", "source_name", "destination_name", "destination_kind", "routing_key", "arguments"); err != nil {
		return p, err
	}
	if q.Where != "" {
		p.Where = fmt.Sprintf("with %q in them", q.Where)
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	for i, b := range all {
		if b.Source != name || !strings.Contains(strings.ToLower(b.Key+" "+b.Destination), strings.ToLower(q.Where)) {
			continue
		}
		if p.More = len(p.Rows) >= max(q.Limit, 1); p.More {
			break
		}
		arguments, err := json.Marshal(argumentsOf(b.Arguments))
		if err != nil {
			return p, err
		}
		more := store.TextOf(string(arguments), q.Wide)
		if text := more.Text; text == "[]" || text == "{}" || text == "null" {
			more = store.NullValue
		}
		p.Rows = append(p.Rows, store.Row{Key: store.KeyFor(strconv.Itoa(i)), Values: []store.Value{store.TextOf(b.Key, q.Wide), store.TextOf(b.Destination, q.Wide), store.TextOf(b.Kind, q.Wide), more}})
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, nil
}

// argumentsOf makes an object of a list of names, types and values.
func argumentsOf(listed any) any {
	list, ok := listed.([]any)
	if !ok {
		return listed
	}
	out := map[string]any{}
	for _, one := range list {
		parts, ok := one.([]any)
		if !ok || len(parts) != 3 {
			return listed
		}
		out[fmt.Sprint(parts[0])] = parts[2]
	}
	return out
}

// binding is one of them whole.
func (s *source) binding(ctx context.Context, name, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key, Fixed: "bindings are made by the application"}
	p, err := s.bindings(ctx, name, store.Query{Limit: store.PageLimit, Wide: store.ValueLimit})
	if err != nil {
		return item, err
	}
	i := slices.IndexFunc(p.Rows, func(r store.Row) bool { return r.Key == key })
	if i < 0 {
		return item, &store.GoneError{What: "this binding of " + name}
	}
	item.Says = "to " + p.Rows[i].Values[1].Text
	for n, c := range p.Columns {
		f := store.Field{Column: c, Value: p.Rows[i].Values[n]}
		if c.Name == "leads to" && p.Rows[i].Values[2].Text == "queue" {
			f.To = &store.Link{Collection: store.Join(f.Value.Text), Says: "its messages"}
		}
		item.Fields = append(item.Fields, f)
	}
	return item, nil
}

// ctl has the server's own program list something.
func (s *source) ctl(ctx context.Context, out any, args ...string) error {
	s.mu.Lock()
	program, err := s.kind.Find(s.in)
	var vars map[string]string
	if err == nil {
		s.in.Program = program
		vars, err = s.kind.ClientVariables(s.in)
	}
	s.mu.Unlock()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	cmd := s.in.Command(ctx, filepath.Join(program.Dir, "rabbitmqctl"), append([]string{"--quiet", "--formatter", "json", "--vhost", s.in.Service.Settings.(*Settings).vhosts()[0]}, args...)...)
	for name, value := range vars {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	cmd.Env = append(cmd.Env, "HOME="+s.in.Run)
	text, err := cmd.Output()
	if err == nil {
		err = json.Unmarshal(text, out)
	}
	if err != nil {
		return fmt.Errorf("rabbitmqctl %s: %w", args[0], err)
	}
	return nil
}

// publish publishes a message, and fails if it leads to no queue.
func publish(ctx context.Context, c *amqp.Channel, a store.Act, exchange, key string) error {
	if err := c.Confirm(false); err != nil {
		return explain(err, "")
	}
	back := c.NotifyReturn(make(chan amqp.Return, 1))
	done, err := c.PublishWithDeferredConfirmWithContext(ctx, a.Given("exchange", exchange), a.Given("routing key", key), true, false, amqp.Publishing{ContentType: a.Given("type", "text/plain"), DeliveryMode: amqp.Persistent, Body: []byte(a.Given("body", ""))})
	if err != nil {
		return explain(err, key)
	}
	if ok, err := done.WaitContext(ctx); err != nil || !ok {
		return errors.Join(errors.New("the server did not take it"), err)
	}
	select {
	case <-back:
		return &store.FixedError{Why: "it leads to no queue"}
	default:
		return nil
	}
}

// publishing is the action that publishes a message.
func publishing(exchange, key string) store.Action {
	hint := "nothing: straight to the queue"
	if exchange != "" {
		hint = ""
	}
	return store.Action{Name: store.Insert, Says: "publish a message", Inputs: []store.Input{{Name: "body"}, {Name: "exchange", Hint: hint, Value: exchange}, {Name: "routing key", Value: key}, {Name: "type", Hint: "of the body", Value: "text/plain"}}}
}

var _ kind.Holding = Kind{}
