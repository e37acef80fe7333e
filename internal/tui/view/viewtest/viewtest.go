// Package viewtest has what tests of the screen need: a keeper that answers as it
// is told, and a host for a view alone.
package viewtest

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Keeper is a keeper that answers as it is told, by method and path without
// the version: "GET /wiring". A value that is an error is a refusal.
type Keeper struct {
	mu      sync.Mutex
	answers map[string]any
	asked   []string
}

// NewKeeper begins to answer, and returns a client of it.
func NewKeeper(t testing.TB, answers map[string]any) (*Keeper, *api.Client) {
	k := &Keeper{answers: answers}
	socket := filepath.Join(t.TempDir(), "k.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	server := &http.Server{Handler: k}
	go server.Serve(l)
	client := api.NewClient(socket)
	t.Cleanup(func() {
		client.Close()
		server.Close()
	})
	return k, client
}

// Answer sets an answer.
func (k *Keeper) Answer(request string, with any) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.answers[request] = with
}

// Asked returns the requests so far, with their bodies, and forgets them.
func (k *Keeper) Asked() []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := k.asked
	k.asked = nil
	return out
}

// ServeHTTP answers.
func (k *Keeper) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	k.mu.Lock()
	defer k.mu.Unlock()
	request := r.Method + " " + r.URL.Path[len("/v"+api.Version):]
	var body json.RawMessage
	_ = json.NewDecoder(r.Body).Decode(&body)
	k.asked = append(k.asked, request+" "+string(body))
	answer, known := k.answers[request]
	w.Header().Set("Neighbour-Api", api.Version)
	switch err, refused := answer.(error); {
	case !known:
		w.WriteHeader(http.StatusNotFound)
	case refused:
		w.WriteHeader(http.StatusConflict)
		answer = api.Problem{Message: err.Error()}
	}
	_ = json.NewEncoder(w).Encode(answer)
}

// Settle carries out a command, and what follows from its messages, before it
// returns.
func Settle(cmd tea.Cmd, update func(tea.Msg) tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			Settle(c, update)
		}
	default:
		Settle(update(msg), update)
	}
}

// Key returns the press of a key by its name: "down", "a", "ctrl+p".
func Key(name string) tea.KeyPressMsg {
	codes := map[string]rune{"enter": tea.KeyEnter, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight,
		"tab": tea.KeyTab, "esc": tea.KeyEscape, "home": tea.KeyHome, "end": tea.KeyEnd, "backspace": tea.KeyBackspace, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown}
	switch code, special := codes[name]; {
	case special:
		return tea.KeyPressMsg{Code: code}
	case name == "space":
		return tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
	case strings.HasPrefix(name, "shift+"):
		return tea.KeyPressMsg{Code: codes[strings.TrimPrefix(name, "shift+")], Mod: tea.ModShift}
	case name == "ctrl+p":
		return tea.KeyPressMsg{Code: 'p', Mod: tea.ModCtrl}
	}
	return tea.KeyPressMsg{Code: []rune(name)[0], Text: name}
}

// Host shows one view, without a shell around it.
type Host struct {
	Said   string
	Panel  view.Panel
	Turned string
	client *api.Client
	ground ui.Ground
}

// Env returns what a view has of a host, on a screen of a size with services.
func Env(client *api.Client, width, height int, services ...api.Status) (*view.Env, *Host) {
	h := &Host{client: client, ground: ui.NewGround()}
	s := &view.State{Services: map[string]api.Status{}, Now: time.Now(), Width: width, Height: height}
	for _, st := range services {
		s.Services[st.Name] = st
		s.Order = append(s.Order, st.Name)
	}
	return &view.Env{Host: h, State: s, Instance: 1}, h
}

// Theme returns the colours.
func (h *Host) Theme() *ui.Theme { return h.ground.Theme }

// Context never ends.
func (h *Host) Context() context.Context { return context.Background() }

// Client returns the client that Env was given.
func (h *Host) Client() *api.Client { return h.client }

// Visit remembers where it was left for.
func (h *Host) Visit(dir string) tea.Cmd {
	h.Turned = dir
	return nil
}

// Say remembers what was said last.
func (h *Host) Say(text string, _ bool) { h.Said = text }

// Show remembers the panel.
func (h *Host) Show(p view.Panel) { h.Panel = p }

// Shown returns the panel.
func (h *Host) Shown() view.Panel { return h.Panel }

// Turn remembers where to.
func (h *Host) Turn(id string, _ any) tea.Cmd {
	h.Turned = id
	return nil
}

// Await asks at once.
func (h *Host) Await(ask func(context.Context, *api.Client) (func() tea.Cmd, error)) tea.Cmd {
	show, err := ask(context.Background(), h.client)
	if err != nil {
		h.Said = err.Error()
		return nil
	}
	return show()
}

// CheckAgain does nothing.
func (h *Host) CheckAgain() tea.Cmd { return nil }

// Renew does nothing.
func (h *Host) Renew() tea.Cmd { return nil }

// Apply does nothing.
func (h *Host) Apply() tea.Cmd { return nil }

// Leave remembers it as a turn to "".
func (h *Host) Leave() tea.Cmd {
	h.Turned = "left"
	return nil
}
