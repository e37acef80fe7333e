// Package documents is a database of documents for development. It speaks the wire
// protocol that its clients expect, and keeps what it is given in one SQLite file.
package documents

import (
	"context"
	"errors"
	"io"
	"log"
	"net"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/projection"
	"neighbour/internal/emulator/documents/wire"
)

// Server answers clients.
type Server struct {
	engine *engine.Engine
	log    *log.Logger

	mu      sync.Mutex
	cursors map[int64]*openCursor
	next    int64

	connections atomic.Int32
	answers     atomic.Int32
}

// openCursor is a cursor from which a client has not had everything.
type openCursor struct {
	mu     sync.Mutex // one batch at a time
	cursor *engine.Cursor
	shown  *projection.Projection
	space  engine.Space
	used   time.Time
}

// next returns the documents that follow, at most size of them.
func (o *openCursor) next(ctx context.Context, size int64) (all []bson.Raw, more bool, err error) {
	all, more, err = o.cursor.Next(ctx, int(min(size, 1<<30)), batchBytes)
	for i := range all {
		all[i] = o.shown.Apply(all[i])
	}
	return all, more, err
}

// cursorIdle is how long a cursor stays open that nobody uses.
const cursorIdle = 10 * time.Minute

// NewServer returns a server of a file's documents.
func NewServer(e *engine.Engine, logger *log.Logger) *Server {
	return &Server{engine: e, log: logger, cursors: map[int64]*openCursor{}}
}

// Serve answers on a listener until the context ends. Then it closes the connections,
// and returns nil once all that was begun has come to its end.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	ctx, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		var passing net.Error
		if errors.As(err, &passing) && passing.Timeout() {
			continue
		}
		if err != nil {
			return err
		}
		all.Go(func() { s.converse(ctx, conn) })
	}
}

// converse answers one client until it goes.
func (s *Server) converse(ctx context.Context, conn net.Conn) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	defer conn.Close()
	id := s.connections.Add(1)
	for {
		q, err := wire.Read(conn)
		if err != nil {
			var bad *wire.BadMessageError
			if errors.As(err, &bad) {
				s.log.Printf("connection %d is closed: %v", id, err)
			} else if !errors.Is(err, io.EOF) && ctx.Err() == nil {
				s.log.Printf("connection %d: %v", id, err)
			}
			return
		}
		answer := s.answer(ctx, q)
		if q.Silent {
			continue
		}
		if err := wire.Write(conn, s.answers.Add(1), q, answer); err != nil {
			return
		}
	}
}

// answer carries out a command. Whatever goes wrong is an answer, too.
func (s *Server) answer(ctx context.Context, q *wire.Request) (answer bson.Raw) {
	c := commandOf(q)
	defer func() {
		if p := recover(); p != nil {
			s.log.Printf("%s: %v\n%s", c.name, p, debug.Stack())
			answer = refusal(&fault.Error{Code: 1, Name: "InternalError", Message: "the emulator has a fault in it; its log says more"})
		}
	}()
	do := commands[c.name]
	if do == nil {
		return refusal(&fault.Error{Code: 59, Name: "CommandNotFound", Message: "no such command: '" + c.name + "'"})
	}
	if limit, err := c.number("maxTimeMS", 0); err == nil && limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, time.Duration(limit)*time.Millisecond)
		defer cancel()
	}
	said, err := do(s, ctx, c)
	if err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			err = &fault.Error{Code: 50, Name: "MaxTimeMSExpired", Message: "operation exceeded time limit"}
		}
		return refusal(err)
	}
	b, err := bson.Marshal(append(said, bson.E{Key: "ok", Value: 1.0}))
	if err != nil {
		return refusal(err)
	}
	return b
}

// refusal is the answer that an error becomes.
func refusal(err error) bson.Raw {
	var f *fault.Error
	if !errors.As(err, &f) {
		f = &fault.Error{Code: 8, Name: "UnknownError", Message: err.Error()}
		var w *engine.WriteError
		if errors.As(err, &w) {
			f = w.Err
		}
	}
	b, _ := bson.Marshal(bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: f.Message}, {Key: "code", Value: f.Code}, {Key: "codeName", Value: f.Name}}) // never fails
	return b
}

// keep keeps a cursor for a client that will ask for more, and returns its number.
func (s *Server) keep(kept *openCursor) int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, o := range s.cursors {
		if time.Since(o.used) > cursorIdle {
			delete(s.cursors, id)
		}
	}
	s.next++
	kept.used = time.Now()
	s.cursors[s.next] = kept
	return s.next
}

func (s *Server) cursor(id int64) *openCursor {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.cursors[id]
	if o != nil {
		o.used = time.Now()
	}
	return o
}

// forget closes a cursor, and reports whether it was open.
func (s *Server) forget(id int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, open := s.cursors[id]
	delete(s.cursors, id)
	return open
}
