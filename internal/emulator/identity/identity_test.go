package identity

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"log"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/oauth2"
)

// provider is one that is tested, with a browser.
type provider struct {
	*testing.T
	*Server
	dir     string
	web     *httptest.Server
	browser *http.Client
	said    *bytes.Buffer
}

var shed = Config{People: []Person{
	{Name: "Ines Brandt", Email: "ines@toolshed.example.org", Roles: []string{"lender"}, Claims: map[string]string{"street": "Elm Street", "keys": "[1, 2]", "iss": "not this"}},
	{Name: "Tom Okafor", Email: "tom@toolshed.example.org", Password: "hammer drill"},
}}

func begin(t *testing.T, c Config) *provider {
	dir := t.TempDir()
	p := &provider{T: t, dir: dir, said: &bytes.Buffer{}}
	p.open(c)
	return p
}

func (p *provider) open(c Config) {
	if p.web != nil {
		p.web.Close()
	}
	s, err := Open(p.dir, c, log.New(p.said, "", 0))
	require.NoError(p, err)
	p.Server = s
	p.web = httptest.NewServer(s.Handler())
	p.Cleanup(p.web.Close)
	jar, err := cookiejar.New(nil)
	require.NoError(p, err)
	p.browser = &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if !strings.HasPrefix(r.URL.String(), p.web.URL) { // the app's
			return http.ErrUseLastResponse
		}
		return nil
	}}
}

const back = "http://localhost:5173/back"

func (p *provider) client(id, secret string, scopes ...string) (*oidc.Provider, oauth2.Config) {
	op, err := oidc.NewProvider(p.Context(), p.web.URL)
	require.NoError(p, err)
	return op, oauth2.Config{ClientID: id, ClientSecret: secret, Endpoint: op.Endpoint(), RedirectURL: back, Scopes: append([]string{"openid"}, scopes...)}
}

var askField = regexp.MustCompile(`name="ask" value="([^"]*)"`)

