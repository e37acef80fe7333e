package documents

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
)

// scramRounds is how often a password is hashed (RFC 7677, section 4).
const scramRounds = 4096

// Account is a user whose password clients must know.
type Account struct{ User, Password string }

// passwords makes what tells whether a client knows the account's password, by
// SCRAM-SHA-256 (RFC 7677).
func (a Account) passwords() (*scram.Server, error) {
	client, err := scram.SHA256.NewClient(a.User, a.Password, "")
	if err != nil {
		return nil, err
	}
	salt := make([]byte, 28)
	_, _ = rand.Read(salt) // never fails
	known, err := client.GetStoredCredentialsWithError(scram.KeyFactors{Salt: string(salt), Iters: scramRounds})
	if err != nil {
		return nil, err
	}
	return scram.SHA256.NewServer(func(user string) (scram.StoredCredentials, error) {
		if user != a.User {
			return scram.StoredCredentials{}, fmt.Errorf("there is no user %q", user)
		}
		return known, nil
	})
}

// OwnClient is the name with which Neighbour's own clients introduce themselves.
const OwnClient = "neighbour"

// withoutAccount are the commands of clients that haven't shown their password.
const withoutAccount = " hello isMaster ismaster ping buildInfo buildinfo saslStart saslContinue logout endSessions connectionStatus "

// allow refuses a command to whom it isn't allowed.
func (s *Server) allow(c *command) error {
	if s.passwords == nil || c.conn.user != "" || strings.Contains(withoutAccount, " "+c.name+" ") {
		return nil
	}
	return &fault.Error{Code: 13, Name: "Unauthorized", Message: "Command " + c.name + " requires authentication"}
}

func unauthenticated() error {
	return &fault.Error{Code: 18, Name: "AuthenticationFailed", Message: "Authentication failed."}
}

func saslStart(s *Server, _ context.Context, c *command) (bson.D, error) {
	v, _ := c.lookup("mechanism")
	if mechanism, _ := v.StringValueOK(); mechanism != "SCRAM-SHA-256" {
		return nil, &fault.Error{Code: 334, Name: "MechanismUnavailable", Message: fmt.Sprintf("Received authentication for mechanism %s which is not enabled; SCRAM-SHA-256 is", mechanism)}
	}
	if s.passwords == nil {
		return nil, unauthenticated()
	}
	c.conn.login = s.passwords.NewConversation()
	return s.saslStep(c)
}

func saslContinue(s *Server, _ context.Context, c *command) (bson.D, error) {
	if c.conn.login == nil {
		return nil, &fault.Error{Code: 17, Name: "ProtocolError", Message: "No SASL session state found"}
	}
	return s.saslStep(c)
}

func (s *Server) saslStep(c *command) (bson.D, error) {
	v, _ := c.lookup("payload")
	said := ""
	switch v.Type {
	case bson.TypeBinary:
		_, data := v.Binary()
		said = string(data)
	case bson.TypeString:
		said = v.StringValue()
	}
	login := c.conn.login
	answer := ""
	// Once it is valid, clients that don't skip it send an empty exchange.
	if !login.Done() {
		var err error
		if answer, err = login.Step(said); err != nil || login.Done() && !login.Valid() {
			c.conn.login = nil
			s.log.Printf("connection %d: a client that doesn't know the password", c.conn.id)
			return nil, unauthenticated()
		}
	}
	done := login.Done()
	if done {
		c.conn.user = login.Username()
	}
	return bson.D{{Key: "conversationId", Value: int32(1)}, {Key: "done", Value: done}, {Key: "payload", Value: bson.Binary{Data: []byte(answer)}}}, nil
}

func connectionStatus(s *Server, _ context.Context, c *command) (bson.D, error) {
	users := bson.A{}
	if c.conn.user != "" {
		users = append(users, bson.D{{Key: "user", Value: c.conn.user}, {Key: "db", Value: "admin"}})
	}
	return bson.D{{Key: "authInfo", Value: bson.D{{Key: "authenticatedUsers", Value: users}, {Key: "authenticatedUserRoles", Value: bson.A{}}}}}, nil
}

func logout(_ *Server, _ context.Context, c *command) (bson.D, error) {
	c.conn.user, c.conn.login = "", nil
	return bson.D{}, nil
}
