package identity

import (
	"cmp"
	"encoding/json"
	"maps"
	"net/http"
	"slices"
	"time"
)

// Fault is what is wrong with a token that is made for tests.
type Fault string

// The faults. Foreign is signed by a key that this provider does not have, under the id of one
// that it has; None says that it has no signature at all (RFC 8725, section 2.1).
const (
	Well     Fault = ""
	Expired  Fault = "expired"
	Early    Fault = "early"
	Revoked  Fault = "revoked"
	Foreign  Fault = "foreign"
	None     Fault = "none"
	Issuer   Fault = "issuer"
	Audience Fault = "audience"
)

// Faults are all of them.
var Faults = []Fault{Expired, Early, Revoked, Foreign, None, Issuer, Audience}

// Wanted asks for an access token without a sign-in.
type Wanted struct {
	// Person is a name, an address or a claim sub.
	Person string `json:"person"`
	Client string `json:"client,omitempty"`
	Scope  string `json:"scope,omitempty"`
	Fault  Fault  `json:"fault,omitempty"`
}

// Given are the tokens that were asked for.
type Given struct {
	Access string `json:"access_token"`
	ID     string `json:"id_token,omitempty"`
}

const usualScope = "openid profile email roles"

// giveToken gives tokens of a person, for tests and for curl.
func (s *Server) giveToken(w http.ResponseWriter, r *http.Request) {
	var want Wanted
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		s.failWith(w, r, refused("invalid_request", err.Error()))
		return
	}
	person := s.named(want.Person)
	if person == nil {
		var names []string
		for _, a := range s.people() {
			names = append(names, a.Name)
		}
		s.failWith(w, r, refused("invalid_request", "there is no "+want.Person+"; there are: "+joined(names)))
		return
	}
	if !slices.Contains(append(slices.Clone(Faults), Well), want.Fault) {
		s.failWith(w, r, refused("invalid_request", "there is no fault "+string(want.Fault)))
		return
	}
	client := want.Client
	if client == "" {
		client = "app"
		if len(s.Config.Clients) > 0 {
			client = s.Config.Clients[0].ID
		}
	}
	c, ok := s.Config.client(client)
	if !ok {
		s.failWith(w, r, refused("invalid_client", "there is no client "+client))
		return
	}
	now := s.now()
	g := &grant{ID: randomText(12), Subject: person.ID(), Client: c.ID, Scope: cmp.Or(want.Scope, usualScope), Began: now, Used: now, Until: now.Add(s.Config.AccessLife), Auth: now.Unix()}
	if err := s.state.add(g); err != nil {
		s.failWith(w, r, err)
		return
	}
	given, err := s.faulty(g, person, s.issuer(r), want.Fault)
	if err != nil {
		s.failWith(w, r, err)
		return
	}
	answer(w, http.StatusOK, given)
}

func joined(names []string) string {
	out := ""
	for i, n := range names {
		if i > 0 {
			out += ", "
		}
		out += n
	}
	return out
}

// faulty returns tokens with a fault.
func (s *Server) faulty(g *grant, person *account, issuer string, fault Fault) (Given, error) {
	now, k := s.now(), s.keys.current()
	switch fault {
	case Expired:
		now = now.Add(-s.Config.AccessLife - time.Hour)
	case Early:
		now = now.Add(time.Hour)
	case Issuer:
		issuer = "https://other.example.org"
	case Foreign:
		other, err := makeKey(now)
		if err != nil {
			return Given{}, err
		}
		other.ID = k.ID
		if err := other.parse(); err != nil {
			return Given{}, err
		}
		k = other
	}
	claims := s.accessClaims(g, person, issuer, now)
	if fault == Audience {
		claims["aud"] = "another-app"
	}
	if fault == Revoked {
		err := s.state.change(func() error { s.state.Revoked[claims["jti"].(string)] = now.Add(s.Config.AccessLife); return nil })
		if err != nil {
			return Given{}, err
		}
	}
	if fault == None {
		b, err := json.Marshal(claims)
		return Given{Access: encode(`{"alg":"none","typ":"at+jwt"}`) + "." + encode(string(b)) + "."}, err
	}
	access, err := sign(k, accessToken, claims)
	if err != nil {
		return Given{}, err
	}
	own := s.idClaims(g, person, issuer, access, now)
	if fault == Audience {
		own["aud"] = "another-app"
	}
	id, err := sign(k, idToken, own)
	return Given{Access: access, ID: id}, err
}

