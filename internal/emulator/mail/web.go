package mail

import (
	"bufio"
	"context"
	"embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"net"
	"net/http"
	"net/smtp"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/machine/localname"
	"neighbour/internal/emulator"
)

// The inbox as a page: one template, its style and its script.
//
//go:embed web
var web embed.FS

var pages = sync.OnceValue(func() *template.Template {
	return template.Must(template.ParseFS(web, "web/inbox.html"))
})

// Web serves the inbox: a page for people, and JSON for tests. Its description is
// served at /openapi.yaml.
func (s *Server) Web() http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, do func(http.ResponseWriter, *http.Request) error) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			if err := do(w, r); err != nil {
				code := http.StatusBadRequest
				if errors.Is(err, ErrNoMail) {
					code = http.StatusNotFound
				}
				answer(w, code, map[string]string{"error": err.Error()})
			}
		})
	}
	handle("GET /{$}", s.page)
	handle("GET /web/{name}", s.asset)
	handle("GET /openapi.yaml", func(w http.ResponseWriter, _ *http.Request) error {
		b, err := web.ReadFile("web/openapi.yaml")
		w.Header().Set("Content-Type", "application/yaml")
		_, _ = w.Write(b)
		return err
	})
	handle("GET /messages", s.listed)
	handle("DELETE /messages", func(w http.ResponseWriter, _ *http.Request) error { return s.deleted(w, "") })
	handle("GET /messages/{id}", s.message)
	handle("DELETE /messages/{id}", func(w http.ResponseWriter, r *http.Request) error { return s.deleted(w, r.PathValue("id")) })
	handle("POST /messages/{id}/seen", func(w http.ResponseWriter, r *http.Request) error {
		if err := s.Store.See(r.PathValue("id")); err != nil {
			return err
		}
		answer(w, http.StatusOK, struct{}{})
		return nil
	})
	handle("GET /messages/{id}/source", s.source)
	handle("GET /messages/{id}/html", s.html)
	handle("GET /messages/{id}/parts/{part}", s.part)
	handle("POST /messages/{id}/release", s.release)
	handle("GET /wait", s.wait)
	handle("GET /events", s.events)
	handle("GET /rules", func(w http.ResponseWriter, _ *http.Request) error {
		answer(w, http.StatusOK, s.Rules())
		return nil
	})
	handle("PUT /rules", func(w http.ResponseWriter, r *http.Request) error {
		var rules Rules
		if err := decode(r, &rules); err != nil {
			return err
		}
		if err := s.SetRules(rules); err != nil {
			return err
		}
		s.Log.Printf("rules: %s", s.Rules().InWords())
		answer(w, http.StatusOK, s.Rules())
		return nil
	})
	return s.guarded(mux)
}

