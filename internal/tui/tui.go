// Package tui is the full-screen interface. It asks the keeper for
// everything that it shows, and computes nothing about services itself.
package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
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
	_, err := tea.NewProgram(m, tea.WithContext(ctx)).Run()
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
	theme  *theme
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
	grounded   bool   // the ground is decided

	selected         string
	scrollX, scrollY int
	chart            *mapView
	filter           string
	filtering        bool
	reveal           bool // secrets are shown
	panel            panel
	log              *logView // shown instead of the map if not nil
	page             page     // another view instead of the map, or nil

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
		theme: newTheme(os.Getenv(groundVariable) != "light"), grounded: os.Getenv(groundVariable) != ""}
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
		if os.Getenv(groundVariable) == "" {
			m.theme = newTheme(msg.IsDark())
		}
		m.grounded = true
	case tickMsg:
		m.now = time.Time(msg)
		m.grounded = true // a terminal that has not answered by now won't
		if !m.checkAt.IsZero() && m.now.After(m.checkAt) {
			return m, tea.Batch(tick(), m.askChecks())
		}
		return m, tick()
	case connectedMsg:
		return m, m.connected(msg)
	case eventMsg:
		return m, m.event(msg)
	case logMsg:
		m.log.took(m, msg)
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
		if msg.err == nil {
			return m, msg.then(m, msg.along)
		}
		m.say(msg.err.Error(), true)
	case changesMsg:
		if msg.err != nil {
			text, _, _ := strings.Cut(msg.err.Error(), "\n")
			m.say(text, true)
		} else {
			m.panel = &changes{msg.effects}
		}
	case kindsMsg:
		if msg.err != nil {
			m.say(msg.err.Error(), true)
		} else {
			m.panel = newService(msg.kinds)
		}
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
	}
	return m, nil
}

func (m *model) connected(msg connectedMsg) tea.Cmd {
	if m.left.Stopped {
		return nil
	}
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
		if m.log != nil && m.log.service == s.Name {
			m.log.follow(s)
		}
	}
	if _, ok := m.services[m.added]; ok {
		m.choose(m.added)
		m.added = ""
	}
	m.selectFirst()
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

// View draws the screen.
func (m *model) View() tea.View {
	v := tea.NewView(strings.Join(m.screen(), "\n"))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	// Until the terminal has told its own ground, ours must not hide it. With
	// a ground of our own the colours are readable on any terminal.
	if _, none := os.LookupEnv("NO_COLOR"); m.grounded && !none {
		v.BackgroundColor = m.theme.ground
	}
	v.WindowTitle = "Neighbour"
	if m.overview.Project != "" {
		v.WindowTitle = m.overview.Project + " · Neighbour"
	}
	return v
}

func (m *model) screen() []string {
	switch {
	case m.width == 0:
		return nil
	case m.width < minWidth || m.height < minHeight:
		return m.tooSmall()
	}
	var body []string
	rows := m.height - headerRows - keyRows
	switch {
	case m.log != nil:
		body = m.log.draw(m, rows)
	case m.page != nil:
		body = m.page.draw(m, rows)
		for i, l := range body {
			body[i] = Truncate(l, m.width)
		}
	default:
		body = m.mapAndDoorstep(rows)
	}
	if m.panel != nil {
		body = m.overlay(body, m.panel.draw(m))
	}
	out := append(m.header(), body...)
	for len(out) < m.height-keyRows {
		out = append(out, "")
	}
	return append(out[:m.height-keyRows], m.keyBar())
}

func (m *model) tooSmall() []string {
	text := fmt.Sprintf(`Neighbour needs a terminal of %d × %d; this one has %d × %d. Make it larger, or leave with q and use "neighbour status".`, minWidth, minHeight, m.width, m.height)
	lines := wrap(text, m.width)
	return lines[:min(len(lines), m.height)]
}

func (m *model) mapAndDoorstep(rows int) []string {
	v := m.arrange()
	mapRows := min(max(v.rows, 4)+1, rows-doorstepRows)
	return append(m.drawMap(mapRows), m.drawDoorstep(rows-mapRows)...)
}

