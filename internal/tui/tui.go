// Package tui is the full-screen interface. It asks the keeper for
// everything that it shows, and computes nothing about services itself.
package tui

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/check"
	"neighbour/internal/core/keep"
)

// Options are what the interface works with.
type Options struct {
	// Client talks to the project's keeper.
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
}

// Run shows the interface until the user leaves.
func Run(ctx context.Context, opts Options) (Left, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m := newModel(ctx, opts)
	// A key is answered at the next of the frames, so there are many of them.
	_, err := tea.NewProgram(m, tea.WithContext(ctx), tea.WithFPS(120)).Run()
	if err != nil && !errors.Is(err, tea.ErrInterrupted) {
		return Left{}, fmt.Errorf("the full screen failed: %w", err)
	}
	m.left.Services = len(m.services)
	for _, s := range m.services {
		if s.State.Running() {
			m.left.Running++
		}
	}
	return m.left, nil
}

// Rows of the screen that are no view's.
const (
	headerRows = 2
	keyRows    = 1
	minWidth   = 60
	minHeight  = 16
)

// callLimit is how long a request to the keeper may take, stopping aside.
const callLimit = 10 * time.Second

// stopLimit is how long stopping may take: every grace, one after another.
const stopLimit = 5 * time.Minute

// checkPause is how long services must have been settled before the checks
// are made again.
const checkPause = 1500 * time.Millisecond

// model is the state of the interface. It is changed only by Update.
type model struct {
	ctx    context.Context
	client *api.Client
	opts   Options
	ground
	width  int
	height int
	now    time.Time

	overview keep.Overview
	services map[string]api.Status
	order    []string // by step and name
	lost     bool     // the keeper doesn't answer
	fresh    bool     // the next event is the first of a stream, with everything
	// refreshing says that the keeper is being replaced, so that its end is
	// no loss.
	refreshing bool
	added      string // a service to select as soon as it is there

	selected         string
	scrollX, scrollY int
	chart            *mapView
	filter           string
	filtering        bool
	reveal           bool // secrets are shown
	// asking says that a question is on its way: the keys pressed until it is
	// there are for it, and not for what lies below.
	asking bool
	typed  []tea.KeyPressMsg
	panel  panel
	page   page // another view instead of the map, or nil

	findings   []check.Finding
	checking   bool
	checkErr   string
	checkTook  time.Duration
	checkAt    time.Time // when to check again; zero: not by itself
	flash      string    // a note on the key bar
	flashBad   bool
	flashUntil time.Time
	left       Left
}

func newModel(ctx context.Context, opts Options) *model {
	return &model{ctx: ctx, client: opts.Client, opts: opts, services: map[string]api.Status{}, now: time.Now(),
		ground: newGround()}
}

// Messages.
type (
	eventMsg struct {
		events   *api.Events
		snapshot api.Snapshot
		err      error
	}
	connectedMsg struct {
		client *api.Client
		events *api.Events
		err    error
	}
	tickMsg time.Time
	// doneMsg is the end of a request to the keeper.
	doneMsg struct{ err error }
)

// Init begins to listen to the keeper.
func (m *model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, m.listen(m.client), tick())
}

func tick() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// listen opens the stream of events.
func (m *model) listen(c *api.Client) tea.Cmd {
	return func() tea.Msg {
		events, err := c.Events(m.ctx)
		return connectedMsg{c, events, err}
	}
}

// reconnect tries to reach the keeper again after a moment.
func (m *model) reconnect() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(time.Time) tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		c, err := m.opts.Connect(ctx)
		if err != nil {
			return connectedMsg{err: err}
		}
		events, err := c.Events(m.ctx)
		return connectedMsg{c, events, err}
	})
}

func next(events *api.Events) tea.Cmd {
	return func() tea.Msg {
		s, err := events.Next()
		return eventMsg{events, s, err}
	}
}

// call asks the keeper for something, with a time limit.
func (m *model) call(limit time.Duration, do func(context.Context) error) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, limit)
		defer cancel()
		return doneMsg{do(ctx)}
	}
}