// signIn signs somebody in, and returns what the app is told.
func (p *provider) signIn(address, person, password string) url.Values {
	p.Helper()
	resp, err := p.browser.Get(address)
	require.NoError(p, err)
	if resp.StatusCode == http.StatusOK {
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		ask := askField.FindSubmatch(b)
		require.NotNil(p, ask, string(b))
		form := url.Values{"ask": {html.UnescapeString(string(ask[1]))}, "person": {p.named(person).ID()}, "password": {password}}
		resp, err = p.browser.PostForm(p.web.URL+authorizePath, form)
		require.NoError(p, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusSeeOther {
		b, _ := io.ReadAll(resp.Body)
		return url.Values{"page": {string(b)}}
	}
	to, err := resp.Location()
	require.NoError(p, err)
	assert.True(p, strings.HasPrefix(to.String(), back), to)
	return to.Query()
}

func (p *provider) get(address, token string) (int, string) {
	p.Helper()
	r, err := http.NewRequest("GET", address, nil)
	require.NoError(p, err)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(r)
	require.NoError(p, err)
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b)
}

func (p *provider) post(path string, form url.Values) (int, map[string]any) {
	p.Helper()
	resp, err := http.PostForm(p.web.URL+path, form)
	require.NoError(p, err)
	defer resp.Body.Close()
	out := map[string]any{}
	_ = json.NewDecoder(resp.Body).Decode(&out)
	return resp.StatusCode, out
}

// Somebody signs in to an app that uses a library for it; the tokens are right, and good after
// a restart and another key.
func TestSignIn(t *testing.T) {
	t.Parallel()
	p := begin(t, shed)
	op, c := p.client("web", "s3cret", "profile", "email", "roles", "offline_access")
	verifier := oauth2.GenerateVerifier()
	answer := p.signIn(c.AuthCodeURL("st&te", oidc.Nonce("n-1"), oauth2.S256ChallengeOption(verifier)), "Ines", "")
	assert.Equal(t, "st&te", answer.Get("state"))
	assert.Equal(t, p.web.URL, answer.Get("iss"))
	tokens, err := c.Exchange(t.Context(), answer.Get("code"), oauth2.VerifierOption(verifier))
	require.NoError(t, err)
	id, err := op.Verifier(&oidc.Config{ClientID: "web"}).Verify(t.Context(), tokens.Extra("id_token").(string))
	require.NoError(t, err)
	assert.Equal(t, "n-1", id.Nonce)
	require.NoError(t, id.VerifyAccessToken(tokens.AccessToken))
	var claims struct {
		Name, Email, Street, Iss string
		Given                    string   `json:"given_name"`
		Verified                 bool     `json:"email_verified"`
		Roles                    []string `json:"roles"`
		Keys                     []int    `json:"keys"`
		Auth                     int64    `json:"auth_time"`
	}
	require.NoError(t, id.Claims(&claims))
	assert.Equal(t, "Ines Brandt", claims.Name)
	assert.Equal(t, "Ines", claims.Given)
	assert.True(t, claims.Verified)
	assert.Equal(t, []string{"lender"}, claims.Roles)
	assert.Equal(t, []int{1, 2}, claims.Keys)
	assert.Equal(t, "Elm Street", claims.Street)
	assert.Equal(t, p.web.URL, claims.Iss)
	assert.InDelta(t, time.Now().Unix(), claims.Auth, 30)
	info, err := op.UserInfo(t.Context(), oauth2.StaticTokenSource(tokens))
	require.NoError(t, err)
	assert.Equal(t, "ines@toolshed.example.org", info.Email)
	assert.Equal(t, id.Subject, info.Subject)

	// The browser is signed in: another app gets its code at once, unless it asks for the page.
	_, other := p.client("shelf", "")
	assert.NotEmpty(t, p.signIn(other.AuthCodeURL("x", oauth2.SetAuthURLParam("prompt", "none")), "", "").Get("code"))
	assert.NotEmpty(t, p.signIn(other.AuthCodeURL("x", oauth2.SetAuthURLParam("prompt", "login")), "Tom", "hammer drill").Get("code"))

	// Another key signs; what the one before signed is good, also after a restart.
	status, _ := p.own(RotatePath, "{}")
	require.Equal(t, 200, status)
	source := c.TokenSource(t.Context(), &oauth2.Token{RefreshToken: tokens.RefreshToken})
	second, err := source.Token()
	require.NoError(t, err)
	assert.NotEqual(t, header(t, tokens.AccessToken)["kid"], header(t, second.AccessToken)["kid"])
	assert.Equal(t, "at+jwt", header(t, second.AccessToken)["typ"])
	was := p.web.URL
	p.open(shed)
	for _, token := range []string{tokens.AccessToken, second.AccessToken} {
		status, body := p.get(p.web.URL+userinfoPath, token)
		assert.Equal(t, 200, status, body)
	}
	assert.NotEqual(t, was, p.web.URL)

	// A refresh token is good once. Two tabs that use it at once go on with the same one; used
	// later, all that came of it is good no more.
	_, c = p.client("web", "")
	c.Endpoint.AuthStyle = oauth2.AuthStyleInParams // which it would find out by a second try
	tab, err := c.TokenSource(t.Context(), &oauth2.Token{RefreshToken: tokens.RefreshToken}).Token()
	require.NoError(t, err)
	assert.Equal(t, second.RefreshToken, tab.RefreshToken)
	grantID, _, _ := strings.Cut(tokens.RefreshToken, ".")
	_, err = p.state.amend(grantID, func(g *grant) error {
		g.Turned = g.Turned.Add(-leeway)
		return nil
	})
	require.NoError(t, err)
	_, err = c.TokenSource(t.Context(), &oauth2.Token{RefreshToken: tokens.RefreshToken}).Token()
	require.ErrorContains(t, err, "used before")
	_, err = c.TokenSource(t.Context(), &oauth2.Token{RefreshToken: second.RefreshToken}).Token()
	require.ErrorContains(t, err, "revoked")
	status, body := p.get(p.web.URL+userinfoPath, second.AccessToken)
	assert.Equal(t, 401, status, body)
}

func header(t *testing.T, token string) map[string]any {
	t.Helper()
	part, _, _ := strings.Cut(token, ".")
	b, err := base64.RawURLEncoding.DecodeString(part)
	require.NoError(t, err)
	out := map[string]any{}
	require.NoError(t, json.Unmarshal(b, &out))
	return out
}

func (p *provider) own(path, body string) (int, map[string]any) {
	p.Helper()
	resp, err := http.Post(p.web.URL+path, "application/json", strings.NewReader(body))
	require.NoError(p, err)
	defer resp.Body.Close()
	out := map[string]any{}
	_ = json.NewDecoder(resp.Body).Decode(&out)
	return resp.StatusCode, out
}

// What a client may not do is refused with the protocol's errors, and never sent to an address
// that isn't its own.
func TestRefusals(t *testing.T) {
	t.Parallel()
	c := shed
	c.Clients = []Client{{ID: "web", Secret: "s3cret", Redirects: []string{back, "http://127.0.0.1/back"}}, {ID: "phone", Redirects: []string{"org.toolshed:/back"}}}
	p := begin(t, c)
	good := url.Values{"client_id": {"web"}, "redirect_uri": {back}, "response_type": {"code"}, "scope": {"openid"}, "state": {"s"}}
	with := func(pairs ...string) url.Values {
		q := url.Values{}
		for k, v := range good {
			q[k] = v
		}
		for i := 0; i < len(pairs); i += 2 {
			if q.Set(pairs[i], pairs[i+1]); pairs[i+1] == "" {
				q.Del(pairs[i])
			}
		}
		return q
	}
	ask := func(q url.Values) string {
		resp, err := p.browser.Get(p.web.URL + authorizePath + "?" + q.Encode())
		require.NoError(t, err)
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		if to, err := resp.Location(); err == nil {
			return to.Query().Get("error") + " to " + to.Scheme + "://" + to.Host + to.Path
		}
		return fmt.Sprint(resp.StatusCode, " ", string(b))
	}
	for _, one := range []struct {
		q    url.Values
		says string
	}{
		{with("client_id", "nobody"), "400 <!doctype html>"},
		{with("redirect_uri", "https://evil.example/back"), "400 <!doctype html>"},
		{with("redirect_uri", back+"/more"), "400 <!doctype html>"},
		{with("redirect_uri", back+"#x"), "400 <!doctype html>"},
		{with("redirect_uri", "http://127.0.0.1:9999/back"), "200 <!doctype html>"},
		{with("redirect_uri", "http://127.0.0.1:9999/other"), "400 <!doctype html>"},
		{with("response_type", "token"), "unsupported_response_type to " + back},
		{with("response_type", ""), "invalid_request to " + back},
		{with("prompt", "none"), "login_required to " + back},
		{with("prompt", "none login"), "invalid_request to " + back},
		{with("code_challenge", "x", "code_challenge_method", "plain"), "invalid_request to " + back},
		{with("request", "eyJ"), "request_not_supported to " + back},
		{with("max_age", "-1"), "invalid_request to " + back},
		{with("client_id", "phone", "redirect_uri", "org.toolshed:/back"), "invalid_request to org.toolshed:///back"},
		{url.Values{"client_id": {"web"}, "redirect_uri": {back}, "response_type": {"code"}, "scope": {"a", "b"}}, "invalid_request to " + back},
	} {
		got := ask(one.q)
		assert.True(t, strings.HasPrefix(strings.ReplaceAll(got, "org.toolshed:///back", "org.toolshed:///back"), one.says) || strings.HasPrefix(got, strings.Replace(one.says, ":///", "://", 1)), "%s: %s", one.q.Encode(), got[:min(len(got), 90)])
	}

	code := func() string {
		return p.signIn(p.web.URL+authorizePath+"?"+with("code_challenge", "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM", "code_challenge_method", "S256").Encode(), "Ines", "").Get("code")
	}
	const verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk" // RFC 7636, appendix B
	change := func(pairs ...string) (int, string) {
		form := url.Values{"grant_type": {"authorization_code"}, "client_id": {"web"}, "client_secret": {"s3cret"}, "redirect_uri": {back}, "code_verifier": {verifier}}
		for i := 0; i < len(pairs); i += 2 {
			if form.Set(pairs[i], pairs[i+1]); pairs[i+1] == "" {
				form.Del(pairs[i])
			}
		}
		status, out := p.post(tokenPath, form)
		return status, fmt.Sprint(out["error"])
	}
	for _, pairs := range [][]string{
		{"code", "none"}, {"code", code(), "redirect_uri", back + "2"}, {"code", code(), "code_verifier", "wrong"}, {"code", code(), "code_verifier", ""},
	} {
		status, e := change(pairs...)
		assert.Equal(t, "400 invalid_grant", fmt.Sprint(status, " ", e), pairs)
	}
	for want, pairs := range map[string][]string{
		"401 invalid_client": {"code", code(), "client_secret", "wrong"}, "400 unsupported_grant_type": {"grant_type", "password"}, "400 invalid_request": {"grant_type", ""},
	} {
		status, e := change(pairs...)
		assert.Equal(t, want, fmt.Sprint(status, " ", e))
	}
	// A code that is used twice ends what it gave.
	twice := code()
	status, first := p.post(tokenPath, url.Values{"grant_type": {"authorization_code"}, "code": {twice}, "client_id": {"web"}, "client_secret": {"s3cret"}, "redirect_uri": {back}, "code_verifier": {verifier}})
	require.Equal(t, 200, status)
	status, e := change("code", twice)
	assert.Equal(t, "400 invalid_grant", fmt.Sprint(status, " ", e))
	status, body := p.get(p.web.URL+userinfoPath, first["access_token"].(string))
	assert.Equal(t, 401, status, body)
	// Somebody who has a password must know it.
	page := p.signIn(p.web.URL+authorizePath+"?"+with("prompt", "login").Encode(), "Tom", "").Get("page")
	assert.Contains(t, page, "Password of Tom Okafor")
	assert.NotContains(t, page, "not right")
	page = p.signIn(p.web.URL+authorizePath+"?"+with("prompt", "login").Encode(), "Tom", "wrong").Get("page")
	assert.Contains(t, page, "The password is not right.")
	assert.Contains(t, page, "Password of Tom Okafor")
	// Others of the network, and pages of other sites, get nothing.
	r, _ := http.NewRequest("GET", p.web.URL+discoveryPath, nil)
	r.Host = "evil.example.org"
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 421, resp.StatusCode)
	for origin, allowed := range map[string]string{"https://evil.example.org": "", "http://localhost:5173": "http://localhost:5173", "https://shed.test": "", "http://nas.local": "", "http://api.internal": ""} {
		r, _ := http.NewRequest("OPTIONS", p.web.URL+tokenPath, nil)
		r.Header.Set("Origin", origin)
		r.Header.Set("Access-Control-Request-Method", "POST")
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, allowed, resp.Header.Get("Access-Control-Allow-Origin"))
	}
	resp, err = http.Post(p.web.URL+TokenPath, "text/plain", strings.NewReader(`{"person":"Ines"}`))
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 415, resp.StatusCode, "a form of another page")
}

