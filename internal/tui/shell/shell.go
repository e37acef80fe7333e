// Package shell is the frame of the full screen: the connection to the keeper,
// the header with the row of views, the key bar, panels, the help and the
// finder. It knows no view.
package shell

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/term"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Options are what the shell works with.
type Options struct {
	// Project names the project until the keeper has told its name.
	Project string
	// Views are what there is to open, the first one of them at once.
	Views []view.Spec
	// Client talks to the project's keeper; nil: there is none.
	Client *api.Client
	// Connect finds the keeper again, or starts a new one, when it is lost.
	Connect func(context.Context) (*api.Client, error)
	// Refresh replaces the keeper after a change of the declaration, if nothing
	// runs; otherwise it returns the client that it got.
	Refresh func(context.Context, *api.Client) (*api.Client, error)
}

// Left says how the user left.
type Left struct {
	Stopped           bool // everything was stopped, and the keeper ended
	Running, Services int
	Next              string // the folder of the project to go on with
}

// The least size of the screen.
const (
	MinWidth  = 60
	MinHeight = 16
)

// checkPause is how long services must have been settled before the checks
// are made again.
const checkPause = 1500 * time.Millisecond

// Model is the state of the shell. It is changed only by Update. It is the
// view.Host of its views.
type Model struct {
	ctx    context.Context
	client *api.Client
	opts   Options
	ground ui.Ground
	state  view.State

	fresh bool // the next event is the first of a stream, with everything
	// refreshing says that the keeper is being replaced, so that its end is
	// no loss.
	refreshing bool
	// cut says that its events ended meanwhile.
	cut   bool
	found bool // the keeper answers again after it did not

	view     view.View
	spec     view.Spec
	instance int // of the open view
	panel    view.Panel
	// asking says that a question is on its way: the keys pressed until it is
	// there are for it, and not for what lies below.
	asking bool
	typed  []tea.KeyPressMsg

	checkAt    time.Time // when to check again; zero: not by itself
	flash      string    // a note on the key bar
	flashBad   bool
	flashUntil time.Time
	left       Left
	begin      tea.Cmd // of the first view
}

// New returns the shell with its first view open.
func New(ctx context.Context, opts Options) *Model {
	m := &Model{ctx: ctx, client: opts.Client, opts: opts, ground: ui.NewGround(),
		fresh: true, state: view.State{Services: map[string]api.Status{}, Now: time.Now()}}
	m.state.Overview.Project = opts.Project
	m.begin = m.Turn(opts.Views[0].ID, nil)
	return m
}

// Run shows the full screen until the user leaves.
func Run(ctx context.Context, opts Options) (Left, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m := New(ctx, opts)
	// A key is answered at the next of the frames, so there are many of them.
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithFPS(120))
	if term.IsTerminal(os.Stdin.Fd()) { // else keys come from elsewhere
		go func() {
			if gone(ctx, os.Stdin) {
				p.Quit()
			}
		}()
	}
	_, err := p.Run()
	if err != nil && !errors.Is(err, tea.ErrInterrupted) {
		return Left{}, fmt.Errorf("the full screen failed: %w", err)
	}
	m.left.Services = len(m.state.Services)
	for _, s := range m.state.Services {
		if s.State.Running() {
			m.left.Running++
		}
	}
	return m.left, nil
}

type tickMsg time.Time

// Init begins to listen to the keeper.
func (m *Model) Init() tea.Cmd {
	cmds := []tea.Cmd{tea.RequestBackgroundColor, tick(), m.begin}
	if m.client != nil {
		cmds = append(cmds, m.listen(m.client))
	}
	return tea.Batch(cmds...)
}

func tick() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	cmd := m.take(msg)
	m.fit()
	return m, cmd
}

// fit tells the view the room that it has.
func (m *Model) fit() {
	if m.roomy() {
		m.view.Fit(m.state.Width, m.rows())
	}
}

// roomy reports whether the screen is large enough.
func (m *Model) roomy() bool {
	return m.state.Width >= MinWidth && m.state.Height >= MinHeight
}