// guarded lets only requests pass that were meant for this machine, and are its user's: neither
// another user nor a page of another site, by a name of its own that leads here, may read mails, or
// delete any.
func (s *Server) guarded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !localname.Is(r.Host, s.Names...) {
			answer(w, http.StatusForbidden, map[string]string{"error": "this inbox answers to names of this machine only"})
			return
		}
		if emulator.Stranger(r) {
			answer(w, http.StatusForbidden, map[string]string{"error": "this inbox is for the user alone who runs it"})
			return
		}
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cache-Control", "no-store")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; frame-src 'self'; base-uri 'self'; form-action 'none'; frame-ancestors 'none'")
		// Reading is protected by the browser; what changes something isn't.
		if r.Method != http.MethodGet && localname.Foreign(r, s.Names...) {
			answer(w, http.StatusForbidden, map[string]string{"error": "a page of another site may not do this"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

func answer(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v)
}

func decode(r *http.Request, v any) error {
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 1<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return fmt.Errorf("the body is not what it should be: %w", err)
	}
	return nil
}

// page sends the inbox, whose addresses begin with the path that a gate has taken off.
func (s *Server) page(w http.ResponseWriter, r *http.Request) error {
	base := strings.TrimSuffix(r.Header.Get("X-Forwarded-Prefix"), "/") + "/"
	if path.Clean(base)+"/" != base && base != "/" || base[0] != '/' {
		base = "/"
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	return pages().ExecuteTemplate(w, "inbox.html", base)
}

func (s *Server) asset(w http.ResponseWriter, r *http.Request) error {
	name := r.PathValue("name")
	kind := map[string]string{"inbox.js": "text/javascript", "inbox.css": "text/css"}[name]
	if kind == "" {
		return ErrNoMail
	}
	b, err := web.ReadFile("web/" + name)
	w.Header().Set("Content-Type", kind+"; charset=utf-8")
	_, _ = w.Write(b)
	return err
}

// Listed is a part of the inbox.
type Listed struct {
	Messages []Mail `json:"messages"` // the newest first
	More     bool   `json:"more"`
	Count    int    `json:"count"` // of all mails
	Unseen   int    `json:"unseen"`
}

func (s *Server) listed(w http.ResponseWriter, r *http.Request) error {
	q := r.URL.Query()
	limit := 100
	if text := q.Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > 1000 {
			return fmt.Errorf("limit=%s: write 1 to 1000", text)
		}
		limit = n
	}
	var l Listed
	l.Messages, l.More = s.Store.List(q.Get("q"), q.Get("after"), limit)
	latest := s.Store.Latest()
	l.Count, l.Unseen = latest.Count, latest.Unseen
	answer(w, http.StatusOK, l)
	return nil
}

func (s *Server) deleted(w http.ResponseWriter, id string) error {
	n, err := s.Store.Delete(id)
	if err != nil {
		return err
	}
	answer(w, http.StatusOK, map[string]int{"deleted": n})
	return nil
}

// Whole is a mail with all that is in it.
type Whole struct {
	Mail
	*Message
	// Readable is the text that a reader without HTML sees, and Links are those of
	// its HTML by their numbers in it.
	Readable string   `json:"readable"`
	Links    []string `json:"links"`
}

// Read reads a mail whole.
func (s *Store) Read(id string) (Whole, error) {
	m, err := s.Mail(id)
	if err != nil {
		return Whole{}, err
	}
	f, err := s.Open(id)
	if err != nil {
		return Whole{}, err
	}
	defer f.Close()
	w := Whole{Mail: m, Message: Parse(f), Links: []string{}}
	w.Bcc = []string{}
	named := strings.ToLower(w.Message.To + ", " + w.Cc)
	for _, to := range m.To {
		if !strings.Contains(named, strings.ToLower(to)) {
			w.Bcc = append(w.Bcc, to)
		}
	}
	if w.HTML != "" {
		text, links := ReadableHTML(w.HTML)
		w.Readable = text
		w.Links = append(w.Links, links...)
	} else {
		w.Readable = w.Text
	}
	return w, nil
}

func (s *Server) message(w http.ResponseWriter, r *http.Request) error {
	whole, err := s.Store.Read(r.PathValue("id"))
	if err != nil {
		return err
	}
	answer(w, http.StatusOK, whole)
	return nil
}

func (s *Server) source(w http.ResponseWriter, r *http.Request) error {
	f, err := s.Store.Open(r.PathValue("id"))
	if err != nil {
		return err
	}
	defer f.Close()
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, err = io.Copy(w, f)
	return err
}

// messagePolicy is that of a message's own document: nothing from outside, nothing
// that runs, nowhere to go by itself.
const messagePolicy = "sandbox allow-popups allow-popups-to-escape-sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; font-src data:; base-uri 'none'; form-action 'none'; frame-ancestors 'self'"

func (s *Server) html(w http.ResponseWriter, r *http.Request) error {
	id := r.PathValue("id")
	whole, err := s.Store.Read(id)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Security-Policy", messagePolicy)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	text := whole.HTML
	if text == "" {
		text = "<pre style=\"white-space: pre-wrap; font: 15px/1.5 sans-serif; margin: 16px\">" + template.HTMLEscapeString(whole.Text) + "</pre>"
	}
	_, err = io.WriteString(w, "<!doctype html>"+Safe(text, func(cid string) string {
		for i, p := range whole.Parts {
			if p.ID == cid && shownTypes[p.Type] { // the document has no origin, and so no address here
				return "data:" + p.Type + ";base64," + base64.StdEncoding.EncodeToString(whole.Content(i))
			}
		}
		return ""
	}))
	return err
}

// shownTypes are those of parts that a browser may show in their place; others are
// downloaded, so that none becomes a page of this server.
var shownTypes = map[string]bool{"image/png": true, "image/jpeg": true, "image/gif": true, "image/webp": true, "image/avif": true}

func (s *Server) part(w http.ResponseWriter, r *http.Request) error {
	whole, err := s.Store.Read(r.PathValue("id"))
	if err != nil {
		return err
	}
	i, err := strconv.Atoi(r.PathValue("part"))
	if err != nil || i < 0 || i >= len(whole.Parts) {
		return ErrNoMail
	}
	p := whole.Parts[i]
	name := strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`/\"`, r) {
			return '_'
		}
		return r
	}, p.Name)
	if name == "" {
		name = fmt.Sprintf("part-%d", i+1)
	}
	w.Header().Set("Content-Security-Policy", "sandbox; default-src 'none'")
	kind, disposition := "application/octet-stream", "attachment"
	if shownTypes[p.Type] {
		kind, disposition = p.Type, "inline"
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", mime.FormatMediaType(disposition, map[string]string{"filename": name}))
	_, err = w.Write(whole.Content(i))
	return err
}

