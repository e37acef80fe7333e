package identity

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// ask is what a client asks for at the authorization endpoint (OpenID Connect Core 1.0, section
// 3.1.2.1).
type ask struct {
	client    Client
	redirect  string
	scope     string
	state     string
	nonce     string
	challenge string
	mode      string
	prompt    []string
	hint      string
	resource  string
	maxAge    time.Duration // -1: any
	raw       url.Values
}

// code is good once, for a moment.
type code struct {
	grant     string
	client    string
	redirect  string
	challenge string
	issuer    string
	until     time.Time
	used      bool
}

const mostCodes = 10_000

// askOf reads a request. What is wrong with the client or the address is never sent back to
// that address: told says that the error is to be shown.
func (s *Server) askOf(q url.Values) (a *ask, told bool, err *Error) {
	client, ok := s.Config.client(q.Get("client_id"))
	if !ok {
		return nil, true, refused("invalid_client", "there is no client "+strconv.Quote(q.Get("client_id"))+"; add it to clients in the declaration")
	}
	a = &ask{client: client, redirect: q.Get("redirect_uri"), scope: q.Get("scope"), state: q.Get("state"), nonce: q.Get("nonce"), challenge: q.Get("code_challenge"),
		mode: q.Get("response_mode"), prompt: strings.Fields(q.Get("prompt")), hint: q.Get("login_hint"), resource: q.Get("resource"), maxAge: -1, raw: q}
	switch {
	case a.redirect == "" && len(client.Redirects) == 1:
		a.redirect = client.Redirects[0]
	case a.redirect == "":
		return nil, true, refused("invalid_request", "redirect_uri is missing: it says where to send people back to")
	case !s.Config.allows(client, a.redirect):
		remedy := "add it to the client's redirects in the declaration"
		if len(s.Config.Clients) == 0 {
			remedy = "clients that aren't declared can have people sent back to addresses of this machine only: declare it, with its redirects"
		}
		return nil, true, refused("invalid_request", a.redirect+" is no address to which "+client.ID+" may have people sent back; "+remedy)
	}
	for name, values := range q {
		if len(values) > 1 && name != "resource" {
			return a, false, refused("invalid_request", name+" is there twice")
		}
	}
	switch {
	case q.Has("request"):
		return a, false, refused("request_not_supported", "request objects are not supported")
	case q.Has("request_uri"):
		return a, false, refused("request_uri_not_supported", "request objects are not supported")
	case q.Get("response_type") == "":
		return a, false, refused("invalid_request", "response_type is missing: code")
	case q.Get("response_type") != "code":
		return a, false, refused("unsupported_response_type", "only response_type=code is supported: the others are no longer advised (RFC 9700, section 2.1.2)")
	case a.mode != "" && a.mode != "query" && a.mode != "form_post":
		return a, false, refused("invalid_request", "response_mode is query or form_post")
	case a.challenge != "" && q.Get("code_challenge_method") != "S256":
		return a, false, refused("invalid_request", "code_challenge_method must be S256")
	case a.challenge == "" && len(s.Config.Clients) > 0 && client.Secret == "":
		return a, false, refused("invalid_request", "code_challenge is missing: a client without a secret must use PKCE (RFC 7636)")
	case len(a.prompt) > 1 && slices.Contains(a.prompt, "none"):
		return a, false, refused("invalid_request", "prompt=none stands alone")
	}
	if text := q.Get("max_age"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return a, false, refused("invalid_request", "max_age is a number of seconds")
		}
		a.maxAge = time.Duration(n) * time.Second
	}
	return a, false, nil
}