// header is the project, how many services are in which state, and how long
// the start takes or took.
func (m *model) header() []string {
	t := m.theme
	leftSide := "  " + t.paint(strong, m.overview.Project)
	if m.log != nil {
		leftSide += t.paint(faint, " · ") + t.paint(accent, m.log.service) + t.paint(faint, " log")
	}
	if m.page != nil {
		leftSide += t.paint(faint, " · ") + t.paint(accent, m.page.title())
	}
	if m.filter != "" || m.filtering {
		cursor := ""
		if m.filtering {
			cursor = "▏"
		}
		leftSide += t.paint(faint, "   only ") + t.paint(accent, m.filter+cursor)
	}
	right := m.summary(false)
	if Width(right)+Width(m.overview.Project)+8 > m.width {
		right = m.summary(true)
	}
	took := ""
	switch {
	case m.lost:
		right = t.paint(stateBad, "✖ the keeper does not answer; trying again")
	case !m.overview.Began.IsZero() && m.overview.Took == 0:
		took = t.paint(plain, fmt.Sprintf("%9s", keep.Span(m.now.Sub(m.overview.Began))))
	case m.overview.Took > 0:
		took = t.paint(faint, "   start took ") + t.paint(plain, keep.Millis(float64(m.overview.Took.Milliseconds())))
	}
	if Width(leftSide)+Width(right)+Width(took)+3 <= m.width {
		right += took
	}
	if free := m.width - Width(right) - 2; Width(leftSide) > free {
		leftSide = Truncate(leftSide, free)
	}
	gap := max(1, m.width-Width(leftSide)-Width(right)-2)
	second := ""
	switch {
	case m.overview.Mistake != "":
		second = "  " + t.paint(stateBad, "✖ "+Truncate("a mistake, so nothing is changed: "+Plain(m.overview.Mistake), m.width-6))
	case m.overview.Changed:
		second = "  " + t.paint(stateWarn, "▲ neighbour.toml has changed: ") + t.paint(accent, "a") + t.paint(stateWarn, " shows what that means for what runs")
	case m.overview.Warning != "":
		second = "  " + t.paint(stateWarn, "▲ "+Truncate(Plain(m.overview.Warning), m.width-6))
	}
	return []string{leftSide + strings.Repeat(" ", gap) + right, second}
}

// summary counts the services by state, in a tight place without the words.
func (m *model) summary(tight bool) string {
	t := m.theme
	counts := map[keep.State]int{}
	good := 0
	for _, s := range m.services {
		counts[s.State]++
		if s.State == keep.Ready || s.State == keep.Finished {
			good++
		}
	}
	if len(m.services) == 0 {
		return ""
	}
	out := t.paint(strong, fmt.Sprintf("%d of %d ready", good, len(m.services)))
	for _, state := range []keep.State{keep.Preparing, keep.Starting, keep.Waiting, keep.Stopping, keep.Ailing, keep.Failed, keep.Stopped} {
		if n := counts[state]; n > 0 {
			text := fmt.Sprintf("%s %d %s", Shape(state), n, state)
			if tight {
				text = fmt.Sprintf("%s %d", Shape(state), n)
			}
			out += t.paint(faint, " · ") + t.paint(stateInk(state), text)
		}
	}
	return out
}

// keyBar lists the keys that work now, or shows a note.
func (m *model) keyBar() string {
	t := m.theme
	if m.flash != "" && time.Now().Before(m.flashUntil) {
		in := plain
		if m.flashBad {
			in = stateBad
		}
		return "  " + t.paint(in, Truncate(Plain(m.flash), m.width-4))
	}
	bindings := m.bindings()
	bar := func() string {
		out := " "
		for _, b := range bindings {
			out += " " + t.paint(accent, b.key) + " " + t.paint(faint, b.does) + " "
		}
		return out
	}
	// What doesn't fit is left to the help, what is asked for least first.
	for len(bindings) > 0 && Width(bar()) > m.width {
		least := slices.MaxFunc(bindings, func(a, b binding) int { return a.spare - b.spare })
		bindings = slices.DeleteFunc(bindings, func(b binding) bool { return b == least })
	}
	return bar()
}

// overlay puts a panel into the middle of the body.
func (m *model) overlay(body, box []string) []string {
	if len(box) == 0 {
		return body
	}
	width := 0
	for _, l := range box {
		width = max(width, Width(l))
	}
	x := max(0, (m.width-width)/2)
	y := max(0, (len(body)-len(box))/3)
	out := append([]string(nil), body...)
	for i, l := range box {
		if y+i >= len(out) {
			break
		}
		under := pad(out[y+i], m.width)
		right := cut(under, x+width, m.width)
		if Width(right) > m.width-x-width { // half of a wide character
			right = " " + cut(under, x+width+1, m.width)
		}
		out[y+i] = pad(cut(under, 0, x), x) + pad(l, width) + right
	}
	return out
}
