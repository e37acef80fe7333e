package beanstalkd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/beanstalkd/go-beanstalk"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
)

// Source looks into the tubes.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	return &source{address: "127.0.0.1:" + strconv.Itoa(in.Port)}, nil
}

// source has one connection, which is used by one goroutine at a time.
type source struct {
	address string

	mu   sync.Mutex
	wire net.Conn
	conn *beanstalk.Conn
}

func (s *source) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.hangUp()
}

func (s *source) hangUp() error {
	if s.conn == nil {
		return nil
	}
	conn := s.conn
	s.conn, s.wire = nil, nil
	return conn.Close()
}

// use lends the connection. After an error that is no answer it is not used again.
func (s *source) use(ctx context.Context, do func(*beanstalk.Conn) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn == nil {
		wire, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", s.address)
		if err != nil {
			return errors.New(probe.Explain(err))
		}
		s.wire, s.conn = wire, beanstalk.NewConn(wire)
	}
	limit := time.Now().Add(10 * time.Second)
	if d, ok := ctx.Deadline(); ok && d.Before(limit) {
		limit = d
	}
	_ = s.wire.SetDeadline(limit)
	err := do(s.conn)
	var answer beanstalk.ConnError
	var gone *store.GoneError
	var fixed *store.FixedError
	switch {
	case err == nil, errors.As(err, &gone), errors.As(err, &fixed):
		return err
	case errors.As(err, &answer) && (answer.Err == beanstalk.ErrNotFound || answer.Err == beanstalk.ErrBuried || answer.Err == beanstalk.ErrDraining || answer.Err == beanstalk.ErrOOM):
		return answer
	}
	_ = s.hangUp()
	return errors.New(probe.Explain(err))
}

func notFound(err error) bool {
	var answer beanstalk.ConnError
	return errors.As(err, &answer) && answer.Err == beanstalk.ErrNotFound
}

// Collections lists the tubes.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	var out []store.Collection
	err := s.use(ctx, func(c *beanstalk.Conn) error {
		names, err := c.ListTubes()
		if err != nil {
			return err
		}
		for _, name := range names {
			st, err := beanstalk.NewTube(c, name).Stats()
			if notFound(err) {
				continue
			}
			if err != nil {
				return err
			}
			ready, delayed, buried, reserved := count(st, "current-jobs-ready"), count(st, "current-jobs-delayed"), count(st, "current-jobs-buried"), count(st, "current-jobs-reserved")
			out = append(out, store.Collection{Name: store.Join(name), Title: name, Is: "tube", Count: ready + delayed + buried + reserved, Bytes: -1,
				Note: fmt.Sprintf("%d ready, %d delayed, %d buried, %d reserved", ready, delayed, buried, reserved), Can: []string{store.Insert, store.Delete}})
		}
		return nil
	})
	return out, err
}

func count(st map[string]string, name string) int64 {
	n, _ := strconv.ParseInt(st[name], 10, 64)
	return n
}

var columns = []store.Column{{Name: "id", Type: "id", Is: store.Number, Key: true}, {Name: "state", Type: "text", Is: store.Text}, {Name: "priority", Type: "count", Is: store.Number}, {Name: "age", Type: "duration", Is: store.Time}, {Name: "left", Type: "duration", Is: store.Time}, {Name: "body", Type: "text", Is: store.Text}}

// Items returns the jobs that the protocol shows: of a tube, the one that is next of
// those that are ready, delayed and buried.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	p := store.Page{Columns: columns, Rows: []store.Row{}, Order: "the next of each state: the protocol shows no others"}
	name, err := tubeOf(q.Collection)
	if err != nil {
		return p, err
	}
	if q.Back || q.After != "" {
		return p, nil
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	began := time.Now()
	err = s.use(ctx, func(c *beanstalk.Conn) error {
		t := beanstalk.NewTube(c, name)
		if _, err := t.Stats(); notFound(err) {
			return &store.GoneError{What: "a tube " + name}
		} else if err != nil {
			return err
		}
		for _, peek := range []func() (uint64, []byte, error){t.PeekReady, t.PeekDelayed, t.PeekBuried} {
			id, body, err := peek()
			if notFound(err) {
				continue
			}
			if err != nil {
				return err
			}
			st, err := c.StatsJob(id)
			if notFound(err) {
				continue
			}
			if err != nil {
				return err
			}
			if q.Where != "" && !strings.Contains(strings.ToLower(string(body)), strings.ToLower(q.Where)) {
				continue
			}
			key := strconv.FormatUint(id, 10)
			p.Rows = append(p.Rows, store.Row{Key: store.KeyFor(key), Values: []store.Value{{Text: key, Is: store.Number}, {Text: st["state"], Is: store.Text}, {Text: st["pri"], Is: store.Number}, seconds(st["age"]), seconds(st["time-left"]), store.TextOf(string(body), q.Wide)}})
		}
		return nil
	})
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

func seconds(text string) store.Value {
	n, err := strconv.Atoi(text)
	if err != nil || n == 0 {
		return store.NullValue
	}
	return store.Value{Text: words.Span(time.Duration(n) * time.Second), Is: store.Time}
}

func tubeOf(collection string) (string, error) {
	parts, err := store.Split(collection)
	return strings.Join(parts, "."), err
}

func idOf(key string) (uint64, error) {
	text, err := store.TextOfKey(key)
	if err != nil {
		return 0, err
	}
	id, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("%s is no job's id", text)
	}
	return id, nil
}