// Tokens with a fault are refused for it.
func TestFaults(t *testing.T) {
	t.Parallel()
	p := begin(t, shed)
	op, _ := p.client("app", "")
	for _, fault := range append([]Fault{Well}, Faults...) {
		status, out := p.own(TokenPath, fmt.Sprintf(`{"person":"tom@toolshed.example.org","fault":%q}`, fault))
		require.Equal(t, 200, status, out)
		access := out["access_token"].(string)
		id, _ := out["id_token"].(string)
		status, body := p.get(p.web.URL+userinfoPath, access)
		_, active := p.post(introspectPath, url.Values{"client_id": {"api"}, "token": {access}})
		_, err := op.Verifier(&oidc.Config{ClientID: "app"}).Verify(context.Background(), id)
		switch fault {
		case Well:
			assert.Equal(t, 200, status, body)
			assert.NoError(t, err)
			assert.Equal(t, true, active["active"])
			assert.Equal(t, "tom@toolshed.example.org", active["username"])
		case Audience: // which only those look at who get it
			assert.Error(t, err, fault)
		case Revoked:
			assert.NoError(t, err)
			assert.Equal(t, 401, status, body)
			assert.Equal(t, false, active["active"])
		case Early:
			assert.Equal(t, 401, status, body)
			assert.Equal(t, false, active["active"])
		default:
			assert.Equal(t, 401, status, "%s: %s", fault, body)
			assert.Error(t, err, fault)
			assert.Equal(t, false, active["active"], fault)
		}
	}
	status, out := p.own(TokenPath, `{"person":"nobody"}`)
	assert.Equal(t, 400, status)
	assert.Contains(t, out["error_description"], "there are: Ines Brandt, Tom Okafor")
}

