// Package documents is a database of documents for development. It speaks the wire
// protocol that its clients expect, and keeps what it is given in one SQLite file.
package documents

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log"
	"net"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
	"neighbour/internal/emulator/documents/wire"
)

// Server answers clients.
type Server struct {
	engine    *engine.Engine
	log       *log.Logger
	passwords *scram.Server // nil: nobody has to show one
	rules     *misbehave.Follower
	sessions  sessions
	began     time.Time
	election  bson.ObjectID

	mu      sync.Mutex
	cursors map[int64]*openCursor
	next    int64

	clients     atomic.Int32 // connections that are open
	connections atomic.Int32 // that ever were
	answers     atomic.Int32
}

// conn is a client's connection. Its commands come one after another.
type conn struct {
	id              int32
	address, client string // of this end, and the other
	user            string // whose password was shown
	own             bool   // it is Neighbour's, to which the server always behaves
	login           *scram.ServerConversation
}

// cursorIdle is how long a cursor stays open that nobody uses, and expiry how often
// documents are looked for whose time has come.
const (
	cursorIdle = 10 * time.Minute
	expiry     = 10 * time.Second
)

// Of clients that have not shown a password, messages are at most strangerBytes long; mostClients is
// how many connections there may be.
const (
	strangerBytes = 64 << 10
	mostClients   = 5_000
)

// NewServer returns a server of a file's documents. Clients must show the account's
// password, unless there is none. The rules say how it misbehaves; they may be nil.
func NewServer(e *engine.Engine, logger *log.Logger, account Account, rules *misbehave.Follower) (*Server, error) {
	s := &Server{engine: e, log: logger, rules: rules, cursors: map[int64]*openCursor{}, sessions: sessions{all: map[string]*session{}}, began: time.Now(), election: bson.NewObjectID()}
	if account == (Account{}) {
		return s, nil
	}
	var err error
	s.passwords, err = account.passwords()
	return s, err
}

func (s *Server) now() time.Time { return time.Now().Add(s.rules.Rules().Clock) }

// Serve answers on a listener until the context ends. Then it closes the connections,
// and returns nil once all that was begun has come to its end.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	ctx, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	defer s.sessions.forget("")
	defer all.Wait()
	defer cancel()
	all.Go(func() { s.expire(ctx) })
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
		if s.clients.Load() >= mostClients {
			s.log.Printf("a connection is refused: there are %d", mostClients)
			_ = conn.Close()
			continue
		}
		all.Go(func() { s.converse(ctx, conn) })
	}
}

// converse answers one client until it goes.
func (s *Server) converse(ctx context.Context, c net.Conn) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	defer c.Close()
	on := &conn{id: s.connections.Add(1), address: c.LocalAddr().String(), client: c.RemoteAddr().String()}
	s.clients.Add(1)
	defer s.clients.Add(-1)
	for {
		limit := int64(wire.MostBytes)
		if s.passwords != nil && on.user == "" { // what a client says before it may do anything is short
			limit = strangerBytes
		}
		q, err := wire.ReadUpTo(c, limit)
		var invalid *wire.InvalidDocumentError
		if errors.As(err, &invalid) {
			q.Command = value.Document()
			if q.Silent {
				continue
			}
			refusal := commandOf(q, on).refusal(&fault.Error{Code: 22, Name: "InvalidBSON", Message: err.Error()})
			if err := wire.Write(c, s.answers.Add(1), q, refusal); err != nil {
				return
			}
			continue
		}
		if err != nil {
			var bad *wire.BadMessageError
			if errors.As(err, &bad) {
				s.log.Printf("connection %d is closed: %v", on.id, err)
			} else if !errors.Is(err, io.EOF) && ctx.Err() == nil {
				s.log.Printf("connection %d: %v", on.id, err)
			}
			return
		}
		answer, fate := s.behave(ctx, q, on)
		if q.Silent && fate != misbehave.Cut {
			continue
		}
		var message bytes.Buffer
		if err := wire.Write(&message, s.answers.Add(1), q, answer); err != nil {
			return
		}
		if fate == misbehave.Cut {
			_, _ = c.Write(message.Bytes()[:message.Len()/2])
			return
		}
		if _, err := c.Write(message.Bytes()); err != nil {
			return
		}
	}
}

// handshake are the commands with which a client begins, and looks whether the server is
// there. To those it behaves.
const handshake = " hello isMaster ismaster ping buildInfo buildinfo saslStart saslContinue logout endSessions killCursors connectionStatus "

// writing are the commands that write.
const writing = " insert update delete findAndModify findandmodify create drop dropDatabase renameCollection createIndexes dropIndexes deleteIndexes "

