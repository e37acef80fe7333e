// Package mail is a mail server that takes every message from any sender to
// any recipient, stores it on disk, and delivers none.
package mail

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"neighbour/internal/core/kind/misbehave"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// SizeLimit is how long a message may be, in bytes. The server announces it
// (RFC 1870) and refuses longer ones.
const SizeLimit = 25 << 20

// Server takes mail by SMTP (RFC 5321).
type Server struct {
	Store *Store
	Log   *log.Logger
	// Names are host names of the inbox, beside those that every machine has.
	Names []string
	// TLS is what STARTTLS (RFC 3207) is offered with; nil: it is not offered.
	TLS *tls.Config
	// Misbehave says what it does wrong with every mail; nil: nothing.
	Misbehave *misbehave.Follower

	rules ruling
}

// Rules returns the rules that hold now.
func (s *Server) Rules() Rules {
	r := s.rules.get()
	r.Misbehave = s.Misbehave.Rules()
	return r
}

// SetRules has other rules hold.
func (s *Server) SetRules(r Rules) error {
	if err := r.Check(); err != nil {
		return err
	}
	s.rules.set(r)
	if s.Misbehave == nil {
		s.Misbehave = misbehave.Follow("", s.Log)
	}
	return s.Misbehave.Set(r.Misbehave)
}

// Serve takes mail on the listener until the context ends.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	server := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &session{server: s, conn: c, ctx: ctx}, nil
	}))
	server.Domain = "localhost"
	server.MaxMessageBytes = SizeLimit
	server.MaxRecipients = 0 // any number
	server.MaxLineLength = 1 << 20
	server.AllowInsecureAuth = true
	server.EnableSMTPUTF8 = true
	server.TLSConfig = s.TLS
	server.ErrorLog = s.Log
	server.ReadTimeout, server.WriteTimeout = 5*time.Minute, time.Minute // RFC 5321, section 4.5.3.2
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	// A message on its way gets a moment; a client that just stays connected
	// is not waited for, and what was not acknowledged will be sent again.
	grace, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	err := server.Shutdown(grace)
	_ = l.Close() // in case it was not served yet, of which Shutdown knows nothing
	<-failed
	if errors.Is(err, context.DeadlineExceeded) {
		return nil
	}
	return err
}

// session is one client's connection.
type session struct {
	server *Server
	conn   *smtp.Conn
	ctx    context.Context
	from   string
	to     []string
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if matches(s.server.Rules().Refuse, to) {
		s.server.Log.Printf("refused %s, as the rules say", to)
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is no mailbox of this name here"}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	rules := s.server.Rules()
	wait, fate := rules.Misbehave.Draw()
	if wait > 0 {
		select {
		case <-time.After(wait):
		case <-s.ctx.Done():
		}
	}
	// The codes are those of RFC 3463, section 3.
	refuse := func(code int, enhanced smtp.EnhancedCode, why string) error {
		s.server.Log.Printf("refused a message from %s, as the rules say: %s", s.from, why)
		return &smtp.SMTPError{Code: code, EnhancedCode: enhanced, Message: why}
	}
	switch {
	case fate == misbehave.Failed:
		return refuse(451, smtp.EnhancedCode{4, 3, 0}, "an error that this server was told to answer with")
	case fate == misbehave.Throttled:
		return refuse(450, smtp.EnhancedCode{4, 7, 1}, "too many messages at a time")
	case rules.Misbehave.Full:
		return refuse(452, smtp.EnhancedCode{4, 2, 2}, "there is no room left")
	case rules.Misbehave.ReadOnly:
		return refuse(550, smtp.EnhancedCode{5, 2, 1}, "no messages are accepted")
	case fate == misbehave.Cut, slices.ContainsFunc(s.to, func(to string) bool { return matches(rules.Drop, to) }):
		s.server.Log.Printf("cut the connection of a message from %s, as the rules say", s.from)
		_ = s.conn.Conn().Close()
		return errors.New("the connection was cut")
	}
	if err := s.server.Store.Add(s.from, s.to, r); err != nil {
		var refused *smtp.SMTPError
		if errors.As(err, &refused) {
			s.server.Log.Printf("refused a message from %s: %s", s.from, refused.Message)
			return err
		}
		s.server.Log.Printf("could not store a message from %s: %v", s.from, err)
		return &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: fmt.Sprintf("the message could not be stored: %v", err)}
	}
	s.server.Log.Printf("from %s to %s: %s", s.from, strings.Join(s.to, ", "), s.server.Store.Latest().Subject)
	return nil
}

func (s *session) Reset() { s.from, s.to = "", nil }

func (s *session) Logout() error { return nil }

// AuthMechanisms and Auth accept any user with any password.
func (s *session) AuthMechanisms() []string { return []string{sasl.Plain, sasl.Login} }

func (s *session) Auth(mechanism string) (sasl.Server, error) {
	switch mechanism {
	case sasl.Plain:
		return sasl.NewPlainServer(func(_, _, _ string) error { return nil }), nil
	case sasl.Login:
		return &loginServer{}, nil
	}
	return nil, smtp.ErrAuthUnknownMechanism
}

// loginServer is the server's side of the LOGIN mechanism, which is in no
// standard but in many clients: it asks for the user, then for the password.
type loginServer struct{ step int }

func (l *loginServer) Next(response []byte) (challenge []byte, done bool, err error) {
	if l.step == 0 && len(response) > 0 { // a user given at once
		l.step = 1
	}
	l.step++
	switch l.step {
	case 1:
		return []byte("Username:"), false, nil
	case 2:
		return []byte("Password:"), false, nil
	}
	return nil, true, nil
}
