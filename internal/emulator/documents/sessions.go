package documents

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// transactionLife is how long a transaction may last.
const transactionLife = time.Minute

// session is what is known of a client's session.
type session struct {
	mu        sync.Mutex // one command at a time in a transaction
	open      *engine.Transaction
	number    int64 // of the last transaction
	committed bool
	end       *time.Timer
	used      time.Time // its lock is that of the sessions
}

// sessionLife is how long a session is known that nobody uses.
const sessionLife = 30 * time.Minute

// abort ends the transaction that is open. The session is locked.
func (s *session) abort() {
	if s.open != nil {
		s.open.Abort()
		s.open = nil
		s.end.Stop()
	}
}

// sessions are those that have had a transaction.
type sessions struct {
	mu    sync.Mutex
	all   map[string]*session
	swept time.Time
}

func (s *sessions) get(id string) *session {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	if now.Sub(s.swept) > sessionLife/30 { // an open transaction has ended long before
		maps.DeleteFunc(s.all, func(_ string, one *session) bool { return now.Sub(one.used) > sessionLife })
		s.swept = now
	}
	if s.all[id] == nil {
		s.all[id] = &session{number: -1}
	}
	s.all[id].used = now
	return s.all[id]
}

// forget ends a session, and all if id is "".
func (s *sessions) forget(id string) {
	s.mu.Lock()
	var gone []*session
	for name, one := range s.all {
		if id == "" || name == id {
			gone = append(gone, one)
			delete(s.all, name)
		}
	}
	s.mu.Unlock()
	for _, one := range gone {
		one.mu.Lock()
		one.abort()
		one.mu.Unlock()
	}
}

// sessionID returns the id of a command's session, "" for none.
func (c *command) sessionID() string {
	lsid, _ := c.lookup("lsid")
	if lsid.Type != bson.TypeEmbeddedDocument {
		return ""
	}
	id, _ := value.Member(lsid.Value, "id")
	if id.Type != bson.TypeBinary {
		return ""
	}
	_, data := id.Binary()
	return string(data)
}

// retry tells a write that may be sent again.
func (c *command) retry() engine.Retry {
	number, ok := c.lookup("txnNumber")
	n, whole := value.Integer(number)
	if id := c.sessionID(); ok && whole && id != "" && c.transaction == nil {
		return engine.Retry{Session: []byte(id), Number: n}
	}
	return engine.Retry{}
}

// inTransactions are the commands that may be a part of a transaction.
const inTransactions = " find getMore aggregate insert update delete findAndModify findandmodify distinct killCursors create createIndexes commitTransaction abortTransaction "

func noTransaction(text string) error {
	return &fault.Error{Code: 251, Name: "NoSuchTransaction", Message: text}
}

// join finds the transaction that a command is a part of, and begins it with its first.
// What it returns must be called when the command has been carried out, with its error.
func (s *Server) join(ctx context.Context, c *command) (done func(error), err error) {
	auto, is := c.lookup("autocommit")
	if !is || auto.Type != bson.TypeBoolean || auto.Value[0] != 0 {
		return func(error) {}, nil
	}
	id, number := c.sessionID(), int64(0)
	if number, err = c.number("txnNumber", -1); err != nil {
		return nil, err
	}
	switch {
	case id == "" || number < 0:
		return nil, &fault.Error{Code: 72, Name: "InvalidOptions", Message: "a transaction needs a session, and a txnNumber"}
	case !strings.Contains(inTransactions, " "+c.name+" "):
		return nil, &fault.Error{Code: 263, Name: "OperationNotSupportedInTransaction", Message: "Cannot run '" + c.name + "' in a multi-document transaction."}
	}
	first, err := c.truth("startTransaction", false)
	if err != nil {
		return nil, err
	}
	one := s.sessions.get(id)
	one.mu.Lock()
	switch {
	case first:
		one.abort()
		one.number, one.committed = number, false
		if one.open, err = s.engine.Begin(ctx); err == nil {
			begun := one.open
			one.end = time.AfterFunc(transactionLife, func() {
				one.mu.Lock()
				defer one.mu.Unlock()
				if one.open == begun {
					one.abort()
				}
			})
		}
	case number != one.number:
		err = noTransaction("Given transaction number does not match any in-progress transactions.")
	case one.open == nil && (c.name != "commitTransaction" || !one.committed):
		err = noTransaction("Transaction has been aborted, or has ended.")
	}
	if err != nil {
		one.mu.Unlock()
		return nil, err
	}
	c.session, c.transaction = one, one.open
	return func(err error) {
		if err != nil {
			one.abort()
		}
		one.mu.Unlock()
	}, nil
}

func commitTransaction(_ *Server, ctx context.Context, c *command) (bson.D, error) {
	if c.session == nil {
		return nil, &fault.Error{Code: 125, Name: "CommandFailed", Message: "commitTransaction must be run within a transaction"}
	}
	open := c.session.open
	if open == nil { // it was committed already, and the answer got lost
		return bson.D{}, nil
	}
	c.session.open = nil
	c.session.end.Stop()
	err := open.Commit(ctx)
	c.session.committed = err == nil
	return bson.D{}, err
}

func abortTransaction(_ *Server, _ context.Context, c *command) (bson.D, error) {
	if c.session == nil {
		return nil, &fault.Error{Code: 125, Name: "CommandFailed", Message: "abortTransaction must be run within a transaction"}
	}
	c.session.abort()
	return bson.D{}, nil
}

// endSessions ends sessions; killSessions and others that name them do the same.
func endSessions(s *Server, _ context.Context, c *command) (bson.D, error) {
	v, _ := c.lookup(c.name)
	for _, lsid := range value.Items(v) {
		if id, _ := value.Member(lsid.Value, "id"); id.Type == bson.TypeBinary {
			_, data := id.Binary()
			s.sessions.forget(string(data))
		}
	}
	return bson.D{}, nil
}

// transient reports whether a transaction that failed so may be tried again.
func transient(f *fault.Error) bool { return slices.Contains([]int32{112, 251, 24, 246}, f.Code) }

// write carries out a write: in the command's transaction, or as one of its own.
func (s *Server) write(ctx context.Context, c *command, do func(*engine.Writer) (bson.D, error)) (bson.D, error) {
	if c.transaction != nil {
		return do(c.transaction.Writer())
	}
	raw, err := s.engine.Write(ctx, c.retry(), do)
	if err != nil {
		return nil, err
	}
	var answer bson.D
	for _, m := range value.Members(raw) {
		answer = append(answer, bson.E{Key: m.Name, Value: m.Value})
	}
	return answer, nil
}

// open opens a cursor, of what the command's transaction sees if it has one.
func (s *Server) open(ctx context.Context, c *command, space engine.Space, f engine.Find) (*engine.Cursor, error) {
	if c.transaction != nil {
		return c.transaction.Open(ctx, space, f)
	}
	return s.engine.Open(ctx, space, f)
}