// Without declared clients people are sent back to this machine alone, and a secret that is given
// must be the one that is told.
func TestUndeclaredClients(t *testing.T) {
	t.Parallel()
	c := shed
	c.Clients, c.Secret, c.Names = nil, "told", []string{"shop.toolshed.test"}
	p := begin(t, c)
	for redirect, allowed := range map[string]bool{
		"http://localhost:3000/back": true, "http://127.0.0.1:3000/back": true, "http://[::1]:3000/back": true, "https://toolshed.localhost/back": true, "https://shop.toolshed.test/back": true,
		"http://evil.local/back": false, "http://evil.test/back": false, "http://evil.internal/back": false, "http://evil.home.arpa/back": false, "https://evil.example.org/back": false,
		"org.toolshed:/back": false, "myapp://back": false, "javascript:alert(1)": false, "http://localhost.evil.local/back": false, "http://192.168.1.7/back": false,
	} {
		assert.Equal(t, allowed, p.Config.allows(Client{ID: "app"}, redirect), redirect)
	}
	for secret, code := range map[string]string{"told": "invalid_grant", "": "invalid_grant", "of elsewhere": "invalid_client"} {
		_, out := p.post(tokenPath, url.Values{"grant_type": {"authorization_code"}, "client_id": {"app"}, "client_secret": {secret}, "code": {"none"}})
		assert.Equal(t, code, out["error"], secret)
	}
}