func (m *Model) take(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.state.Width, m.state.Height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.ground.Told(msg)
	case tea.ColorProfileMsg:
		m.ground.Profiled(msg)
	case tickMsg:
		m.state.Now = time.Time(msg)
		m.ground.Decided = true // a terminal that has not answered by now won't
		if !m.checkAt.IsZero() && m.state.Now.After(m.checkAt) {
			return tea.Batch(tick(), m.CheckAgain())
		}
		return tea.Batch(tick(), m.view.Update(view.Tick{At: m.state.Now}))
	case connectedMsg:
		return m.connected(msg)
	case eventMsg:
		return m.event(msg)
	case Findings:
		return m.checked(msg)
	case view.Answer:
		if msg.Instance == m.instance {
			return m.view.Update(msg.Msg)
		}
	case view.Later:
		return msg()
	case awaitedMsg:
		return m.awaited(msg)
	case tea.KeyPressMsg:
		return m.key(msg)
	case tea.MouseClickMsg:
		return m.click(msg)
	case tea.MouseWheelMsg:
		if m.panel == nil && m.roomy() {
			return m.view.Update(msg)
		}
	case tea.PasteMsg:
		if p, ok := m.panel.(interface{ Paste(tea.PasteMsg) }); ok {
			p.Paste(msg)
			return nil
		}
		return m.view.Update(msg)
	}
	return nil
}

// env returns what a view of the instance has of the shell.
func (m *Model) env(instance int) *view.Env {
	return &view.Env{Host: m, State: &m.state, Instance: instance}
}

// Theme returns the colours.
func (m *Model) Theme() *ui.Theme { return m.ground.Theme }

// Context ends with the full screen.
func (m *Model) Context() context.Context { return m.ctx }

// Client returns the client of the keeper that answered last.
func (m *Model) Client() *api.Client { return m.client }

// Say puts a note on the key bar for a while.
func (m *Model) Say(text string, bad bool) {
	if text == "" {
		return
	}
	m.flash, m.flashBad, m.flashUntil = text, bad, time.Now().Add(4*time.Second)
	if bad {
		m.flashUntil = time.Now().Add(10 * time.Second)
	}
}

// Show puts a panel over the view; nil takes it away.
func (m *Model) Show(p view.Panel) { m.panel = p }

// Shown returns the panel that is shown, or nil.
func (m *Model) Shown() view.Panel { return m.panel }

// Turn opens another view.
func (m *Model) Turn(id string, args any) tea.Cmd {
	i := slices.IndexFunc(m.opts.Views, func(s view.Spec) bool { return s.ID == id })
	if i < 0 {
		return nil
	}
	if m.view != nil {
		m.view.Close()
	}
	m.instance++
	m.spec = m.opts.Views[i]
	var cmd tea.Cmd
	m.view, cmd = m.spec.New(m.env(m.instance), args)
	return cmd
}

// Visit leaves for another project.
func (m *Model) Visit(dir string) tea.Cmd {
	m.left.Next = dir
	return tea.Quit
}

// Leave ends the interface.
func (m *Model) Leave() tea.Cmd { return tea.Quit }

// leaveStopped asks, and then stops everything and leaves.
func (m *Model) leaveStopped() tea.Cmd {
	n := len(m.state.Running(m.state.Order))
	if n == 0 {
		return m.stopAndQuit()
	}
	text := fmt.Sprintf("%d services run and will be stopped. Data is kept.", n)
	if n == 1 {
		text = "1 service runs and will be stopped. Data is kept."
	}
	m.panel = &panel.Question{Env: m.env(0), Title: "Stop everything and leave?", Text: text, Yes: "stop and leave", Then: m.stopAndQuit}
	return nil
}

func (m *Model) stopAndQuit() tea.Cmd {
	m.Say("stopping everything", false)
	m.flashUntil = m.flashUntil.Add(view.StopLimit)
	m.left.Stopped = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, view.StopLimit)
		defer cancel()
		if _, err := client.Stop(ctx); err != nil {
			return view.Later(func() tea.Cmd {
				m.left.Stopped = false
				m.Say(err.Error(), true)
				return nil
			})
		}
		return tea.Quit()
	}
}

// good reports whether a state is where a start is meant to lead.
func good(s supervise.State) bool { return s == supervise.Ready || s == supervise.Finished }
