package identity

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"sync"
)

//go:embed page.html
var pageSource string

//go:embed page.css
var pageStyle string

var pages = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(pageSource))
})

// policy lets the pages do nothing but what is in them (Content Security Policy Level 3). Where
// a form may lead is left open, since the answer to it leads back to the app.
var policy = func() string {
	hash := func(text string) string {
		sum := sha256.Sum256([]byte(text))
		return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
	}
	return fmt.Sprintf("default-src 'none'; style-src %s; script-src %s; base-uri 'none'; frame-ancestors 'none'", hash(pageStyle), hash(goOnScript))
}()

// goOnScript sends the form that leads back to the app.
const goOnScript = "document.forms[0].submit()"

// page is what a page says.
type page struct {
	Title, Lead, Text, Problem string
	// Form is where the form leads, "" if there is none; Ask goes with it.
	Form, Ask string
	// People can be chosen; Chosen is the one whose password is asked for.
	People []*account
	Chosen string
	// Typed are fields that are typed.
	Email, Password, Name bool
	Hint                  string
	Send                  string // what the button says
	Cancel                bool
	SignUp, Forgot, Other string // addresses
	AskCode               bool
	Code                  string
	Link                  string // a hidden field
	Post                  *url.URL
	Script                template.JS // that is run
	Values                url.Values
	Facts                 [][2]string
	Style                 template.CSS
}

// ChosenName is who was chosen, for the password.
func (p *page) ChosenName() string {
	for _, a := range p.People {
		if a.ID() == p.Chosen {
			return a.Name
		}
	}
	return ""
}

// NeedsPassword reports whether somebody signs in with a password.
func (a *account) NeedsPassword() bool { return a.needsPassword() }

// RolesInWords are the roles as one text.
func (a *account) RolesInWords() string { return strings.Join(a.Roles, ", ") }

func (s *Server) show(w http.ResponseWriter, _ *http.Request, status int, p *page) {
	p.Style = template.CSS(pageStyle)
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", policy)
	w.WriteHeader(status)
	if err := pages().Execute(w, p); err != nil {
		s.Log.Printf("error: the page: %v", err)
	}
}

// problem shows a page with a sentence.
func (s *Server) problem(w http.ResponseWriter, r *http.Request, status int, title, text string) {
	s.show(w, r, status, &page{Title: title, Text: text})
}

// signIn shows the page on which one signs in.
func (s *Server) signIn(w http.ResponseWriter, r *http.Request, a *ask, choice url.Values, problem string) {
	p := &page{Title: "Sign in", Lead: "to " + a.client.ID, Form: authorizePath, Ask: a.raw.Encode(), People: s.people(), Problem: problem, Cancel: true, Hint: a.hint}
	p.Chosen = choice.Get("person")
	if p.Chosen == "" && a.hint != "" {
		if hinted := s.named(a.hint); hinted != nil && hinted.needsPassword() {
			p.Chosen = hinted.ID()
		}
	}
	if s.Config.SignUp {
		p.SignUp = signUpPath + "?ask=" + url.QueryEscape(p.Ask)
	}
	if s.Config.SMTP != "" {
		p.Forgot = forgotPath + "?ask=" + url.QueryEscape(p.Ask)
	}
	if p.Chosen != "" {
		again := url.Values{}
		for name, values := range a.raw {
			if name != "login_hint" {
				again[name] = values
			}
		}
		p.Other = authorizePath + "?" + again.Encode()
	}
	if len(p.People) == 0 {
		p.Text = "Nobody is declared: add people to the declaration."
		if s.Config.SignUp {
			p.Text = "Nobody has an account yet."
		}
	}
	status := http.StatusOK
	if problem != "" {
		status = http.StatusUnprocessableEntity
	}
	s.show(w, r, status, p)
}

// formPost sends the answer as a form (OAuth 2.0 Form Post Response Mode). Where no scripts run
// it takes a click.
func (s *Server) formPost(w http.ResponseWriter, to *url.URL, values url.Values) {
	s.show(w, nil, http.StatusOK, &page{Title: "Back to the app", Post: to, Values: values, Send: "Go on", Script: goOnScript})
}

// front says what this is.
func (s *Server) front(w http.ResponseWriter, r *http.Request) {
	at := s.issuer(r)
	p := &page{Title: "Who can sign in", Lead: "a provider of OpenID Connect, for tests", Facts: [][2]string{
		{"issuer", at}, {"discovery", at + discoveryPath}, {"keys", at + keysPath},
	}}
	for _, c := range s.Config.Clients {
		p.Facts = append(p.Facts, [2]string{"client", c.ID + ", sends back to " + strings.Join(c.Redirects, ", ")})
	}
	if len(s.Config.Clients) == 0 {
		p.Facts = append(p.Facts, [2]string{"client", "any, from this machine"})
	}
	p.People = s.people()
	s.show(w, r, http.StatusOK, p)
}
