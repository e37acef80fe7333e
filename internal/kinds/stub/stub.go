// Package stub is the kind of the built-in stand-in for somebody else's HTTP API.
package stub

import (
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	pages "neighbour/internal/emulator"
	emulator "neighbour/internal/emulator/stub"
)

// Kind is the kind.
type Kind struct{ kind.Emulated }

// Route is a declared answer.
type Route struct {
	On      string            `toml:"on" doc:"the method and the path, with what is left open in braces: \"GET /charges/{id}\""`
	When    map[string]string `toml:"when" doc:"values that the request must have: { \"body.amount\" = \"0\", \"state.paid\" = \"*\" }"`
	Calls   string            `toml:"calls" doc:"of which requests it is the answer, counted from 1: \"3\", \"2-4\", \"5-\""`
	Status  int               `toml:"status" doc:"the status (200, or 204 without an answer)"`
	Headers map[string]string `toml:"headers" doc:"headers of the answer, as templates"`
	Answer  declare.Text      `toml:"answer" doc:"a template of the body: '{\"id\": \"{{uuid}}\", \"amount\": {{.body.amount}}}'"`
	File    string            `toml:"file" doc:"a file that has the body, from the declaration's folder"`
	Delay   time.Duration     `toml:"delay" doc:"how long the answer takes"`
	Set     map[string]string `toml:"set" doc:"what is remembered after it, for when: { paid = \"{{.body.id}}\" }"`
	Hook    string            `toml:"webhook" doc:"the webhook that is sent after it"`
}

// Hook is a webhook.
type Hook struct {
	To      declare.Text      `toml:"to" doc:"where it is sent: \"${api.url}/hooks/payments\""`
	Body    declare.Text      `toml:"body" doc:"a template of what is sent, from the request and its answer: '{\"type\": \"paid\", \"charge\": {{json .answer}}}'; left out: the answer"`
	Headers map[string]string `toml:"headers" doc:"headers that it has, too"`
	After   string            `toml:"after" doc:"the method and path after whose answer it is sent: \"POST /charges\"; left out: by hand, or by a route's webhook"`
	Delay   time.Duration     `toml:"delay" doc:"how long it waits"`
	Header  string            `toml:"header" doc:"the header that has the signature; left out: webhook-id, webhook-timestamp and webhook-signature (Standard Webhooks)"`
	Sign    string            `toml:"sign" doc:"a template of the signature: \"t={{.timestamp}},v1={{.stamped_hex}}\"; left out: the HMAC of the body with SHA-256, in hexadecimal digits"`
	Tries   int               `toml:"tries" doc:"how often it is tried before it is put aside (8)"`
}

// Settings are its keys.
type Settings struct {
	OpenAPI    string          `toml:"openapi" doc:"an OpenAPI 3 document, from the declaration's folder, by which requests are checked and answered"`
	Seed       int             `toml:"seed" doc:"another number makes other values of the same schemas"`
	Lax        bool            `toml:"lax" doc:"true: requests that the document does not allow are answered, and only told of"`
	Routes     []Route         `toml:"routes" doc:"answers, which go before those of the document: [{ on = \"POST /charges\", status = 201, answer = '{\"id\": \"{{uuid}}\"}' }]"`
	Record     string          `toml:"record" doc:"the address of the real API, which is asked once for each request and recorded, without secrets: \"https://api.example.org\""`
	Recordings string          `toml:"recordings" doc:"the folder with what was recorded, from the declaration's (stubs/NAME)"`
	Webhooks   map[string]Hook `toml:"webhooks" doc:"what it sends to the app: { paid = { to = \"${api.url}/hooks\", after = \"POST /charges\" } }"`
	Secret     declare.Text    `toml:"secret" doc:"what webhooks are signed with: whsec_ and the key in base64, as Standard Webhooks has it; any other text is the key itself; left out: one is made up, the fact webhook_secret"`
	CORS       pages.Pages     `toml:"cors" doc:"pages of other sites that may call it, by their origins: [\"https://app.example.org\"]; those of this machine may"`
	Misbehave  misbehave.Rules `toml:"misbehave" doc:"what it does wrong, for tests"`
}

