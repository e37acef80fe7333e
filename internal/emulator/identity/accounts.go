package identity

import (
	"bytes"
	"fmt"
	"mime"
	"net/http"
	"net/mail"
	"net/smtp"
	"strings"
	"time"
)

// leastPassword is how many characters a password has at least.
const leastPassword = 8

// signUp makes an account.
func (s *Server) signUp(w http.ResponseWriter, r *http.Request) {
	if !s.Config.SignUp {
		s.problem(w, r, http.StatusNotFound, "Nobody can make an account here", "It is allowed with sign_up = true in the declaration.")
		return
	}
	if err := r.ParseForm(); err != nil {
		s.problem(w, r, http.StatusBadRequest, "This request can't be read", err.Error())
		return
	}
	p := &page{Title: "Make an account", Form: signUpPath, Ask: r.Form.Get("ask"), Name: true, Send: "Make it", Hint: r.PostForm.Get("email")}
	if r.Method != http.MethodPost {
		s.show(w, r, http.StatusOK, p)
		return
	}
	if !s.sameOrigin(r) {
		s.problem(w, r, http.StatusForbidden, "This form is another page's", "Make an account from the page of this provider.")
		return
	}
	a, err := s.addAccount(r.PostForm.Get("name"), r.PostForm.Get("email"), r.PostForm.Get("password"))
	if err != nil {
		p.Problem = sentence(err)
		s.show(w, r, http.StatusUnprocessableEntity, p)
		return
	}
	s.Log.Printf("%s has an account now", a.Email)
	if s.Config.Confirm {
		if err := s.mailLink(r, a, "confirm", confirmPath, "Confirm your address", "Somebody, probably you, has made an account with this address. Confirm that it is yours:"); err != nil {
			s.Log.Printf("error: %v", err)
			s.problem(w, r, http.StatusBadGateway, "The account is there, and the mail was not sent", sentence(err))
			return
		}
		s.problem(w, r, http.StatusOK, "Look into your mail", "There is a link in the mail to "+a.Email+". When you have followed it, you can sign in.")
		return
	}
	s.remember(w, r, a, s.now())
	if ask := r.PostForm.Get("ask"); ask != "" {
		http.Redirect(w, r, authorizePath+"?"+ask, http.StatusSeeOther)
		return
	}
	s.problem(w, r, http.StatusOK, "You have an account", "Sign in from the app.")
}

