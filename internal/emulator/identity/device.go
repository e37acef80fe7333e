package identity

import (
	"crypto/rand"
	"math/big"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// device is something without a keyboard that waits for a person (RFC 8628).
type device struct {
	user   string // what the person types
	client Client
	scope  string
	until  time.Time
	asked  time.Time // when it asked last
	every  time.Duration
	person string // "" until somebody has allowed it
	denied bool
}

const (
	deviceEvery = 5 * time.Second
	mostDevices = 1000
)

// userCode returns letters that can't be mistaken for others (RFC 8628, section 6.1).
func userCode() string {
	const letters = "BCDFGHJKLMNPQRSTVWXZ"
	var b strings.Builder
	for i := range 8 {
		if i == 4 {
			b.WriteByte('-')
		}
		n, _ := rand.Int(rand.Reader, big.NewInt(int64(len(letters))))
		b.WriteByte(letters[n.Int64()])
	}
	return b.String()
}

func (s *Server) deviceCode(w http.ResponseWriter, r *http.Request) {
	client, err := s.who(r)
	if err != nil {
		s.failWith(w, r, err)
		return
	}
	d := &device{user: userCode(), client: client, scope: r.PostForm.Get("scope"), until: s.now().Add(deviceLife), every: deviceEvery}
	code := randomText(24)
	s.mu.Lock()
	for c, one := range s.devices {
		if s.now().After(one.until) || len(s.devices) >= mostDevices {
			delete(s.devices, c)
		}
	}
	s.devices[code] = d
	s.mu.Unlock()
	at := s.issuer(r) + devicePath
	answer(w, http.StatusOK, map[string]any{"device_code": code, "user_code": d.user, "verification_uri": at, "verification_uri_complete": at + "?user_code=" + d.user,
		"expires_in": int(deviceLife.Seconds()), "interval": int(deviceEvery.Seconds())})
}

func (s *Server) deviceOf(user string) *device {
	user = strings.ToUpper(strings.TrimSpace(user))
	for _, d := range s.devices {
		if strings.ReplaceAll(d.user, "-", "") == strings.ReplaceAll(user, "-", "") && s.now().Before(d.until) && !d.denied && d.person == "" {
			return d
		}
	}
	return nil
}

// devicePage is where a person allows a device.
func (s *Server) devicePage(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		s.problem(w, r, http.StatusBadRequest, "This request can't be read", err.Error())
		return
	}
	user := r.Form.Get("user_code")
	s.mu.Lock()
	d := s.deviceOf(user)
	s.mu.Unlock()
	p := &page{Title: "Sign in on a device", Form: devicePath, Code: user, AskCode: d == nil}
	switch {
	case user == "":
	case d == nil:
		p.Problem = "There is no device that waits with this code. Codes hold ten minutes."
	case r.Method == http.MethodPost && !s.sameOrigin(r):
		s.problem(w, r, http.StatusForbidden, "This form is another page's", "Sign in from the page of this provider.")
		return
	case r.Method == http.MethodPost && r.PostForm.Get("cancel") != "":
		s.mu.Lock()
		d.denied = true
		s.mu.Unlock()
		s.problem(w, r, http.StatusOK, "The device is not signed in", "You can close this page.")
		return
	case r.Method == http.MethodPost && r.PostForm.Has("person"):
		a, problem := s.choose(r.PostForm)
		if a != nil {
			s.mu.Lock()
			d.person = a.ID()
			s.mu.Unlock()
			s.problem(w, r, http.StatusOK, "The device is signed in", "You can close this page, and go on there.")
			return
		}
		p.Problem, p.Chosen = problem, r.PostForm.Get("person")
	}
	if d != nil {
		p.Lead = "The device shows " + d.user + ", and asks for " + d.client.ID + "."
		p.People = s.people()
	}
	s.show(w, r, http.StatusOK, p)
}

func (s *Server) byDevice(r *http.Request, client Client) (*tokens, error) {
	given := r.PostForm.Get("device_code")
	s.mu.Lock()
	d := s.devices[given]
	var err *Error
	now := s.now()
	switch {
	case d == nil:
		err = refused("invalid_grant", "there is no such device code")
	case d.client.ID != client.ID:
		err = refused("invalid_grant", "the device code was given to another client")
	case now.After(d.until):
		err = refused("expired_token", "the code has expired")
	case d.denied:
		err = refused("access_denied", "the person did not allow it")
	case now.Sub(d.asked) < d.every:
		d.every += deviceEvery
		err = refused("slow_down", "ask more seldom")
	case d.person == "":
		err = refused("authorization_pending", "nobody has allowed it yet")
	default:
		delete(s.devices, given)
	}
	if d != nil {
		d.asked = now
	}
	s.mu.Unlock()
	if err != nil {
		return nil, err
	}
	person := s.person(d.person)
	if person == nil {
		return nil, refused("invalid_grant", "the person is not there any more")
	}
	a := &ask{client: d.client, scope: d.scope, raw: url.Values{}}
	made, failed := s.grant(a, person, now, s.issuer(r))
	if failed != nil {
		return nil, failed
	}
	s.mu.Lock()
	id := s.codes[made].grant
	delete(s.codes, made)
	s.mu.Unlock()
	return s.goOn(id, s.issuer(r), "", "")
}
