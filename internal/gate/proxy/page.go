package proxy

import (
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"neighbour/internal/core/declaration/route"
	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/emulator"
)

// waitingHeader is sent by the page that waits, to ask the gate and not the service.
const waitingHeader = "Neighbour-Waiting"

// stateHeader says that an answer is the gate's own.
const stateHeader = "Neighbour-Gate"

//go:embed page.html
var pageSource string

//go:embed page.css
var pageStyle string

//go:embed page.js
var pageScript string

var page = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(pageSource))
})

// policy lets the gate's own pages do nothing but what is in them.
var policy = fmt.Sprintf("default-src 'none'; style-src '%s'; script-src '%s'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'self'",
	digest(pageStyle), digest(pageScript))

// digest returns a source expression for an inline part (Content Security Policy Level 3,
// section 2.3.1).
func digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
}

// contents are what a page of the gate says.
type contents struct {
	Title, Project, Service string
	Story                   Story
	Note                    string
	Waits                   bool // it turns into the app by itself
	Names                   []string
	Style                   template.CSS
	Script                  template.JS
}

func show(w http.ResponseWriter, code int, c contents) {
	c.Style, c.Script = template.CSS(pageStyle), template.JS(pageScript)
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", policy)
	h.Set("Cache-Control", "no-store")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(code)
	_ = page().Execute(w, c)
}

func answer(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v)
}

// refuse says something in a line to whoever gets nothing.
func refuse(w http.ResponseWriter, code int, text string) {
	w.Header().Set(stateHeader, "refused")
	w.Header().Set("Cache-Control", "no-store")
	http.Error(w, text, code)
}

// story tells what there is to say of the service to who asks: others than the user whose gate this
// is learn nothing but how it is, not why, nor what it printed.
func (t *Target) story(r *http.Request) Story {
	if t.Story == nil {
		return Story{}
	}
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if t.forOthers(r) {
		return Story{State: t.Story(ctx).State}
	}
	return t.Story(ctx)
}

// forOthers reports whether somebody else than the user whose gate this is asks.
func (t *Target) forOthers(r *http.Request) bool { return t.Others || emulator.Stranger(r) }

// tell tells the page that waits how it is.
func (g *Gate) tell(w http.ResponseWriter, r *http.Request, t *Target) {
	if t.Ready {
		answer(w, http.StatusOK, map[string]any{"ready": true})
		return
	}
	story := t.story(r)
	answer(w, http.StatusOK, map[string]any{"ready": false, "title": t.Service + " is " + story.State, "why": story.Why, "lines": strings.Join(story.Lines, "\n")})
}

// wantsPage reports whether a request is of a person in a browser.
func wantsPage(r *http.Request) bool {
	return strings.Contains(r.Header.Get("Accept"), "text/html")
}

// wait answers for a service that isn't ready: people get a page that turns into the app when
// it is, machines get JSON.
func (g *Gate) wait(w http.ResponseWriter, r *http.Request, p *passing, why string) {
	story := Story{State: "unknown", Why: why}
	if told := p.target.story(r); told.State != "" {
		story = told
		if why != "" && story.State == "ready" {
			story.Why = why
		}
	}
	const again = "1"
	w.Header().Set("Retry-After", again)
	w.Header().Set(stateHeader, "waiting")
	defer p.end(func(f *traffic.Full) {
		f.Status, f.Waiting, f.Problem = http.StatusServiceUnavailable, true, "the gate answered: "+p.target.Service+" is "+story.State
	})
	if !wantsPage(r) {
		answer(w, http.StatusServiceUnavailable, map[string]any{"error": "the service is not ready", "project": p.target.Project, "service": p.target.Service, "state": story.State, "why": story.Why, "waits": story.Waits})
		return
	}
	c := contents{Title: p.target.Service + " is " + story.State, Project: p.target.Project, Service: p.target.Service, Story: story, Waits: r.Method == http.MethodGet}
	if r.Method != http.MethodGet {
		c.Note = "What was sent has not been passed on. Go back and send it again when the service is ready."
	}
	show(w, http.StatusServiceUnavailable, c)
}

// garbled answers for a service whose answer can't be passed on.
func (g *Gate) garbled(w http.ResponseWriter, r *http.Request, p *passing, err error) {
	why := "its connection broke before an answer came"
	if strings.Contains(err.Error(), "malformed") || strings.Contains(err.Error(), "invalid") {
		why = "what it answered is not HTTP"
	}
	if strings.Contains(err.Error(), "exceeded") {
		why = "the headers of its answer are larger than 1 MB"
	}
	w.Header().Set(stateHeader, "garbled")
	defer p.end(func(f *traffic.Full) { f.Status, f.Problem = http.StatusBadGateway, p.target.Service+": "+why })
	story := Story{State: "ready", Why: why, Lines: p.target.story(r).Lines}
	if !wantsPage(r) {
		answer(w, http.StatusBadGateway, map[string]any{"error": "no answer that could be passed on", "project": p.target.Project, "service": p.target.Service, "why": why})
		return
	}
	show(w, http.StatusBadGateway, contents{Title: p.target.Service + " gave no answer", Project: p.target.Project, Service: p.target.Service, Story: story,
		Note: "The request reached the service, and " + why + ". Its log says more."})
}

// nowhere answers requests whose name leads nowhere. Who comes by a name that isn't this
// machine's gets nothing: a page from elsewhere could have had its name lead here.
func (g *Gate) nowhere(w http.ResponseWriter, host string, table *route.Table[*atomic.Pointer[Target]]) {
	if !localname.Is(host) && (table == nil || !table.Knows(host)) {
		refuse(w, http.StatusMisdirectedRequest, "This name leads nowhere here.")
		return
	}
	w.Header().Set(stateHeader, "nowhere")
	var names []string
	if table != nil {
		for _, r := range table.All() {
			if !r.Pattern.Below {
				names = append(names, g.https(r.Pattern.Host)+r.Pattern.Path)
			}
		}
	}
	slices.Sort(names)
	note := "No project that is running has this name."
	if len(names) == 0 {
		note = "No project that is running has a name. Start one with: neighbour start"
	}
	show(w, http.StatusNotFound, contents{Title: host + " leads nowhere", Note: note, Names: names})
}