// authorize signs somebody in, and sends them back to the client.
func (s *Server) authorize(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		s.problem(w, r, http.StatusBadRequest, "This request can't be read", err.Error())
		return
	}
	q := r.Form
	choice := url.Values{}
	if r.Method == http.MethodPost && r.PostForm.Has("ask") { // from the page
		if !s.sameOrigin(r) {
			s.problem(w, r, http.StatusForbidden, "This form is another page's", "Sign in from the page of this provider.")
			return
		}
		choice = r.PostForm
		var err error
		if q, err = url.ParseQuery(choice.Get("ask")); err != nil {
			s.problem(w, r, http.StatusBadRequest, "This form is damaged", "Go back to the app, and sign in again.")
			return
		}
	}
	a, told, e := s.askOf(q)
	if e != nil && told {
		s.Log.Printf("refused: %s", e)
		s.problem(w, r, http.StatusBadRequest, "The app asked in a way that can't be answered", e.Text)
		return
	}
	if e != nil {
		s.sendBack(w, r, a, url.Values{"error": {e.Code}, "error_description": {e.Text}})
		return
	}
	if choice.Get("cancel") != "" {
		s.sendBack(w, r, a, url.Values{"error": {"access_denied"}, "error_description": {"the person did not sign in"}})
		return
	}
	person, at := s.session(r)
	if person == nil && slices.Contains(a.prompt, "none") {
		person, at = s.hinted(a)
	}
	if choice.Has("person") {
		chosen, problem := s.choose(choice)
		if chosen == nil {
			s.signIn(w, r, a, choice, problem)
			return
		}
		person, at = chosen, s.now()
		s.remember(w, r, person, at)
	} else if person == nil || slices.Contains(a.prompt, "login") || slices.Contains(a.prompt, "select_account") || a.maxAge >= 0 && s.now().Sub(at) > a.maxAge {
		if slices.Contains(a.prompt, "none") {
			s.sendBack(w, r, a, url.Values{"error": {"login_required"}, "error_description": {"nobody is signed in"}})
			return
		}
		s.signIn(w, r, a, choice, "")
		return
	}
	made, err := s.grant(a, person, at, s.issuer(r))
	if err != nil {
		s.Log.Printf("error: %v", err)
		s.sendBack(w, r, a, url.Values{"error": {"server_error"}, "error_description": {err.Error()}})
		return
	}
	s.Log.Printf("%s signed in to %s", person.Email, a.client.ID)
	s.sendBack(w, r, a, url.Values{"code": {made}})
}

// hinted returns whom an app that renews silently knows by the ID token that it has (OpenID
// Connect Core 1.0, section 3.1.2.1), as long as that sign-in has not ended: browsers send no
// cookies to a frame whose page is another site, and localhost and 127.0.0.1 are two.
func (s *Server) hinted(a *ask) (person *account, at time.Time) {
	claims, err := s.read(a.raw.Get("id_token_hint"), idToken)
	if err != nil || claims["aud"] != a.client.ID {
		return nil, at
	}
	sid, _ := claims["sid"].(string)
	subject := ""
	s.state.look(func() {
		if g := s.state.Grants[sid]; g != nil && !g.Revoked {
			subject, at = g.Subject, time.Unix(g.Auth, 0)
		}
	})
	if subject == "" || s.now().Sub(at) > sessionLife {
		return nil, at
	}
	return s.person(subject), at
}

// sameOrigin reports whether a form is one of the provider's own pages.
func (s *Server) sameOrigin(r *http.Request) bool {
	origin := r.Header.Get("Origin")
	if origin == "" || origin == "null" { // with no-referrer, a browser may send null for its own page
		return r.Header.Get("Sec-Fetch-Site") == "" || r.Header.Get("Sec-Fetch-Site") == "same-origin"
	}
	return origin == s.issuer(r)
}

// choose returns who somebody is, or nil and why not; "" if the password is still to be asked
// for.
func (s *Server) choose(choice url.Values) (*account, string) {
	a := s.person(choice.Get("person"))
	switch {
	case a == nil:
		return nil, "There is no such account."
	case a.needsPassword() && !a.checkPassword(choice.Get("password")):
		if choice.Get("password") == "" {
			return nil, ""
		}
		return nil, "The password is not right."
	case a.SignedUp && s.Config.Confirm && !a.Verified:
		return nil, "The address has not been confirmed yet: follow the link in the mail to " + a.Email + "."
	}
	return a, ""
}

