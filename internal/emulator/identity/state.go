package identity

import (
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/machine/atomicfile"
)

// account is somebody who has signed up, or what has changed of somebody who is declared.
type account struct {
	Person
	Salt     []byte    `json:"salt,omitempty"`
	Hash     []byte    `json:"hash,omitempty"`
	Verified bool      `json:"verified"`
	SignedUp bool      `json:"signed_up,omitempty"`
	Since    time.Time `json:"since"`
}

// grant is what somebody has allowed a client: a sign-in, or what a client has by itself.
type grant struct {
	ID      string    `json:"id"`
	Subject string    `json:"sub,omitempty"` // "" for a client by itself
	Client  string    `json:"client"`
	Scope   string    `json:"scope,omitempty"`
	Began   time.Time `json:"began"`
	Used    time.Time `json:"used"`
	Until   time.Time `json:"until"`
	Revoked bool      `json:"revoked,omitempty"`
	// Refresh is the token that is good for the next, as a digest; what was good before it
	// ends the grant, since it was stolen or used twice (RFC 9700, section 4.14.2).
	Refresh string `json:"refresh,omitempty"`
	// Before is the digest of the one before it, Turned when it was used, and Turn how often
	// that has happened.
	Before   string    `json:"before,omitempty"`
	Turned   time.Time `json:"turned,omitzero"`
	Turn     int       `json:"turn,omitempty"`
	Resource string    `json:"resource,omitempty"`
	Nonce    string    `json:"nonce,omitempty"`
	Auth     int64     `json:"auth,omitempty"` // when the person signed in, in seconds since 1970
}

// The most of each that are kept; the oldest go first.
const (
	mostGrants   = 2000
	mostRevoked  = 2000
	mostAccounts = 1000
)

// kept is what a provider keeps in its file.
type kept struct {
	Accounts map[string]*account  `json:"accounts"` // by subject
	Revoked  map[string]time.Time `json:"revoked"`  // access tokens by jti, until when they would hold
	// Secret signs cookies and links.
	Secret []byte `json:"secret"`
}

// state is what changes, and is kept in files: one for all that changes seldom, and one for each
// grant, so that a sign-in takes as long after a thousand as after one.
type state struct {
	file, dir string
	mu        sync.Mutex
	kept
	Grants map[string]*grant // by id
}

func openState(dir string) (*state, error) {
	s := &state{file: filepath.Join(dir, "state.json"), dir: filepath.Join(dir, "sign-ins"), Grants: map[string]*grant{}}
	if err := atomicfile.ReadJSON(s.file, &s.kept); err != nil {
		return nil, fmt.Errorf("what was kept can't be read: %w; remove %s to begin without it", err, s.file)
	}
	s.Accounts, s.Revoked = or(s.Accounts), or(s.Revoked)
	if err := s.readGrants(); err != nil {
		return nil, err
	}
	if len(s.Secret) == 0 {
		s.Secret = random(32)
		return s, s.save()
	}
	return s, nil
}

func or[V any](m map[string]V) map[string]V {
	if m == nil {
		return map[string]V{}
	}
	return m
}

func random(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return b
}

func randomText(n int) string { return base64.RawURLEncoding.EncodeToString(random(n)) }

// save writes the file. The lock is held, or nobody else knows of it yet.
func (s *state) save() error {
	for _, jti := range oldest(s.Revoked, mostRevoked, func(t time.Time) time.Time { return t }) {
		delete(s.Revoked, jti)
	}
	b, err := json.Marshal(s.kept)
	if err != nil {
		return err
	}
	return atomicfile.Replace(s.file, b, 0o600)
}

// oldest returns those that are too many, and some more, so that it is not asked for each.
func oldest[V any](m map[string]V, most int, at func(V) time.Time) []string {
	if len(m) <= most {
		return nil
	}
	names := slices.SortedFunc(maps.Keys(m), func(a, b string) int { return at(m[a]).Compare(at(m[b])) })
	return names[:len(m)-most+most/10]
}

