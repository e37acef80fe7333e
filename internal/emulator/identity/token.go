package identity

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// deviceGrant is the type of RFC 8628.
const deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

// who returns the client that asks (RFC 6749, section 2.3).
func (s *Server) who(r *http.Request) (Client, error) {
	if err := r.ParseForm(); err != nil {
		return Client{}, refused("invalid_request", err.Error())
	}
	id, secret := r.PostForm.Get("client_id"), r.PostForm.Get("client_secret")
	if user, password, ok := r.BasicAuth(); ok {
		// RFC 6749, section 2.3.1: both are encoded as in a form.
		own, err1 := url.QueryUnescape(user)
		given, err2 := url.QueryUnescape(password)
		if err1 != nil || err2 != nil {
			own, given = user, password
		}
		if id != "" && id != own {
			return Client{}, refused("invalid_request", "the client in the header is another than in the form")
		}
		id, secret = own, given
	}
	c, ok := s.Config.client(id)
	if ok && len(s.Config.Clients) == 0 && secret != "" {
		c.Secret = s.Config.Secret // an app that has another has it from elsewhere
	}
	wrong := &Error{Code: "invalid_client", Status: http.StatusUnauthorized}
	switch {
	case !ok:
		wrong.Text = "there is no client " + id
		return c, wrong
	case c.Secret != "" && subtle.ConstantTimeCompare([]byte(c.Secret), []byte(secret)) != 1:
		wrong.Text = "the secret of " + id + " is not right"
		if len(s.Config.Clients) == 0 {
			wrong.Text += "; without clients in the declaration it is the fact client_secret"
		}
		return c, wrong
	}
	return c, nil
}

// token is the token endpoint.
func (s *Server) token(w http.ResponseWriter, r *http.Request) {
	client, err := s.who(r)
	var t *tokens
	if err == nil {
		switch kind := r.PostForm.Get("grant_type"); kind {
		case "authorization_code":
			t, err = s.byCode(r, client)
		case "refresh_token":
			t, err = s.byRefresh(r, client)
		case "client_credentials":
			t, err = s.byItself(r, client)
		case deviceGrant:
			t, err = s.byDevice(r, client)
		case "":
			err = refused("invalid_request", "grant_type is missing")
		default:
			err = refused("unsupported_grant_type", kind+" is not supported")
		}
	}
	if err != nil {
		s.failWith(w, r, err)
		return
	}
	answer(w, http.StatusOK, t)
}

// byCode changes a code for tokens (RFC 6749, section 4.1.3; RFC 7636, section 4.5).
func (s *Server) byCode(r *http.Request, client Client) (*tokens, error) {
	given := r.PostForm.Get("code")
	s.mu.Lock()
	c := s.codes[given]
	again := c != nil && c.used
	if c != nil {
		c.used = true
	}
	s.mu.Unlock()
	switch {
	case c == nil:
		return nil, refused("invalid_grant", "there is no such code")
	case again: // RFC 6749, section 4.1.2: what came of it is good no more
		if err := s.endGrant(c.grant); err != nil {
			return nil, err
		}
		return nil, refused("invalid_grant", "the code was used before; what it gave has been revoked")
	case s.now().After(c.until):
		return nil, refused("invalid_grant", "the code has expired: it holds a minute")
	case c.client != client.ID:
		return nil, refused("invalid_grant", "the code was given to another client")
	case c.redirect != r.PostForm.Get("redirect_uri"):
		return nil, refused("invalid_grant", "redirect_uri is another than at the sign-in")
	}
	verifier := r.PostForm.Get("code_verifier")
	sum := sha256.Sum256([]byte(verifier))
	switch {
	case c.challenge == "" && verifier != "":
		return nil, refused("invalid_grant", "there is a code_verifier, and the sign-in had no code_challenge")
	case c.challenge != "" && verifier == "":
		return nil, refused("invalid_grant", "code_verifier is missing")
	case c.challenge != "" && base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge:
		return nil, refused("invalid_grant", "code_verifier does not fit the code_challenge")
	}
	return s.goOn(c.grant, s.issuer(r), "", "")
}