// grant notes that somebody signed in to a client, and returns a code for it.
func (s *Server) grant(a *ask, person *account, at time.Time, issuer string) (string, error) {
	now := s.now()
	g := &grant{ID: randomText(12), Subject: person.ID(), Client: a.client.ID, Scope: a.scope, Began: now, Used: now, Until: now.Add(s.Config.RefreshLife), Nonce: a.nonce, Auth: at.Unix(), Resource: a.resource}
	if err := s.state.add(g); err != nil {
		return "", err
	}
	made := randomText(24)
	s.mu.Lock()
	defer s.mu.Unlock()
	for c, one := range s.codes {
		if now.After(one.until.Add(codeLife)) || len(s.codes) >= mostCodes {
			delete(s.codes, c)
		}
	}
	s.codes[made] = &code{grant: g.ID, client: a.client.ID, redirect: a.raw.Get("redirect_uri"), challenge: a.challenge, issuer: issuer, until: now.Add(codeLife)}
	return made, nil
}

// sendBack sends somebody back to the client, with the answer in the address or in a form.
func (s *Server) sendBack(w http.ResponseWriter, r *http.Request, a *ask, values url.Values) {
	if a.state != "" {
		values.Set("state", a.state)
	}
	values.Set("iss", s.issuer(r)) // RFC 9207
	if e := values.Get("error"); e != "" {
		s.Log.Printf("refused: %s: %s", e, values.Get("error_description"))
	}
	u, err := url.Parse(a.redirect)
	if err != nil {
		s.problem(w, r, http.StatusBadRequest, "The app's address can't be read", a.redirect)
		return
	}
	if a.mode == "form_post" {
		s.formPost(w, u, values)
		return
	}
	q := u.Query()
	for name := range values {
		q.Set(name, values.Get(name))
	}
	u.RawQuery = q.Encode()
	http.Redirect(w, r, u.String(), http.StatusSeeOther)
}

// cookie is the name of the session's, which has who signed in and when, signed. Browsers don't
// tell ports apart, so each provider has a name of its own.
func (s *Server) cookie() string { return "identity_" + s.mac("cookie")[:8] }

type session struct {
	Subject string `json:"s"`
	At      int64  `json:"t"`
	For     string `json:"f"` // what it is good for: "session", "confirm", a new password
}

// seal returns something that only this provider can have written.
func (s *Server) seal(v session) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // it has texts and a number
	}
	text := base64.RawURLEncoding.EncodeToString(b)
	return text + "." + s.mac(text)
}

func (s *Server) mac(text string) string {
	m := hmac.New(sha256.New, s.state.Secret) // which never changes
	m.Write([]byte(text))
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil))
}

// unseal returns what was sealed for a purpose not longer ago than that.
func (s *Server) unseal(text, purpose string, life time.Duration) (session, bool) {
	var v session
	body, mac, ok := strings.Cut(text, ".")
	if !ok || !hmac.Equal([]byte(mac), []byte(s.mac(body))) {
		return v, false
	}
	b, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil || json.Unmarshal(b, &v) != nil {
		return v, false
	}
	age := s.now().Sub(time.Unix(v.At, 0))
	return v, v.For == purpose && age < life && age > -time.Minute
}

// session returns who is signed in in a browser, and since when; nil for nobody.
func (s *Server) session(r *http.Request) (*account, time.Time) {
	c, err := r.Cookie(s.cookie())
	if err != nil {
		c, err = r.Cookie(framed(s.cookie()))
	}
	if err != nil {
		return nil, time.Time{}
	}
	v, ok := s.unseal(c.Value, "session", sessionLife)
	if !ok {
		return nil, time.Time{}
	}
	return s.person(v.Subject), time.Unix(v.At, 0)
}