// behave answers a command, or does what the rules say.
func (s *Server) behave(ctx context.Context, q *wire.Request, on *conn) (bson.Raw, misbehave.Fate) {
	c := commandOf(q, on)
	rules := s.rules.Rules()
	if on.own || rules == (misbehave.Rules{}) || strings.Contains(handshake, " "+c.name+" ") {
		return s.answer(ctx, c), misbehave.Well
	}
	wait, fate := rules.Draw()
	misbehave.Wait(ctx, wait)
	writes := strings.Contains(writing, " "+c.name+" ")
	switch {
	case fate == misbehave.Failed:
		return c.refusal(&fault.Error{Code: 8, Name: "UnknownError", Message: "an error that this emulator was told to answer with"}), fate
	case fate == misbehave.Throttled:
		return c.refusal(&fault.Error{Code: 462, Name: "IngressRequestRateLimitExceeded", Message: "Request rate limit exceeded, as this emulator was told to say"}), fate
	case writes && rules.Full:
		return c.refusal(&fault.Error{Code: 14031, Name: "OutOfDiskSpace", Message: "available disk space is less than required, as this emulator was told to say"}), fate
	case writes && rules.ReadOnly:
		return c.refusal(&fault.Error{Code: 13, Name: "Unauthorized", Message: "not authorized on " + c.database + " to execute command " + c.name + ", as this emulator was told to say"}), fate
	}
	return s.answer(ctx, c), fate
}

// answer carries out a command. Whatever goes wrong is an answer, too.
func (s *Server) answer(ctx context.Context, c *command) (answer bson.Raw) {
	defer func() {
		if p := recover(); p != nil {
			s.log.Printf("%s: %v\n%s", c.name, p, debug.Stack())
			answer = c.refusal(&fault.Error{Code: 1, Name: "InternalError", Message: "the emulator has a fault in it; its log says more"})
		}
	}()
	do := commands[c.name]
	if do == nil {
		return c.refusal(&fault.Error{Code: 59, Name: "CommandNotFound", Message: "no such command: '" + c.name + "'"})
	}
	if err := s.allow(c); err != nil {
		return c.refusal(err)
	}
	if limit, err := c.number("maxTimeMS", 0); err == nil && limit > 0 && c.name != "getMore" {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, time.Duration(limit)*time.Millisecond)
		defer cancel()
	}
	said, err := s.carryOut(ctx, c, do)
	if err != nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			err = &fault.Error{Code: 50, Name: "MaxTimeMSExpired", Message: "operation exceeded time limit"}
		}
		return c.refusal(err)
	}
	b, err := bson.Marshal(append(said, bson.E{Key: "ok", Value: 1.0}))
	if err != nil {
		return c.refusal(err)
	}
	return b
}

// carryOut carries out a command, in its transaction if it has one.
func (s *Server) carryOut(ctx context.Context, c *command, do func(*Server, context.Context, *command) (bson.D, error)) (said bson.D, err error) {
	done, err := s.join(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() {
		if p := recover(); p != nil {
			done(errors.New("it panicked"))
			panic(p)
		}
		failed := err
		for _, e := range said {
			if e.Key == "writeErrors" {
				failed = errors.New("a write was refused")
			}
		}
		done(failed)
	}()
	return do(s, ctx, c)
}

// expire takes documents away whose time has come.
func (s *Server) expire(ctx context.Context) {
	ticker := time.NewTicker(expiry)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if n, err := s.engine.Expire(ctx, s.now()); err != nil && ctx.Err() == nil {
			s.log.Printf("documents whose time has come can't be taken away: %v", err)
		} else if n > 0 {
			s.log.Printf("%d documents are gone, since their time had come", n)
		}
	}
}

// refusal is the answer that an error becomes.
func (c *command) refusal(err error) bson.Raw {
	var f *fault.Error
	if full := (*engine.FullError)(nil); errors.As(err, &full) {
		err = &fault.Error{Code: 14031, Name: "OutOfDiskSpace", Message: full.Error()}
	}
	if !errors.As(err, &f) {
		f = &fault.Error{Code: 8, Name: "UnknownError", Message: err.Error()}
		var w *engine.WriteError
		if errors.As(err, &w) {
			f = w.Err
		}
	}
	answer := bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: f.Message}, {Key: "code", Value: f.Code}, {Key: "codeName", Value: f.Name}}
	if _, is := c.lookup("autocommit"); is && transient(f) {
		answer = append(answer, bson.E{Key: "errorLabels", Value: bson.A{"TransientTransactionError"}})
	}
	b, _ := bson.Marshal(answer) // never fails
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

// Greet asks the server at the other end of a connection for its greeting, and returns an
// error if it isn't ready.
func Greet(conn net.Conn) error {
	question, err := bson.Marshal(bson.D{{Key: "hello", Value: 1}, {Key: "$db", Value: "admin"}})
	if err != nil {
		return err
	}
	if err := wire.Write(conn, 1, &wire.Request{}, question); err != nil {
		return err
	}
	answer, err := wire.Read(conn) // whose form is that of a request
	if err != nil {
		return err
	}
	if ready, ok := answer.Command.Lookup("isWritablePrimary").BooleanOK(); !ok || !ready {
		return errors.New("it is not ready to write")
	}
	return nil
}