// Check reports what can't be meant.
func (s *Settings) Check(report func(key, message, remedy string)) {
	s.CORS.Check(report)
	if s.OpenAPI == "" && len(s.Routes) == 0 && s.Record == "" && s.Recordings == "" {
		report("routes", "it has no answers", `add openapi = "payments.yaml", routes = [{ on = "GET /", answer = "hello" }] or record = "https://api.example.org"`)
	}
	for _, f := range []struct{ key, path string }{{"openapi", s.OpenAPI}, {"recordings", s.Recordings}} {
		if f.path != "" && !filepath.IsLocal(f.path) {
			report(f.key, strconv.Quote(f.path)+" is outside of the project", "name a file of the project")
		}
	}
	if key, ok := strings.CutPrefix(s.Secret.Value, "whsec_"); ok && !strings.Contains(key, "${") {
		if _, err := base64.StdEncoding.DecodeString(key); err != nil {
			report("secret", "what follows whsec_ is no base64", "write whsec_ and the key in base64, as Standard Webhooks has it, or leave whsec_ out: then the text itself is the key")
		}
	}
	const on = `write for example "GET /charges/{id}"`
	for i, r := range s.Routes {
		key := fmt.Sprintf("routes[%d]", i)
		if err := emulator.CheckOn(r.On); err != nil {
			report(key+".on", err.Error(), on)
		}
		if _, _, err := emulator.ParseCalls(r.Calls); err != nil {
			report(key+".calls", err.Error(), "")
		}
		if r.Status != 0 && (r.Status < 200 || r.Status > 599) {
			report(key+".status", fmt.Sprintf("%d is no status of an answer", r.Status), "write 200 to 599")
		}
		if r.Answer.Value != "" && r.File != "" {
			report(key+".file", "there are two answers", "remove answer or file")
		}
		if r.File != "" && !filepath.IsLocal(r.File) {
			report(key+".file", strconv.Quote(r.File)+" is outside of the project", "name a file of the project")
		}
		checkTemplate(report, key+".answer", r.Answer.Value)
		for name, t := range r.Headers {
			checkTemplate(report, key+".headers."+name, t)
		}
		for name, t := range r.Set {
			checkTemplate(report, key+".set."+name, t)
		}
		if _, known := s.Webhooks[r.Hook]; r.Hook != "" && !known {
			report(key+".webhook", fmt.Sprintf("there is no webhook %q", r.Hook), "declare it under webhooks")
		}
	}
	for name, h := range s.Webhooks {
		key := "webhooks." + name
		if h.To.Value == "" {
			report(key+".to", "it goes nowhere", `write to = "${api.url}/hooks"`)
		}
		if h.After != "" {
			if err := emulator.CheckOn(h.After); err != nil {
				report(key+".after", err.Error(), on)
			}
		}
		checkTemplate(report, key+".body", h.Body.Value)
		checkTemplate(report, key+".sign", h.Sign)
		if h.Tries < 0 || h.Delay < 0 {
			report(key, "tries and delay can't be less than nothing", "")
		}
	}
	if s.Record != "" {
		if u, err := url.Parse(s.Record); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			report("record", fmt.Sprintf("%q is no address of an API", s.Record), `write for example "https://api.example.org/v1"`)
		}
	}
	kind.CheckMisbehave(s.Misbehave, report, noRules...)
}

// noRules are the rules of misbehaviour that mean nothing here.
var noRules = []string{"full", "read_only", "clock"}

func checkTemplate(report func(key, message, remedy string), key, text string) {
	if _, err := emulator.ParseTemplate(text); err != nil {
		report(key, "the template can't be read: "+err.Error(), `write for example '{"id": "{{.path.id}}"}'`)
	}
}

// LaterKeys returns the keys of answers and webhooks: they name the app, which mostly needs the stub itself.
func (s *Settings) LaterKeys() []string { return []string{"routes", "webhooks"} }

// Outside returns the addresses that it asks or calls itself, by their keys: the real API, and
// where webhooks go.
func (s *Settings) Outside() map[string]string {
	out := map[string]string{}
	if s.Record != "" {
		out["record"] = s.Record
	}
	for name, h := range s.Webhooks {
		if !strings.Contains(h.To.Value, "${") {
			out["webhooks."+name+".to"] = h.To.Value
		}
	}
	return out
}