func (s *Server) remember(w http.ResponseWriter, r *http.Request, a *account, at time.Time) {
	c := http.Cookie{Name: s.cookie(), Value: s.seal(session{a.ID(), at.Unix(), "session"}), Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode,
		Secure: strings.HasPrefix(s.issuer(r), "https:"), MaxAge: int(sessionLife.Seconds())}
	http.SetCookie(w, &c)
	// In a frame of the app, which renews its tokens there, a browser sends only this one: to it
	// localhost and 127.0.0.1 are two sites, and it takes both for secure.
	c.Name, c.SameSite, c.Secure = framed(c.Name), http.SameSiteNoneMode, true
	http.SetCookie(w, &c)
}

// framed is the name of the cookie for frames of other sites.
func framed(name string) string { return name + "_f" }

func (s *Server) forget(w http.ResponseWriter) {
	http.SetCookie(w, &http.Cookie{Name: s.cookie(), Path: "/", HttpOnly: true, MaxAge: -1})
	http.SetCookie(w, &http.Cookie{Name: framed(s.cookie()), Path: "/", HttpOnly: true, MaxAge: -1, SameSite: http.SameSiteNoneMode, Secure: true})
}

// logout ends a session (OpenID Connect RP-Initiated Logout 1.0, section 2).
func (s *Server) logout(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		s.problem(w, r, http.StatusBadRequest, "This request can't be read", err.Error())
		return
	}
	client, back := r.Form.Get("client_id"), r.Form.Get("post_logout_redirect_uri")
	var hinted string
	if hint := r.Form.Get("id_token_hint"); hint != "" {
		claims, err := s.read(hint, idToken) // also one that has expired
		if err != nil {
			s.problem(w, r, http.StatusBadRequest, "The app asked in a way that can't be answered", "id_token_hint: "+err.Error())
			return
		}
		audience, _ := claims["aud"].(string)
		if client == "" {
			client = audience
		}
		hinted, _ = claims["sid"].(string)
	}
	// Any page can lead here: who signed in decides, unless the app shows that it knows them.
	if person, _ := s.session(r); person != nil && r.Form.Get("id_token_hint") == "" && !(r.Method == http.MethodPost && r.PostForm.Get("confirm") == "yes" && s.sameOrigin(r)) {
		values := maps.Clone(r.Form)
		values.Set("confirm", "yes")
		s.show(w, r, http.StatusOK, &page{Title: "Sign out?", Text: "You are signed in as " + person.Name + ".", Post: &url.URL{Path: logoutPath}, Values: values, Send: "Sign out"})
		return
	}
	s.forget(w)
	if hinted != "" {
		if err := s.endGrant(hinted); err != nil {
			s.Log.Printf("error: %v", err)
		}
	}
	if back == "" {
		s.problem(w, r, http.StatusOK, "You are signed out", "You can close this page.")
		return
	}
	c, ok := s.Config.client(client)
	if !ok && len(s.Config.Clients) == 0 {
		c, ok = Client{}, true
	}
	u, err := url.Parse(back)
	if !ok || err != nil || !s.Config.allows(c, back) && !s.sameSite(c, u) {
		s.problem(w, r, http.StatusBadRequest, "You are signed out", back+" is no address to which the app may have people sent back.")
		return
	}
	q := u.Query()
	if state := r.Form.Get("state"); state != "" {
		q.Set("state", state)
	}
	u.RawQuery = q.Encode()
	http.Redirect(w, r, u.String(), http.StatusSeeOther)
}

// sameSite reports whether an address is of the same origin as one to which a client may have
// people sent back: the one after a sign-out is mostly not declared on its own.
func (s *Server) sameSite(c Client, u *url.URL) bool {
	return slices.ContainsFunc(c.Redirects, func(declared string) bool {
		d, err := url.Parse(declared)
		return err == nil && d.Scheme == u.Scheme && d.Host == u.Host
	})
}