// Item returns a job whole.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	id, err := idOf(key)
	if err != nil {
		return item, err
	}
	err = s.use(ctx, func(c *beanstalk.Conn) error {
		body, err := c.Peek(id)
		if err != nil {
			return err
		}
		st, err := c.StatsJob(id)
		if err != nil {
			return err
		}
		item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: "body", Type: words.Bytes(uint64(len(body)))}, Value: store.TextOf(string(body), store.ValueLimit)})
		for _, name := range []string{"state", "tube", "pri", "age", "delay", "ttr", "time-left", "reserves", "timeouts", "releases", "buries", "kicks"} {
			item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: name, Type: "of the job"}, Value: store.Value{Text: st[name], Is: store.Text}})
		}
		return nil
	})
	if notFound(err) {
		err = &store.GoneError{What: fmt.Sprintf("the job %d", id)}
	}
	return item, err
}

// The actions beside those that all sources have.
const (
	kick    = "kick"
	kickAll = "kick all"
	bury    = "bury"
)

// Actions lists what can be done with a tube or a job.
func (s *source) Actions(_ context.Context, _, key string) ([]store.Action, error) {
	if key == "" {
		return []store.Action{{Name: store.Insert, Says: "put a job", Inputs: []store.Input{{Name: "body"}, {Name: "priority", Hint: "0 is the most urgent", Value: "1024"}, {Name: "delay", Hint: "how long it waits: 10s", Value: "0s"}}},
			{Name: kickAll, Says: "make buried or delayed jobs ready", Inputs: []store.Input{{Name: "number", Value: "100"}}}}, nil
	}
	return []store.Action{{Name: store.Delete, Says: "delete it"}, {Name: kick, Says: "make it ready"}, {Name: bury, Says: "bury it, if it is the next that is ready"}}, nil
}

// Plan says what an act would do.
func (s *source) Plan(_ context.Context, a store.Act) (store.Plan, error) {
	name, err := tubeOf(a.Collection)
	if err != nil {
		return store.Plan{}, err
	}
	id := uint64(0)
	if a.Key != "" {
		if id, err = idOf(a.Key); err != nil {
			return store.Plan{}, err
		}
	}
	switch a.Action {
	case store.Insert:
		pri, delay, err := put(a)
		return store.Plan{Statement: fmt.Sprintf("use %s, put %d %d …:\n%s", name, pri, int(delay.Seconds()), a.Given("body", ""))}, err
	case kickAll:
		n, err := strconv.Atoi(a.Given("number", ""))
		if err != nil || n < 1 {
			return store.Plan{}, &store.FixedError{Why: "number: write how many, 1 or more"}
		}
		return store.Plan{Statement: fmt.Sprintf("use %s, kick %d", name, n)}, nil
	case store.Delete:
		return store.Plan{Statement: fmt.Sprintf("delete %d", id), Loses: fmt.Sprintf("the job %d", id)}, nil
	case kick:
		return store.Plan{Statement: fmt.Sprintf("kick-job %d", id)}, nil
	case bury:
		return store.Plan{Statement: fmt.Sprintf("watch %s, reserve, bury %d", name, id)}, nil
	}
	return store.Plan{}, store.ErrNoAction
}

func put(a store.Act) (priority uint32, delay time.Duration, err error) {
	n, err := strconv.ParseUint(a.Given("priority", "1024"), 10, 32)
	if err != nil {
		return 0, 0, &store.FixedError{Why: "priority: write 0 to 4294967295"}
	}
	if delay, err = time.ParseDuration(a.Given("delay", "0s")); err != nil || delay < 0 {
		return 0, 0, &store.FixedError{Why: "delay: write for example 10s"}
	}
	return uint32(n), delay, nil
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (says string, err error) {
	if _, err := s.Plan(ctx, a); err != nil {
		return "", err
	}
	name, _ := tubeOf(a.Collection)
	id := uint64(0)
	if a.Key != "" {
		id, _ = idOf(a.Key)
	}
	err = s.use(ctx, func(c *beanstalk.Conn) error {
		switch a.Action {
		case store.Insert:
			pri, delay, err := put(a)
			if err != nil {
				return err
			}
			made, err := beanstalk.NewTube(c, name).Put([]byte(a.Given("body", "")), pri, delay, time.Minute)
			says = fmt.Sprintf("put as job %d", made)
			return err
		case kickAll:
			n, _ := strconv.Atoi(a.Given("number", ""))
			done, err := beanstalk.NewTube(c, name).Kick(n)
			says = words.Count(done, "job") + " made ready"
			return err
		case store.Delete:
			says = "1 job deleted"
			return c.Delete(id)
		case kick:
			says = "it is ready"
			return c.KickJob(id)
		}
		says = "it is buried"
		got, _, err := beanstalk.NewTubeSet(c, name).Reserve(0)
		if err != nil {
			return &store.FixedError{Why: "no job is ready"}
		}
		if got != id {
			_ = c.Release(got, 1024, 0)
			return &store.FixedError{Why: "another job is the next"}
		}
		return c.Bury(id, 1024)
	})
	if notFound(err) {
		err = &store.GoneError{What: fmt.Sprintf("the job %d, in a state in which this can be done", id)}
	}
	return says, err
}