// A device, a client by itself, and what is revoked.
func TestOtherGrants(t *testing.T) {
	t.Parallel()
	c := shed
	c.Clients = []Client{{ID: "lamp", Secret: "x", Audience: "https://api.toolshed.test"}, {ID: "tv"}}
	p := begin(t, c)
	_, d := p.post(deviceCodePath, url.Values{"client_id": {"tv"}, "scope": {"openid email offline_access"}})
	poll := func() (int, map[string]any) {
		p.mu.Lock()
		for _, one := range p.devices {
			one.asked = time.Time{} // as if it had waited
		}
		p.mu.Unlock()
		return p.post(tokenPath, url.Values{"grant_type": {deviceGrant}, "client_id": {"tv"}, "device_code": {d["device_code"].(string)}})
	}
	_, out := poll()
	assert.Equal(t, "authorization_pending", out["error"])
	_, out = p.post(tokenPath, url.Values{"grant_type": {deviceGrant}, "client_id": {"tv"}, "device_code": {d["device_code"].(string)}})
	assert.Equal(t, "slow_down", out["error"])
	resp, err := p.browser.PostForm(p.web.URL+devicePath, url.Values{"user_code": {strings.ToLower(d["user_code"].(string))}, "person": {p.named("Ines").ID()}})
	require.NoError(t, err)
	resp.Body.Close()
	status, out := poll()
	require.Equal(t, 200, status, out)
	refresh := out["refresh_token"].(string)
	_, active := p.post(introspectPath, url.Values{"client_id": {"tv"}, "token": {refresh}})
	assert.Equal(t, true, active["active"])
	status, _ = p.post(revokePath, url.Values{"client_id": {"tv"}, "token": {refresh}})
	assert.Equal(t, 200, status)
	status, _ = p.get(p.web.URL+userinfoPath, out["access_token"].(string))
	assert.Equal(t, 401, status)

	status, out = p.post(tokenPath, url.Values{"grant_type": {"client_credentials"}, "client_id": {"lamp"}, "client_secret": {"x"}, "scope": {"tools.read"}})
	require.Equal(t, 200, status, out)
	_, active = p.post(introspectPath, url.Values{"client_id": {"tv"}, "token": {out["access_token"].(string)}})
	assert.Equal(t, "lamp https://api.toolshed.test tools.read", fmt.Sprint(active["sub"], " ", active["aud"], " ", active["scope"]))
	status, _ = p.get(p.web.URL+userinfoPath, out["access_token"].(string))
	assert.Equal(t, 403, status)
	for _, form := range []url.Values{{"client_id": {"tv"}}, {"client_id": {"lamp"}, "client_secret": {"x"}, "scope": {"openid"}}} {
		form.Set("grant_type", "client_credentials")
		status, _ = p.post(tokenPath, form)
		assert.Equal(t, 400, status)
	}
}