const example = `
[service.payments]
kind = "stub"
routes = [
  { on = "POST /charges", calls = "3", status = 503 },             # the third fails
  { on = "POST /charges", status = 201, answer = '{"id": "{{uuid}}", "amount": {{.body.amount}}}' },
]
webhooks = { paid = { to = "${api.url}/hooks/payments", after = "POST /charges", delay = "1s" } }

[service.api]
run = "node server.js"
port = 4100
env.PAYMENTS_URL = "${payments.url}"
env.PAYMENTS_WEBHOOK_SECRET = "${payments.webhook_secret}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "stub", Example: example, Begin: `routes = [{ on = "GET /", answer = "hello" }]`, About: "somebody else's API, stood in for", Check: "HTTP", Listens: true, UsualPort: 4149, HTTP: true, Aside: true, Facts: []string{"url", "host", "port", "webhook_secret"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find looks for the files that it answers from.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	s := in.Service.Settings.(*Settings)
	files := []string{s.OpenAPI}
	for _, r := range s.Routes {
		files = append(files, r.File)
	}
	for _, f := range files {
		if f == "" {
			continue
		}
		if info, err := os.Stat(filepath.Join(in.Root, f)); errors.Is(err, os.ErrNotExist) {
			return kind.Program{}, &kind.AbsentError{Err: fmt.Errorf("there is no file %s; create it, or correct its name", f)}
		} else if err != nil {
			return kind.Program{}, err
		} else if info.IsDir() {
			return kind.Program{}, fmt.Errorf("%s is a folder; name a file", f)
		}
	}
	return kind.Program{Path: in.Self}, nil
}

func recordings(in *kind.Instance) string {
	s := in.Service.Settings.(*Settings)
	if s.Record == "" && s.Recordings == "" {
		return ""
	}
	if s.Recordings != "" {
		return filepath.Join(in.Root, s.Recordings)
	}
	return filepath.Join(in.Root, "stubs", in.Service.Name)
}

func secret(in *kind.Instance) (string, error) {
	s := in.Service.Settings.(*Settings)
	if s.Secret.Value != "" {
		f, err := in.Expand(s.Secret.Value)
		return f.Value, err
	}
	text, err := in.Secret("webhook_secret")
	if err != nil {
		return "", err
	}
	// In the form of Standard Webhooks 1.0, whose libraries decode it.
	return "whsec_" + base64.StdEncoding.EncodeToString([]byte(text)), nil
}

func config(in *kind.Instance) (c emulator.Config, err error) {
	s := in.Service.Settings.(*Settings)
	c = emulator.Config{Seed: int64(s.Seed), Lax: s.Lax, Record: s.Record, Recordings: recordings(in), Hooks: map[string]emulator.Hook{}, Names: in.Hosts, CORS: s.CORS, Root: in.Root}
	if s.OpenAPI != "" {
		c.OpenAPI = filepath.Join(in.Root, s.OpenAPI)
	}
	if in.Offline {
		c.Offline = "offline = true under [project] lets nothing lead outside"
	}
	if c.Secret, err = secret(in); err != nil {
		return c, err
	}
	for _, r := range s.Routes {
		answer, err := in.Expand(r.Answer.Value)
		if err != nil {
			return c, err
		}
		c.Routes = append(c.Routes, emulator.Route{On: r.On, When: r.When, Calls: r.Calls, Status: r.Status, Headers: r.Headers, Answer: answer.Value, File: r.File, Delay: r.Delay, Set: r.Set, Hook: r.Hook})
	}
	for _, name := range slices.Sorted(maps.Keys(s.Webhooks)) {
		h := s.Webhooks[name]
		to, err := in.Expand(h.To.Value)
		if err != nil {
			return c, err
		}
		body, err := in.Expand(h.Body.Value)
		if err != nil {
			return c, err
		}
		c.Hooks[name] = emulator.Hook{To: to.Value, Body: body.Value, Headers: h.Headers, After: h.After, Delay: h.Delay, Header: h.Header, Sign: h.Sign, Tries: h.Tries}
	}
	return c, nil
}

// Launch starts the emulator as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	c, err := config(in)
	if err != nil {
		return kind.Launch{}, err
	}
	l, err := kind.EmulateConfigured(in, "stub", in.Service.Settings.(*Settings).Misbehave, c, "--dir", in.Data)
	l.Dir = in.Root
	return l, err
}

func address(in *kind.Instance) string { return "http://127.0.0.1:" + strconv.Itoa(in.Port) }

// Facts returns its address, and what its webhooks are signed with.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	facts := kind.URL(in, "http")
	key, err := secret(in)
	facts["webhook_secret"] = kind.Fact{Value: key, Secret: true}
	return facts, err
}

// Probe asks whether it is ready.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.HTTP{URLs: []string{address(in) + emulator.ReadyPath}, Status: http.StatusNoContent}, nil
}

// Traffic returns where it tells what it was asked.
func (Kind) Traffic(in *kind.Instance) string { return address(in) }

// Notes say what it answers.
func (Kind) Notes(in *kind.Instance) (notes []string, wrong string) {
	s := in.Service.Settings.(*Settings)
	var out []string
	if s.OpenAPI != "" {
		out = append(out, "answers by "+s.OpenAPI)
	}
	for i, r := range s.Routes {
		if i == 3 && len(s.Routes) > 4 {
			out = append(out, fmt.Sprintf("and %d routes more", len(s.Routes)-i))
			break
		}
		out = append(out, strings.TrimSpace(r.On))
	}
	if s.Record != "" {
		out = append(out, "records "+s.Record)
	}
	return out, ""
}