// Update takes a message.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.told(msg)
	case tea.ColorProfileMsg:
		m.profiled(msg)
	case tickMsg:
		m.now = time.Time(msg)
		m.decided = true // a terminal that has not answered by now won't
		if !m.checkAt.IsZero() && m.now.After(m.checkAt) {
			return m, tea.Batch(tick(), m.askChecks())
		}
		return m, tick()
	case connectedMsg:
		return m, m.connected(msg)
	case eventMsg:
		return m, m.event(msg)
	case logsMsg:
		if v, ok := m.page.(*logsView); ok {
			return m, v.took(m, msg)
		}
	case logsGrownMsg:
		if v, ok := m.page.(*logsView); ok && msg.turn == v.turn {
			return m, v.grown(m)
		}
	case tallyMsg:
		if v, ok := m.page.(*logsView); ok {
			return m, v.tallied(msg)
		}
	case savedMsg:
		if msg.err != nil {
			m.say("not saved: "+msg.err.Error(), true)
		} else {
			m.say(fmt.Sprintf("saved %s entries to %s", grouped(int64(msg.n)), msg.path), false)
		}
	case doneMsg:
		if msg.err != nil {
			m.say(msg.err.Error(), true)
		}
	case stopFailedMsg:
		m.left.Stopped = false
		m.say(msg.err.Error(), true)
	case checksMsg:
		m.checked(msg)
	case wiringMsg:
		if v, ok := m.page.(*wiringView); ok {
			v.took(msg)
		}
	case remediedMsg:
		if msg.err != nil {
			m.say(msg.err.Error(), true)
		} else {
			m.say(msg.says, false)
		}
		return m, tea.Batch(m.askChecks(), m.refresh())
	case alongMsg:
		return m, m.answered(msg.err, func() tea.Cmd { return msg.then(m, msg.along) })
	case changesMsg:
		return m, m.answered(msg.err, func() tea.Cmd {
			m.panel = &changes{msg.effects}
			return nil
		})
	case kindsMsg:
		return m, m.answered(msg.err, func() tea.Cmd {
			m.panel = newService(msg.kinds)
			return nil
		})
	case editedMsg:
		return m, m.edited(msg)
	case refreshedMsg:
		m.refreshing = false
		if msg.err != nil {
			m.say(msg.err.Error(), true)
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	case tea.MouseClickMsg:
		return m, m.click(msg)
	case tea.MouseWheelMsg:
		return m, m.wheel(msg)
	case tea.PasteMsg:
		if m.filtering {
			m.setFilter(m.filter + msg.Content)
		}
		if v, ok := m.page.(*logsView); ok && v.prompt != nil {
			v.prompt.input, _ = v.prompt.input.Update(msg)
		}
	}
	return m, nil
}

func (m *model) connected(msg connectedMsg) tea.Cmd {
	if m.left.Stopped {
		return nil
	}
	m.asking, m.typed = false, nil
	if msg.err != nil {
		m.lost = true
		return m.reconnect()
	}
	if m.lost {
		m.say("the keeper answers again", false)
	}
	m.lost, m.refreshing, m.fresh = false, false, true
	m.client = msg.client
	return tea.Batch(next(msg.events), m.askChecks())
}

func (m *model) event(msg eventMsg) tea.Cmd {
	if msg.err != nil {
		msg.events.Close()
		if m.left.Stopped || m.ctx.Err() != nil || m.refreshing {
			return nil
		}
		m.lost = true
		return m.reconnect()
	}
	m.now = time.Now()
	m.overview = msg.snapshot.Overview
	if m.fresh {
		m.fresh = false
		m.order = m.order[:0]
		clear(m.services)
		for _, s := range msg.snapshot.Services {
			m.order = append(m.order, s.Name)
		}
		m.chart = nil
	}
	for _, s := range msg.snapshot.Services {
		before, known := m.services[s.Name]
		m.services[s.Name] = s
		if before.State != s.State && s.State.Settled() {
			// What is there now may have changed what the checks find.
			m.checkAt = time.Now().Add(checkPause)
		}
		if m.filter != "" && known && before.State != s.State {
			m.chart = nil
		}
	}
	if _, ok := m.services[m.added]; ok {
		m.choose(m.added)
		m.added = ""
	}
	m.selectFirst()
	if v, ok := m.page.(*logsView); ok {
		return tea.Batch(next(msg.events), v.grown(m))
	}
	return next(msg.events)
}

// say puts a note on the key bar for a while.
func (m *model) say(text string, bad bool) {
	if text == "" {
		return
	}
	m.flash, m.flashBad, m.flashUntil = text, bad, time.Now().Add(4*time.Second)
	if bad {
		m.flashUntil = time.Now().Add(10 * time.Second)
	}
}