// waitLimit is how long a test may wait for a mail.
const waitLimit = 5 * time.Minute

// wait answers with the first mail to an address that comes, or has come after
// another one.
func (s *Server) wait(w http.ResponseWriter, r *http.Request) error {
	q := r.URL.Query()
	within := 10 * time.Second
	if text := q.Get("within"); text != "" {
		d, err := time.ParseDuration(text)
		if err != nil || d <= 0 || d > waitLimit {
			return fmt.Errorf("within=%s: write for example 5s, at most %v", text, waitLimit)
		}
		within = d
	}
	ctx, cancel := context.WithTimeout(r.Context(), within)
	defer cancel()
	after := q.Get("after")
	if after == "" {
		if last, _ := s.Store.List("", "", 1); len(last) > 0 {
			after = last[0].ID
		}
	}
	if after == "0" { // those too that are there
		after = ""
	}
	m, err := s.Store.Wait(ctx, q.Get("to"), after)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		answer(w, http.StatusRequestTimeout, map[string]string{"error": fmt.Sprintf("no mail to %q came within %v", q.Get("to"), within)})
		return nil
	case err != nil:
		return err
	}
	whole, err := s.Store.Read(m.ID)
	if err != nil {
		return err
	}
	answer(w, http.StatusOK, whole)
	return nil
}

// events tells, as server-sent events, whenever something comes, goes or is seen.
func (s *Server) events(w http.ResponseWriter, r *http.Request) error {
	w.Header().Set("Content-Type", "text/event-stream")
	control := http.NewResponseController(w)
	for {
		changed := s.Store.Changed()
		latest := s.Store.Latest()
		if _, err := fmt.Fprintf(w, "data: {\"count\":%d,\"unseen\":%d}\n\n", latest.Count, latest.Unseen); err != nil || control.Flush() != nil {
			return nil
		}
		select {
		case <-changed:
		case <-time.After(20 * time.Second): // so that a client that has gone is noticed
		case <-r.Context().Done():
			return nil
		}
	}
}

// Release says where a mail is handed on to.
type Release struct {
	Server string   `json:"server"` // host:port
	To     []string `json:"to"`     // the recipients; none: the mail's own
	From   string   `json:"from"`   // "": the mail's own
}

// release hands a mail on to a real server, which the user names.
func (s *Server) release(w http.ResponseWriter, r *http.Request) error {
	var to Release
	if err := decode(r, &to); err != nil {
		return err
	}
	if err := s.Store.Release(r.PathValue("id"), to); err != nil {
		return err
	}
	s.Log.Printf("handed %s on to %s", r.PathValue("id"), to.Server)
	answer(w, http.StatusOK, struct{}{})
	return nil
}

// Release hands a mail on to a real server by SMTP, without the envelope's headers
// that were put before it.
func (s *Store) Release(id string, to Release) error {
	m, err := s.Mail(id)
	if err != nil {
		return err
	}
	host, port, err := net.SplitHostPort(to.Server)
	if err != nil || host == "" || port == "" {
		return fmt.Errorf("server %q: write a host and a port, mail.example.org:587", to.Server)
	}
	if len(to.To) == 0 {
		to.To = m.To
	}
	if to.From == "" {
		to.From = m.From
	}
	f, err := s.Open(id)
	if err != nil {
		return err
	}
	defer f.Close()
	in := bufio.NewReader(f)
	(&Message{}).envelope(in)
	text, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	conn, err := net.DialTimeout("tcp", to.Server, 10*time.Second)
	if err != nil {
		return err
	}
	_ = conn.SetDeadline(time.Now().Add(time.Minute))
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		conn.Close()
		return err
	}
	defer c.Close()
	if err := c.Mail(to.From); err != nil {
		return err
	}
	for _, one := range to.To {
		if err := c.Rcpt(one); err != nil {
			return fmt.Errorf("%s: %w", one, err)
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err = w.Write(text); err == nil {
		err = w.Close()
	}
	if err != nil {
		return err
	}
	return c.Quit()
}