func sentence(err error) string {
	text := err.Error()
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

func (s *Server) addAccount(name, address, password string) (*account, error) {
	parsed, err := mail.ParseAddress(address)
	if err != nil || parsed.Address != strings.TrimSpace(address) || len(address) > 254 {
		return nil, errAddress
	}
	if len([]rune(password)) < leastPassword {
		return nil, errPassword
	}
	if name = strings.TrimSpace(name); name == "" || len(name) > 200 {
		return nil, fmt.Errorf("a name has 1 to 200 characters")
	}
	a := &account{Person: Person{Name: name, Email: parsed.Address}, SignedUp: true, Since: s.now()}
	a.setPassword(password)
	for _, other := range s.people() {
		if strings.EqualFold(other.Email, a.Email) {
			return nil, errTaken
		}
	}
	err = s.state.change(func() error {
		if len(s.state.Accounts) >= mostAccounts {
			return errTooMany
		}
		if s.state.Accounts[a.ID()] != nil {
			return errTaken
		}
		s.state.Accounts[a.ID()] = a
		return nil
	})
	return a, err
}

// mailLink sends somebody a link that holds for an hour.
func (s *Server) mailLink(r *http.Request, a *account, purpose, path, subject, text string) error {
	if s.Config.SMTP == "" {
		return fmt.Errorf("there is no mail service: name one with mail in the declaration")
	}
	link := s.issuer(r) + path + "?link=" + s.seal(session{a.ID(), s.now().Unix(), purpose})
	var b bytes.Buffer
	from := (&mail.Address{Name: "Sign-in", Address: s.Config.Sender}).String()
	fmt.Fprintf(&b, "From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <%s@identity.localhost>\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\n%s\r\n\r\n%s\r\n\r\nThe link holds for an hour.\r\n",
		from, (&mail.Address{Name: a.Name, Address: a.Email}).String(), mime.QEncoding.Encode("utf-8", subject), s.now().Format(time.RFC1123Z), randomText(12), text, link)
	if err := smtp.SendMail(s.Config.SMTP, nil, s.Config.Sender, []string{a.Email}, b.Bytes()); err != nil {
		return fmt.Errorf("the mail to %s was not taken: %w", a.Email, err)
	}
	s.Log.Printf("a mail went to %s: %s", a.Email, subject)
	return nil
}

// confirm notes that an address is its owner's.
func (s *Server) confirm(w http.ResponseWriter, r *http.Request) {
	v, ok := s.unseal(r.URL.Query().Get("link"), "confirm", linkLife)
	if !ok {
		s.problem(w, r, http.StatusBadRequest, "This link does not hold any more", "Links hold for an hour. Make the account again, or sign in.")
		return
	}
	err := s.state.change(func() error {
		if a := s.state.Accounts[v.Subject]; a != nil {
			a.Verified = true
		}
		return nil
	})
	if err != nil {
		s.problem(w, r, http.StatusInternalServerError, "It could not be noted", err.Error())
		return
	}
	s.problem(w, r, http.StatusOK, "Your address is confirmed", "You can sign in from the app now.")
}

// forgot sends a link for a new password.
func (s *Server) forgot(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		s.problem(w, r, http.StatusBadRequest, "This request can't be read", err.Error())
		return
	}
	if r.Method != http.MethodPost {
		s.show(w, r, http.StatusOK, &page{Title: "A new password", Form: forgotPath, Ask: r.Form.Get("ask"), Email: true, Send: "Send a link"})
		return
	}
	if a := s.named(r.PostForm.Get("email")); a != nil && strings.EqualFold(a.Email, strings.TrimSpace(r.PostForm.Get("email"))) {
		if err := s.mailLink(r, a, a.resetting(), resetPath, "A new password", "Somebody, probably you, wants a new password for this address. Choose one here:"); err != nil {
			s.Log.Printf("error: %v", err)
			s.problem(w, r, http.StatusBadGateway, "The mail was not sent", sentence(err))
			return
		}
	}
	// Whoever asks does not learn who has an account.
	s.problem(w, r, http.StatusOK, "Look into your mail", "If there is an account with this address, a link for a new password is on its way.")
}

// resetting is what a link for a new password is good for: one, since it is another then.
func (a *account) resetting() string { return "reset " + digest(string(a.Hash)) }

// reset sets a new password.
func (s *Server) reset(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		s.problem(w, r, http.StatusBadRequest, "This request can't be read", err.Error())
		return
	}
	link := r.Form.Get("link")
	v, _ := s.unseal(link, "", linkLife)
	a, ok := s.person(v.Subject), false
	if a != nil {
		_, ok = s.unseal(link, a.resetting(), linkLife)
	}
	if !ok {
		s.problem(w, r, http.StatusBadRequest, "This link does not hold any more", "Links hold for an hour. Ask for another from the page where you sign in.")
		return
	}
	p := &page{Title: "A new password", Lead: "for " + a.Email, Form: resetPath, Password: true, Link: link, Send: "Use it"}
	if r.Method != http.MethodPost {
		s.show(w, r, http.StatusOK, p)
		return
	}
	password := r.PostForm.Get("password")
	if len([]rune(password)) < leastPassword {
		p.Problem = sentence(errPassword)
		s.show(w, r, http.StatusUnprocessableEntity, p)
		return
	}
	err := s.state.change(func() error {
		own := s.state.Accounts[a.ID()]
		if own == nil {
			own = &account{Person: Person{Name: a.Name, Email: a.Email, Subject: a.Subject}, Since: s.now()}
			s.state.Accounts[a.ID()] = own
		}
		own.setPassword(password)
		own.Verified = true
		return nil
	})
	if err != nil {
		s.problem(w, r, http.StatusInternalServerError, "It could not be noted", err.Error())
		return
	}
	s.problem(w, r, http.StatusOK, "You have a new password", "You can sign in from the app now.")
}
