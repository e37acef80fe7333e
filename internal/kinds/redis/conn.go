package redis

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/gomodule/redigo/redis"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/probe"
)

// server asks a server, by two connections at most. Its methods may be called at the same time.
type server struct{ pool *redis.Pool }

func serverAt(port int) server {
	address := "127.0.0.1:" + strconv.Itoa(port)
	return server{&redis.Pool{MaxActive: 2, MaxIdle: 2, Wait: true, TestOnBorrow: func(c redis.Conn, since time.Time) error {
		if time.Since(since) < time.Second {
			return nil
		}
		_, err := redis.DoWithTimeout(c, 2*time.Second, "PING") // the server may have closed it
		return err
	}, DialContext: func(ctx context.Context) (redis.Conn, error) {
		return redis.DialContext(ctx, "tcp", address, redis.DialConnectTimeout(5*time.Second), redis.DialReadTimeout(time.Minute), redis.DialWriteTimeout(10*time.Second))
	}}}
}

func (s server) Close() error { return s.pool.Close() }

// do carries a command out. An answer is nil, an int64, a string, or a []any of these and of errors.
func (s server) do(ctx context.Context, name string, args ...any) (any, error) {
	c, err := s.pool.GetContext(ctx)
	if err != nil {
		return nil, explain(err)
	}
	defer c.Close()
	answer, err := redis.DoContext(c, ctx, name, args...)
	if err != nil && ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return plain(answer), explain(err)
}

// pipeline carries commands out in one exchange with the server, and returns their answers, which
// may be errors.
func (s server) pipeline(ctx context.Context, commands [][]any) ([]any, error) {
	if len(commands) == 0 {
		return nil, nil
	}
	c, err := s.pool.GetContext(ctx)
	if err != nil {
		return nil, explain(err)
	}
	defer c.Close()
	for _, command := range commands {
		if err := c.Send(command[0].(string), command[1:]...); err != nil {
			return nil, explain(err)
		}
	}
	// With no command of its own it returns the answers to all.
	answers, err := redis.DoContext(c, ctx, "")
	if err != nil {
		return nil, explain(err)
	}
	return plain(answers).([]any), nil
}

// plain has strings in place of bytes.
func plain(v any) any {
	switch v := v.(type) {
	case []byte:
		return string(v)
	case []any:
		for i := range v {
			v[i] = plain(v[i])
		}
	}
	return v
}

// typeOf returns the type of a key, "none" if there is no such key.
func (s server) typeOf(ctx context.Context, key string) (string, error) {
	return text(s.do(ctx, "TYPE", key))
}

// expiry returns after how long a key expires, and zero or less if it does not.
func (s server) expiry(ctx context.Context, key string) (time.Duration, error) {
	ms, err := number(s.do(ctx, "PTTL", key))
	return time.Duration(ms) * time.Millisecond, err
}

// scan is one step through the keys, or through the parts of a key. The last one returns the
// cursor 0.
func (s server) scan(ctx context.Context, name string, args ...any) (parts []string, next uint64, err error) {
	answer, err := s.do(ctx, name, args...)
	if err != nil {
		return nil, 0, err
	}
	parts = scanned(answer)
	if pair, ok := answer.([]any); ok && len(pair) == 2 {
		cursor, _ := pair[0].(string)
		next, err = strconv.ParseUint(cursor, 10, 64)
	}
	return parts, next, err
}

// scanned returns what a step of a scan has found.
func scanned(answer any) []string {
	if pair, ok := answer.([]any); ok && len(pair) == 2 {
		return texts(pair[1])
	}
	return nil
}

// keys is one step through the keys that match a pattern.
func (s server) keys(ctx context.Context, cursor uint64, match string, count int) ([]string, uint64, error) {
	return s.scan(ctx, "SCAN", cursor, "MATCH", match, "COUNT", count)
}

// each visits the keys of a pattern, some at a time; one may come twice.
func (s server) each(ctx context.Context, match string, do func([]string) error) error {
	for cursor := uint64(0); ; {
		keys, next, err := s.keys(ctx, cursor, match, 1000)
		if err == nil && len(keys) > 0 {
			err = do(keys)
		}
		if err != nil {
			return err
		}
		if cursor = next; cursor == 0 {
			return nil
		}
	}
}

func text(v any, err error) (string, error) {
	s, _ := v.(string)
	return s, err
}

func number(v any, err error) (int64, error) {
	n, _ := v.(int64)
	return n, err
}

// texts returns the strings of a list.
func texts(v any) []string {
	list, _ := v.([]any)
	out := make([]string, 0, len(list))
	for _, one := range list {
		if s, ok := one.(string); ok {
			out = append(out, s)
		}
	}
	return out
}

// entry is one of a stream.
type entry struct {
	id     string
	fields map[string]string
}

// entries reads the entries of a stream.
func entries(v any) []entry {
	list, _ := v.([]any)
	var out []entry
	for _, one := range list {
		pair, ok := one.([]any)
		if !ok || len(pair) != 2 {
			continue
		}
		id, _ := pair[0].(string)
		e := entry{id: id, fields: map[string]string{}}
		parts := texts(pair[1])
		for i := 0; i+1 < len(parts); i += 2 {
			e.fields[parts[i]] = parts[i+1]
		}
		out = append(out, e)
	}
	return out
}

// explain says in our words why there was no answer.
func explain(err error) error {
	var answer redis.Error
	switch {
	case err == nil, errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	case errors.As(err, &answer):
		return &store.AnswerError{Message: fmt.Sprint(answer)}
	}
	return errors.New(probe.Explain(err))
}
