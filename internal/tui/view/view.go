// Package view says what a view of the full screen is, and what it has of the
// shell that shows it. A view is a folder below views, and one line in
// views.All.
package view

import (
	"context"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/tui/ui"
)

// Spec is what the shell knows of a view before it is open.
type Spec struct {
	ID    string
	Title string
	// Key opens the view from everywhere, "" if nothing but another view does.
	Key string
	// Count returns what stands beside the title in the row of views, "" for
	// nothing; nil: nothing ever.
	Count func(*State) string
	// New opens the view. What the arguments are the view says; nil is always
	// allowed.
	New func(e *Env, args any) (View, tea.Cmd)
	// Commands are what the finder offers of the view although it isn't open;
	// nil: nothing.
	Commands func(*Env) []Command
}

// View is a view that is open. Its methods are called from one goroutine.
type View interface {
	// Update takes a message: Changed, Checked, the wheel of the mouse, a paste,
	// the answers to what the view asked, and, while it is Typing, keys.
	Update(tea.Msg) tea.Cmd
	// Fit tells the room there is, before each Render. Here a view scrolls so
	// that what is selected is in sight.
	Fit(width, height int)
	// Render returns what is seen. It changes nothing.
	Render() Drawing
	// Bindings are the keys of the view: what they do, and how the key bar, the
	// help and the finder show it.
	Bindings() []Binding
	// Typing reports whether the view takes a text now, so that no other key
	// than its own enabled bindings and ctrl+c reaches past it.
	Typing() bool
	// Close ends what the view has under way.
	Close()
}

// Still is a part of views that only keep their size: they take no text, and
// have nothing to end.
type Still struct {
	Columns, Rows int // the room there is
}

// Fit tells the room there is.
func (s *Still) Fit(width, height int) { s.Columns, s.Rows = width, height }

// Typing reports whether the view takes a text: it never does.
func (*Still) Typing() bool { return false }

// Close ends nothing.
func (*Still) Close() {}

// Wheel returns by how many rows the mouse's wheel was turned, down being
// positive; 0 if the message is none of the wheel's.
func Wheel(msg tea.Msg) int {
	if w, ok := msg.(tea.MouseWheelMsg); ok {
		switch w.Button {
		case tea.MouseWheelUp:
			return -1
		case tea.MouseWheelDown:
			return 1
		}
	}
	return 0
}

// Drawing is what is seen of a view.
type Drawing struct {
	Lines []string
	Spots []Spot
	// Note stands in the header beside the project.
	Note string
}

// Spot is a part of a drawing that can be clicked.
type Spot struct {
	X, Y, Width, Height int
	Click               func() tea.Cmd
}

// Hit reports whether a cell is in the spot.
func (s Spot) Hit(x, y int) bool {
	return x >= s.X && x < s.X+s.Width && y >= s.Y && y < s.Y+s.Height
}

// Panel is a box over the view that takes the keys while it is there.
type Panel interface {
	Render() []string
	Bindings() []Binding
	// Type takes a key that no binding is for.
	Type(tea.KeyPressMsg) tea.Cmd
}

// Command is something that can be done now, as the finder lists it.
type Command struct {
	Says string // "restart api"
	Key  string // how else it is done, in its own view; "" by nothing else
	// On is the service that must be selected for the key to do it; "" if it does it anyway.
	On string
	// Also are other words for it, by which it is found, too.
	Also string
	Do   func() tea.Cmd
}

// State is what the keeper has told. The shell keeps it; views read it.
type State struct {
	Overview api.Overview
	Services map[string]api.Status
	Order    []string // by step and name
	Lost     bool     // the keeper doesn't answer
	Now      time.Time

	Findings  []check.Finding
	Checking  bool
	CheckErr  string
	CheckTook time.Duration

	// Selected is the service that the views speak of.
	Selected string
	// Width and Height are the whole screen's.
	Width, Height int
}

// Finding returns the worst that was found of a service, if it is worth a mark.
func (s *State) Finding(service string) (check.Finding, bool) {
	for _, f := range s.Findings {
		if f.Service == service && f.Level != check.Note {
			return f, true
		}
	}
	return check.Finding{}, false
}

// Running returns those of some services that run, or are about to.
func (s *State) Running(names []string) []string {
	var out []string
	for _, n := range names {
		switch s.Services[n].State {
		case supervise.Stopped, supervise.Failed, supervise.Finished, "":
		default:
			out = append(out, n)
		}
	}
	return out
}

// Changed says that the state has changed. Fresh: all of it, as after a keeper
// was found again; Moved: some service is in another state.
type Changed struct{ Fresh, Moved bool }

// Tick comes twice a second, for what goes on by itself.
type Tick struct{ At time.Time }

// Checked says that the findings are new.
type Checked struct{}

// Host is the shell, as views and panels use it.
type Host interface {
	Theme() *ui.Theme
	Context() context.Context
	Client() *api.Client
	// Say puts a note on the key bar for a while.
	Say(text string, bad bool)
	// Show puts a panel over the view; nil takes it away.
	Show(Panel)
	// Shown returns the panel that is shown, or nil.
	Shown() Panel
	// Turn opens another view.
	Turn(id string, args any) tea.Cmd
	// Await asks the keeper for what a question needs. The keys that are pressed
	// until it is there are for the question, which ask returns to be shown.
	Await(ask func(context.Context, *api.Client) (show func() tea.Cmd, err error)) tea.Cmd
	// CheckAgain makes the checks.
	CheckAgain() tea.Cmd
	// Renew lets the keeper be replaced by one that has read the declaration as
	// it is now, if it has changed and nothing runs.
	Renew() tea.Cmd
	// Apply has the changed declaration applied to what runs.
	Apply() tea.Cmd
	// Visit leaves for another project, by its folder.
	Visit(dir string) tea.Cmd
	// Leave ends the interface.
	Leave() tea.Cmd
}

// Env is what a view has of the shell: the shell itself, and what the keeper
// has told.
type Env struct {
	Host
	*State
	Instance int // of the view; 0 for what outlives views
}

// Answer brings a view what it asked for. That of a view which was closed
// meanwhile is dropped.
type Answer struct {
	Instance int
	Msg      tea.Msg
}

// Later is a message that is carried out when it arrives, whatever is open by
// then.
type Later func() tea.Cmd

// Limits of how long a request may take: those that change nothing, and those
// that may have to wait for every grace of services, one after another.
const (
	CallLimit = 10 * time.Second
	StopLimit = 5 * time.Minute
)

// Ask asks the keeper in the background; the message that ask returns comes to
// the view that asked.
func (e *Env) Ask(limit time.Duration, ask func(context.Context, *api.Client) tea.Msg) tea.Cmd {
	client, from, ctx := e.Client(), e.Instance, e.Context()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		return Answer{from, ask(ctx, client)}
	}
}

// Call has the keeper do something; how it ended is told, whatever is open by
// then.
func (e *Env) Call(limit time.Duration, do func(context.Context, *api.Client) error) tea.Cmd {
	client, ctx := e.Client(), e.Context()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		err := do(ctx, client)
		return Later(func() tea.Cmd {
			if err != nil {
				e.Say(err.Error(), true)
			}
			return nil
		})
	}
}