// rotate has another key sign from now on.
func (s *Server) rotate(w http.ResponseWriter, r *http.Request) {
	if err := s.keys.rotate(s.now()); err != nil {
		s.failWith(w, r, err)
		return
	}
	k := s.keys.current()
	s.Log.Printf("the key %s signs from now on", k.ID)
	answer(w, http.StatusOK, map[string]string{"kid": k.ID})
}

// Overview is what there is to look at.
type Overview struct {
	People []PersonNow `json:"people"`
	Grants []GrantNow  `json:"grants"` // the latest first
	Keys   []KeyNow    `json:"keys"`   // the one that signs first
}

// PersonNow is somebody who can sign in.
type PersonNow struct {
	Subject  string   `json:"sub"`
	Name     string   `json:"name"`
	Email    string   `json:"email"`
	Roles    []string `json:"roles,omitempty"`
	Verified bool     `json:"verified"`
	Password bool     `json:"password"`
	SignedUp bool     `json:"signed_up"`
	Claims   any      `json:"claims,omitempty"`
}

// GrantNow is a sign-in, or what a client has by itself.
type GrantNow struct {
	ID      string    `json:"id"`
	Person  string    `json:"person,omitempty"`
	Client  string    `json:"client"`
	Scope   string    `json:"scope"`
	Began   time.Time `json:"began"`
	Used    time.Time `json:"used"`
	Until   time.Time `json:"until"`
	Refresh bool      `json:"refresh"`
	Revoked bool      `json:"revoked"`
}

// KeyNow is a key.
type KeyNow struct {
	ID    string    `json:"kid"`
	Made  time.Time `json:"made"`
	Signs bool      `json:"signs"`
}

func (s *Server) overview(w http.ResponseWriter, _ *http.Request) {
	o := Overview{People: []PersonNow{}, Grants: []GrantNow{}, Keys: []KeyNow{}}
	names := map[string]string{}
	for _, a := range s.people() {
		names[a.ID()] = a.Email
		o.People = append(o.People, PersonNow{a.ID(), a.Name, a.Email, a.Roles, a.Verified, a.needsPassword(), a.SignedUp, a.Claims})
	}
	s.state.look(func() {
		for _, g := range slices.SortedFunc(maps.Values(s.state.Grants), func(a, b *grant) int { return b.Began.Compare(a.Began) }) {
			o.Grants = append(o.Grants, GrantNow{g.ID, names[g.Subject], g.Client, g.Scope, g.Began, g.Used, g.Until, g.Refresh != "", g.Revoked})
		}
	})
	s.keys.mu.Lock()
	for i, k := range s.keys.all {
		o.Keys = append(o.Keys, KeyNow{k.ID, k.Made, i == 0})
	}
	s.keys.mu.Unlock()
	answer(w, http.StatusOK, o)
}

// end revokes a grant, or removes somebody who has signed up.
func (s *Server) end(w http.ResponseWriter, r *http.Request) {
	var what struct{ Grant, Account string }
	if err := json.NewDecoder(r.Body).Decode(&what); err != nil {
		s.failWith(w, r, refused("invalid_request", err.Error()))
		return
	}
	gone := &Error{Code: "invalid_request", Text: "it isn't there any more", Status: http.StatusNotFound}
	var err error
	if what.Grant != "" {
		_, err = s.state.amend(what.Grant, func(g *grant) error {
			if g == nil {
				return gone
			}
			g.Revoked = true
			return nil
		})
	} else {
		err = s.state.change(func() error {
			if a := s.state.Accounts[what.Account]; a == nil || !a.SignedUp {
				return gone
			}
			delete(s.state.Accounts, what.Account)
			return nil
		})
	}
	if err != nil {
		s.failWith(w, r, err)
		return
	}
	answer(w, http.StatusOK, struct{}{})
}