func digest(token string) string {
	sum := sha256.Sum256([]byte(token))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// goOn gives what a grant is good for, with a refresh token if its scope has one. Scope narrows
// what it gives this time; "" doesn't. Was is the refresh token that is used up, if there is one.
func (s *Server) goOn(id, issuer, scope, was string) (*tokens, error) {
	refresh := ""
	g, err := s.state.amend(id, func(own *grant) error {
		if own == nil || own.Revoked {
			return refused("invalid_grant", "it was revoked")
		}
		again := was != "" && own.again(was, s.now())
		if was != "" && own.Refresh != digest(was) && !again {
			return refused("invalid_grant", "the refresh token was used before")
		}
		own.Used = s.now()
		if own.Subject != "" && hasScope(own.Scope, "offline_access") {
			if !again {
				own.Turn++
				own.Before, own.Turned = own.Refresh, own.Used
			}
			refresh = id + "." + s.mac(fmt.Sprint("refresh ", id, " ", own.Turn))
			own.Refresh = digest(refresh)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var person *account
	if g.Subject != "" {
		if person = s.person(g.Subject); person == nil {
			return nil, refused("invalid_grant", "the person is not there any more")
		}
	}
	if scope != "" {
		g.Scope = scope
	}
	t, err := s.issue(&g, person, issuer)
	if err != nil {
		return nil, err
	}
	t.Refresh = refresh
	return t, nil
}

// leeway is how long the refresh token before is good for the same as the one that took its
// place: two tabs of an app may refresh at once, and each wants to go on.
const leeway = 10 * time.Second

// again reports whether a refresh token was used a moment ago.
func (g *grant) again(token string, now time.Time) bool {
	return g.Before == digest(token) && now.Sub(g.Turned) < leeway
}

func (s *Server) byRefresh(r *http.Request, client Client) (*tokens, error) {
	given := r.PostForm.Get("refresh_token")
	id, _, _ := strings.Cut(given, ".")
	var g *grant
	s.state.look(func() {
		if own := s.state.Grants[id]; own != nil {
			c := *own
			g = &c
		}
	})
	switch {
	case g == nil || g.Revoked || g.Refresh == "":
		return nil, refused("invalid_grant", "there is no such refresh token, or it was revoked")
	case g.Client != client.ID:
		return nil, refused("invalid_grant", "the refresh token was given to another client")
	case g.Refresh != digest(given) && !g.again(given, s.now()):
		if err := s.endGrant(id); err != nil {
			return nil, err
		}
		return nil, refused("invalid_grant", "the refresh token was used before: each is good once, so what came of it has been revoked")
	case s.now().After(g.Until):
		return nil, refused("invalid_grant", "the refresh token has expired")
	}
	scope := r.PostForm.Get("scope")
	for one := range strings.FieldsSeq(scope) {
		if !hasScope(g.Scope, one) {
			return nil, refused("invalid_scope", one+" was not granted")
		}
	}
	return s.goOn(id, s.issuer(r), scope, given)
}

// byItself gives a client tokens of its own (RFC 6749, section 4.4).
func (s *Server) byItself(r *http.Request, client Client) (*tokens, error) {
	if len(s.Config.Clients) > 0 && client.Secret == "" {
		return nil, refused("unauthorized_client", "a client without a secret has nothing of its own")
	}
	now := s.now()
	g := &grant{ID: randomText(12), Client: client.ID, Scope: r.PostForm.Get("scope"), Began: now, Used: now, Until: now.Add(s.Config.AccessLife), Resource: r.PostForm.Get("resource")}
	if hasScope(g.Scope, "openid") {
		return nil, refused("invalid_scope", "openid is for people")
	}
	if g.Resource == "" {
		g.Resource = r.PostForm.Get("audience")
	}
	if err := s.state.add(g); err != nil {
		return nil, err
	}
	return s.goOn(g.ID, s.issuer(r), "", "")
}

// endGrant has everything that came of a grant be good no more.
func (s *Server) endGrant(id string) error {
	_, err := s.state.amend(id, func(g *grant) error {
		if g != nil {
			g.Revoked = true
		}
		return nil
	})
	return err
}

// bearer returns the token of a request (RFC 6750, section 2).
func bearer(r *http.Request) string {
	if kind, token, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok && strings.EqualFold(kind, "Bearer") {
		return strings.TrimSpace(token)
	}
	if r.Method == http.MethodPost {
		return r.PostFormValue("access_token")
	}
	return ""
}

// userinfo tells a client about the person of a token (OpenID Connect Core 1.0, section 5.3).
func (s *Server) userinfo(w http.ResponseWriter, r *http.Request) {
	deny := func(status int, code, text string) {
		s.Log.Printf("refused: %s: %s: %s", r.URL.Path, code, text)
		w.Header().Set("WWW-Authenticate", `Bearer error="`+code+`", error_description="`+text+`"`)
		fail(w, status, code, text)
	}
	token := bearer(r)
	if token == "" {
		w.Header().Set("WWW-Authenticate", "Bearer")
		fail(w, http.StatusUnauthorized, "invalid_request", "there is no access token")
		return
	}
	_, g, err := s.readAccess(token)
	if err != nil {
		deny(http.StatusUnauthorized, "invalid_token", err.Error())
		return
	}
	if g.Subject == "" || !hasScope(g.Scope, "openid") {
		deny(http.StatusForbidden, "insufficient_scope", "the token is not about a person: the scope openid is missing")
		return
	}
	person := s.person(g.Subject)
	if person == nil {
		deny(http.StatusUnauthorized, "invalid_token", "the person is not there any more")
		return
	}
	answer(w, http.StatusOK, person.about(g.Scope))
}

// introspect tells whether a token is good (RFC 7662).
func (s *Server) introspect(w http.ResponseWriter, r *http.Request) {
	if _, err := s.who(r); err != nil {
		s.failWith(w, r, err)
		return
	}
	token := r.PostForm.Get("token")
	if claims, _, err := s.readAccess(token); err == nil {
		claims["active"], claims["token_type"] = true, "Bearer"
		if sub, _ := claims["sub"].(string); sub != "" {
			if a := s.person(sub); a != nil {
				claims["username"] = a.Email
			}
		}
		answer(w, http.StatusOK, claims)
		return
	}
	id, _, _ := strings.Cut(token, ".")
	out := map[string]any{"active": false}
	s.state.look(func() {
		if g := s.state.Grants[id]; g != nil && !g.Revoked && g.Refresh != "" && g.Refresh == digest(token) && s.now().Before(g.Until) {
			out = map[string]any{"active": true, "client_id": g.Client, "sub": g.Subject, "scope": g.Scope, "exp": g.Until.Unix(), "iat": g.Began.Unix(), "sid": g.ID}
		}
	})
	answer(w, http.StatusOK, out)
}

// revoke ends a token: an access token alone, a refresh token with all that came of it (RFC
// 7009, section 2.1).
func (s *Server) revoke(w http.ResponseWriter, r *http.Request) {
	client, err := s.who(r)
	if err != nil {
		s.failWith(w, r, err)
		return
	}
	token := r.PostForm.Get("token")
	if claims, err := s.read(token, accessToken); err == nil {
		if claims["client_id"] != client.ID {
			s.failWith(w, r, refused("invalid_grant", "the token is another client's"))
			return
		}
		jti, _ := claims["jti"].(string)
		exp, _ := claims["exp"].(float64)
		err = s.state.change(func() error { s.state.Revoked[jti] = time.Unix(int64(exp), 0); return nil })
		if err != nil {
			s.failWith(w, r, err)
			return
		}
		w.WriteHeader(http.StatusOK)
		return
	}
	id, _, _ := strings.Cut(token, ".")
	known := false
	s.state.look(func() {
		g := s.state.Grants[id]
		known = g != nil && g.Refresh == digest(token) && g.Client == client.ID
	})
	if known { // of one that is unknown there is nothing to say
		if err := s.endGrant(id); err != nil {
			s.failWith(w, r, err)
			return
		}
	}
	w.WriteHeader(http.StatusOK)
}