// Somebody makes an account, signs out, and is still there after a restart.
func TestAccounts(t *testing.T) {
	t.Parallel()
	c := shed
	c.SignUp = true
	p := begin(t, c)
	form := url.Values{"name": {"Ada Lind"}, "email": {"ada@toolshed.example.org"}, "password": {"two ladders"}}
	for key, wrong := range map[string]string{"email": "no address", "password": "short", "name": " "} {
		bad := url.Values{}
		for k, v := range form {
			bad[k] = v
		}
		bad.Set(key, wrong)
		resp, err := p.browser.PostForm(p.web.URL+signUpPath, bad)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, 422, resp.StatusCode, key)
	}
	_, app := p.client("web", "")
	address, err := url.Parse(app.AuthCodeURL("s"))
	require.NoError(t, err)
	form.Set("ask", address.RawQuery)
	resp, err := p.browser.PostForm(p.web.URL+signUpPath, form)
	require.NoError(t, err)
	resp.Body.Close()
	to, err := resp.Location()
	require.NoError(t, err)
	assert.NotEmpty(t, to.Query().Get("code"), "signed in at once")
	resp, err = p.browser.PostForm(p.web.URL+signUpPath, form)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 422, resp.StatusCode, "there is such an account")
	p.open(c)
	_, app = p.client("web", "")
	assert.Contains(t, p.signIn(app.AuthCodeURL("s"), "Ada", "wrong").Get("page"), "not right")
	assert.NotEmpty(t, p.signIn(app.AuthCodeURL("s"), "Ada", "two ladders").Get("code"))
	bye := url.Values{"client_id": {"web"}, "post_logout_redirect_uri": {"http://localhost:5173/bye"}}
	resp, err = p.browser.Get(p.web.URL + logoutPath + "?" + bye.Encode())
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode, "without a hint it asks")
	assert.NotEmpty(t, p.signIn(app.AuthCodeURL("s", oauth2.SetAuthURLParam("prompt", "none")), "", "").Get("code"))
	bye.Set("confirm", "yes")
	resp, err = p.browser.PostForm(p.web.URL+logoutPath, bye)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 303, resp.StatusCode)
	assert.Equal(t, "login_required", p.signIn(app.AuthCodeURL("s", oauth2.SetAuthURLParam("prompt", "none")), "", "").Get("error"))
	// A link for a new password is good once.
	link := p.seal(session{p.named("Tom").ID(), time.Now().Unix(), p.named("Tom").resetting()})
	for _, want := range []int{200, 400} {
		resp, err = p.browser.PostForm(p.web.URL+resetPath, url.Values{"link": {link}, "password": {"a new saw blade"}})
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode)
	}
	assert.NotEmpty(t, p.signIn(app.AuthCodeURL("s", oauth2.SetAuthURLParam("prompt", "login")), "Tom", "a new saw blade").Get("code"))
	_, ok := p.unseal(p.seal(session{"x", time.Now().Add(-2 * time.Hour).Unix(), "reset"}), "reset", linkLife)
	assert.False(t, ok, "a link of before")
	_, ok = p.unseal(p.seal(session{"x", time.Now().Unix(), "session"}), "reset", linkLife)
	assert.False(t, ok, "a cookie is no link")
}

func FuzzRequests(f *testing.F) {
	s, err := Open(f.TempDir(), shed, log.New(io.Discard, "", 0))
	if err != nil {
		f.Fatal(err)
	}
	h := s.Handler()
	f.Add("/authorize?client_id=a&redirect_uri=http://localhost/&response_type=code", "")
	f.Add("/token", "grant_type=refresh_token&refresh_token=a.b&client_id=x")
	f.Add("/introspect", "client_id=x&token=eyJhbGciOiJub25lIn0.e30.")
	f.Add("/-/token", `{"person":"Ines"}`)
	f.Fuzz(func(t *testing.T, target, body string) {
		u, err := url.ParseRequestURI(target)
		if err != nil || !strings.HasPrefix(u.Path, "/") {
			return
		}
		for _, method := range []string{"GET", "POST"} {
			r := &http.Request{Method: method, URL: u, Host: "localhost", Header: http.Header{"Content-Type": {"application/x-www-form-urlencoded"}}, Body: io.NopCloser(strings.NewReader(body)), RemoteAddr: "127.0.0.1:1"}
			w := httptest.NewRecorder()
			h.ServeHTTP(w, r)
			if w.Code == http.StatusInternalServerError {
				t.Fatalf("%s %s: %s", method, target, w.Body)
			}
		}
	})
}
