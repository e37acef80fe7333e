package demo

import (
	"crypto/rand"
	"encoding/json"
	"net/http"
	"sync"

	"golang.org/x/oauth2"
)

// door signs members in to the page, by OpenID Connect.
type door struct {
	issuer string
	config oauth2.Config

	mu      sync.Mutex
	members map[string]string // their names, by session
	asked   map[string]string // verifiers, by state
}

const (
	memberCookie = "toolshed_member"
	askedCookie  = "toolshed_asked"
	// mostSessions is how many there are at most; then all begin anew.
	mostSessions = 1000
)

// newDoor returns nil if there is nobody to sign in with.
func newDoor(issuer, client string) *door {
	if issuer == "" {
		return nil
	}
	return &door{issuer: issuer, members: map[string]string{}, asked: map[string]string{}, config: oauth2.Config{ClientID: client, Scopes: []string{"openid", "profile"},
		Endpoint: oauth2.Endpoint{AuthURL: issuer + "/authorize", TokenURL: issuer + "/token", AuthStyle: oauth2.AuthStyleInParams}}}
}

// member returns who is signed in, "" for nobody.
func (d *door) member(r *http.Request) string {
	c, err := r.Cookie(memberCookie)
	if d == nil || err != nil {
		return ""
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.members[c.Value]
}

// here returns the address that the page has for whoever asks: behind a gate it is a name.
func here(r *http.Request) string {
	proto := "http"
	if r.Header.Get("X-Forwarded-Proto") == "https" {
		proto = "https"
	}
	return proto + "://" + r.Host
}

func (d *door) cookie(w http.ResponseWriter, r *http.Request, name, value string) {
	c := &http.Cookie{Name: name, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: here(r)[:5] == "https"}
	if value == "" {
		c.MaxAge = -1
	}
	http.SetCookie(w, c)
}

func (d *door) signIn(w http.ResponseWriter, r *http.Request) {
	state, verifier := rand.Text(), oauth2.GenerateVerifier()
	d.mu.Lock()
	if len(d.asked) > mostSessions {
		clear(d.asked)
	}
	d.asked[state] = verifier
	d.mu.Unlock()
	d.cookie(w, r, askedCookie, state)
	c := d.config
	c.RedirectURL = here(r) + "/back"
	http.Redirect(w, r, c.AuthCodeURL(state, oauth2.S256ChallengeOption(verifier)), http.StatusSeeOther)
}

func (d *door) back(w http.ResponseWriter, r *http.Request) {
	asked, err := r.Cookie(askedCookie)
	state := r.FormValue("state")
	d.mu.Lock()
	verifier := d.asked[state]
	delete(d.asked, state)
	d.mu.Unlock()
	d.cookie(w, r, askedCookie, "")
	switch {
	case err != nil || asked.Value != state || verifier == "":
		http.Error(w, "This sign-in was not begun here.", http.StatusBadRequest)
		return
	case r.FormValue("error") != "": // who did not want to
		http.Redirect(w, r, "/", http.StatusSeeOther)
		return
	}
	c := d.config
	c.RedirectURL = here(r) + "/back"
	name, err := d.name(r, &c, verifier)
	if err != nil {
		warn("nobody is signed in", "error", err)
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	id := rand.Text()
	d.mu.Lock()
	if len(d.members) > mostSessions {
		clear(d.members)
	}
	d.members[id] = name
	d.mu.Unlock()
	say("signed in", "member", name)
	d.cookie(w, r, memberCookie, id)
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// name asks who has come back.
func (d *door) name(r *http.Request, c *oauth2.Config, verifier string) (string, error) {
	token, err := c.Exchange(r.Context(), r.FormValue("code"), oauth2.VerifierOption(verifier))
	if err != nil {
		return "", err
	}
	resp, err := c.Client(r.Context(), token).Get(d.issuer + "/userinfo")
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	var who struct{ Name string }
	err = json.NewDecoder(resp.Body).Decode(&who)
	return who.Name, err
}

func (d *door) signOut(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(memberCookie); err == nil {
		d.mu.Lock()
		delete(d.members, c.Value)
		d.mu.Unlock()
	}
	d.cookie(w, r, memberCookie, "")
	http.Redirect(w, r, "/", http.StatusSeeOther)
}