func (s *state) readGrants() error {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if id, ok := strings.CutSuffix(e.Name(), ".json"); ok {
			g := &grant{}
			path := filepath.Join(s.dir, e.Name())
			if err := atomicfile.ReadJSON(path, g); err != nil {
				return fmt.Errorf("a sign-in can't be read: %w; remove %s", err, path)
			}
			s.Grants[id] = g
		}
	}
	return nil
}

// keep writes a grant to its file, and lets the oldest go. The lock is held.
func (s *state) keep(g *grant) error {
	b, err := json.Marshal(g)
	if err != nil {
		return err
	}
	if err := atomicfile.Replace(filepath.Join(s.dir, g.ID+".json"), b, 0o600); err != nil {
		return err
	}
	s.Grants[g.ID] = g
	for _, id := range oldest(s.Grants, mostGrants, func(g *grant) time.Time { return g.Used }) {
		delete(s.Grants, id)
		_ = os.Remove(filepath.Join(s.dir, id+".json"))
	}
	return nil
}

// add adds a grant.
func (s *state) add(g *grant) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.keep(g)
}

// amend changes a grant, or nothing if that fails, and returns it as it is then. Do gets nil if
// there is none.
func (s *state) amend(id string, do func(*grant) error) (grant, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	own := s.Grants[id]
	if own == nil {
		return grant{}, do(nil)
	}
	c := *own
	if err := do(&c); err != nil {
		return c, err
	}
	return c, s.keep(&c)
}

// change changes what is kept, or nothing if it can't be written.
func (s *state) change(do func() error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := do(); err != nil {
		return err
	}
	return s.save()
}

// look calls do with what is kept.
func (s *state) look(do func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	do()
}

const rounds = 20_000

func hash(password string, salt []byte) []byte {
	b, err := pbkdf2.Key(sha256.New, password, salt, rounds, 32)
	if err != nil {
		panic(err) // the arguments are ours
	}
	return b
}

func (a *account) setPassword(password string) {
	a.Salt = random(16)
	a.Hash = hash(password, a.Salt)
}

// needsPassword reports whether a click is not enough.
func (a *account) needsPassword() bool { return a.Password != "" || len(a.Hash) > 0 }

func (a *account) checkPassword(password string) bool {
	if len(a.Hash) > 0 {
		return subtle.ConstantTimeCompare(hash(password, a.Salt), a.Hash) == 1
	}
	return a.Password == "" || subtle.ConstantTimeCompare([]byte(password), []byte(a.Password)) == 1
}

// people returns everybody who can sign in: those who are declared first.
func (s *Server) people() []*account {
	var out []*account
	s.state.look(func() {
		declared := map[string]bool{}
		for _, p := range s.Config.People {
			declared[p.ID()] = true
			a := &account{Person: p, Verified: true}
			if changed := s.state.Accounts[p.ID()]; changed != nil {
				a.Salt, a.Hash = changed.Salt, changed.Hash
			}
			out = append(out, a)
		}
		var more []*account
		for id, a := range s.state.Accounts {
			if a.SignedUp && !declared[id] {
				c := *a
				more = append(more, &c)
			}
		}
		slices.SortFunc(more, func(a, b *account) int { return a.Since.Compare(b.Since) })
		out = append(out, more...)
	})
	return out
}

// person returns somebody by the claim sub.
func (s *Server) person(sub string) *account {
	for _, a := range s.people() {
		if a.ID() == sub {
			return a
		}
	}
	return nil
}

// named returns somebody by an address or a name.
func (s *Server) named(text string) *account {
	text = strings.TrimSpace(text)
	for _, same := range []func(*account) bool{
		func(a *account) bool { return strings.EqualFold(a.Email, text) },
		func(a *account) bool { return strings.EqualFold(a.Name, text) },
		func(a *account) bool { return a.ID() == text },
		func(a *account) bool { return strings.EqualFold(strings.Fields(a.Name + " ?")[0], text) },
	} {
		for _, a := range s.people() {
			if same(a) {
				return a
			}
		}
	}
	return nil
}

var (
	errTaken    = errors.New("there is an account with this address already")
	errTooMany  = errors.New("there are too many accounts")
	errAddress  = errors.New("this is no address of mail")
	errPassword = errors.New("a password has at least 8 characters")
)
