package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"neighbour/internal/api"
	"neighbour/internal/browser"
	"neighbour/internal/core/keep"
)

func cut(s string, from, to int) string { return ansi.Cut(s, from, to) }

// binding is a key with what it does, as the key bar and the help show it.
type binding struct {
	key, does string
	// spare says how soon it is left out where there is no room.
	spare int
}

func key(k, does string) binding { return binding{key: k, does: does} }

func spare(n int, k, does string) binding { return binding{key: k, does: does, spare: n} }

// bindings returns the keys that make sense now.
func (m *model) bindings() []binding {
	switch {
	case m.panel != nil:
		return m.panel.bindings()
	case m.filtering:
		return []binding{key("type", "name, kind or state"), key("enter", "keep"), key("esc", "show all")}
	case m.page != nil:
		return m.page.bindings(m)
	}
	s := m.services[m.selected]
	var out []binding
	running := s.State.Running() || s.State == keep.Waiting || s.State == keep.Preparing
	if !running {
		out = append(out, key("s", "start"))
	} else {
		out = append(out, key("r", "restart"), key("t", "stop"))
	}
	if m.overview.Changed {
		out = append(out, key("a", "apply the change"))
	}
	out = append(out, spare(6, "S R T", "more of them"), key("enter", "log"), spare(4, "2", "logs"))
	if len(s.Facts) > 0 {
		out = append(out, spare(2, "c", "copy"))
	}
	if pageOf(s) != "" && s.State == keep.Ready {
		out = append(out, spare(3, "o", "open page"))
	}
	if hasSecret(s) {
		does := "show password"
		if m.reveal {
			does = "hide password"
		}
		out = append(out, spare(3, "v", does))
	}
	out = append(out, spare(8, "e n x", "change, add, remove"), spare(7, "3", "wiring"), spare(1, "7", "checks"))
	return append(out, spare(4, "/", "filter"), key("?", "help"), key("q", "leave"), spare(5, "Q", "stop all and leave"))
}

func hasSecret(s api.Status) bool {
	return slices.ContainsFunc(s.Facts, func(f keep.Fact) bool { return f.Secret })
}

// key takes a key.
func (m *model) key(k tea.KeyPressMsg) tea.Cmd {
	pressed := k.String()
	if pressed == "ctrl+c" {
		return tea.Quit
	}
	if m.width < minWidth || m.height < minHeight {
		if pressed == "q" {
			return tea.Quit
		}
		return nil
	}
	if m.asking {
		m.typed = append(m.typed, k)
		return nil
	}
	m.flash = ""
	switch {
	case m.panel != nil:
		return m.panel.key(m, k)
	case m.filtering:
		m.filterKey(k)
		return nil
	}
	logs, onLogs := m.page.(*logsView)
	if onLogs {
		if cmd, typed := logs.typed(m, k); typed {
			return cmd
		}
	}
	switch pressed {
	case "?":
		m.panel = &help{keys: helpKeys}
		if onLogs {
			m.panel = &help{keys: logsHelp}
		}
		return nil
	case "q":
		return tea.Quit
	case "Q":
		return m.leaveStopped()
	}
	if cmd, ok := m.turnTo(pressed); ok {
		return cmd
	}
	if m.page != nil {
		if pressed == "esc" {
			if !onLogs || !logs.back() {
				m.turn(nil)
			}
			return nil
		}
		return m.page.key(m, pressed)
	}
	return m.mapKey(pressed)
}

// answered goes on with what was asked for a question, and gives the question
// the keys that were pressed meanwhile.
func (m *model) answered(err error, then func() tea.Cmd) tea.Cmd {
	typed := m.typed
	m.asking, m.typed = false, nil
	if err != nil {
		text, _, _ := strings.Cut(err.Error(), "\n")
		m.say(text, true)
		return nil
	}
	cmds := []tea.Cmd{then()}
	for _, k := range typed {
		if m.panel == nil {
			break // answered, or there was nothing to ask
		}
		cmds = append(cmds, m.key(k))
	}
	return tea.Batch(cmds...)
}

// turnTo opens the view that has a number key.
func (m *model) turnTo(pressed string) (tea.Cmd, bool) {
	switch pressed {
	case "1":
		m.turn(nil)
		return nil, true
	case "2":
		return m.openLogs(""), true
	case "3":
		m.turn(&wiringView{})
		return m.askWiring(), true
	case "7":
		v := &checksView{}
		if f, ok := m.finding(m.selected); ok {
			v.selected = f.ID
		}
		m.turn(v)
		return m.askChecks(), true
	}
	return nil, false
}

// turn shows another view; nil is the map.
func (m *model) turn(to page) {
	if v, ok := m.page.(*logsView); ok {
		v.stop()
	}
	m.page = to
}

// openLogs shows the logs of a service, or of all.
func (m *model) openLogs(service string) tea.Cmd {
	v := newLogs(service)
	m.turn(v)
	return v.anew(m)
}

func (m *model) mapKey(pressed string) tea.Cmd {
	s := m.services[m.selected]
	switch pressed {
	case "left":
		m.move(-1, 0)
	case "right":
		m.move(1, 0)
	case "up":
		m.move(0, -1)
	case "down":
		m.move(0, 1)
	case "tab":
		m.step(1)
	case "shift+tab":
		m.step(-1)
	case "/":
		m.filtering = true
	case "esc":
		m.setFilter("")
	case "v":
		m.reveal = !m.reveal && hasSecret(s)
	case "c":
		return m.copy(s)
	case "o":
		return m.openPage(s)
	case "enter":
		if s.Name != "" {
			return m.openLogs(s.Name)
		}
	case "s":
		return m.act(starting, s.Name)
	case "r":
		return m.act(restarting, s.Name)
	case "t":
		return m.askAlong(s.Name, (*model).stopOne)
	case "S":
		return m.askScope(starting, s.Name)
	case "R":
		return m.askScope(restarting, s.Name)
	case "T":
		return m.askScope(stopping, s.Name)
	case "e":
		if s.Name != "" {
			m.panel = editService(s)
		}
	case "a":
		if m.overview.Changed {
			return m.askChanges()
		}
	case "n":
		return m.askKinds()
	case "x":
		if s.Name != "" {
			return m.removeService(s)
		}
	}
	return nil
}

func (m *model) filterKey(k tea.KeyPressMsg) {
	switch k.String() {
	case "enter":
		m.filtering = false
	case "esc":
		m.filtering = false
		m.setFilter("")
	case "backspace":
		if r := []rune(m.filter); len(r) > 0 {
			m.setFilter(string(r[:len(r)-1]))
		}
	default:
		m.setFilter(m.filter + k.Text)
	}
}

func (m *model) setFilter(text string) {
	m.filter = Plain(text)
	m.chart = nil
	m.selectFirst()
}

func (m *model) click(msg tea.MouseClickMsg) tea.Cmd {
	if v, ok := m.page.(*logsView); ok && msg.Button == tea.MouseLeft && m.panel == nil {
		v.click(msg.Y - headerRows - 1)
	}
	if msg.Button != tea.MouseLeft || m.panel != nil || m.page != nil {
		return nil
	}
	if name := m.hit(msg.X, msg.Y); name != "" {
		m.choose(name)
	}
	return nil
}

func (m *model) wheel(msg tea.MouseWheelMsg) tea.Cmd {
	by := 3
	if msg.Button == tea.MouseWheelUp {
		by = -3
	} else if msg.Button != tea.MouseWheelDown {
		return nil
	}
	if v, ok := m.page.(*logsView); ok {
		return v.selectBy(m, by)
	}
	if m.page != nil {
		m.page.move(m, by/3)
		return nil
	}
	if by > 0 {
		m.step(1)
	} else {
		m.step(-1)
	}
	return nil
}

// action is something to do with services.
type action struct {
	verb, doing string
	// withDependents says that it takes along what needs a service; otherwise
	// it may take along what the service needs.
	withDependents bool
	limit          bool // it may take as long as stopping does
	call           func(ctx context.Context, c *api.Client, withNeeds bool, names []string) error
}

var (
	starting = &action{verb: "start", doing: "starting", call: func(ctx context.Context, c *api.Client, _ bool, names []string) error {
		_, err := c.Start(ctx, false, names...)
		return err
	}}
	restarting = &action{verb: "restart", doing: "restarting", limit: true, call: func(ctx context.Context, c *api.Client, withNeeds bool, names []string) error {
		_, err := c.Restart(ctx, withNeeds, false, names...)
		return err
	}}
	stopping = &action{verb: "stop", doing: "stopping", withDependents: true, limit: true, call: func(ctx context.Context, c *api.Client, _ bool, names []string) error {
		_, err := c.Stop(ctx, names...)
		return err
	}}
)

// act does something with one service.
func (m *model) act(a *action, names ...string) tea.Cmd { return m.do(a, false, names...) }

func (m *model) do(a *action, withNeeds bool, names ...string) tea.Cmd {
	if len(names) == 0 || names[0] == "" {
		return nil
	}
	if a != stopping && len(m.overview.Unknown) > 0 {
		return m.askUnknown(a, withNeeds, names)
	}
	return m.doIt(a, withNeeds, names)
}

// askUnknown asks before what the user has never had executed is.
func (m *model) askUnknown(a *action, withNeeds bool, names []string) tea.Cmd {
	q := &question{
		title: "Start for the first time?",
		text:  "You have not started this project on this machine before. It executes as you:",
		yes:   "start",
		list:  m.overview.Unknown,
		then:  func(m *model) tea.Cmd { return m.doIt(a, withNeeds, names) },
	}
	if !m.overview.First {
		q.title, q.text = "Execute what is new?", "This has come to the project since you last started it, and is executed as you:"
	}
	m.panel = q
	return nil
}

func (m *model) doIt(a *action, withNeeds bool, names []string) tea.Cmd {
	m.say(a.doing+" "+strings.Join(names, ", "), false)
	limit := callLimit
	if a.limit {
		limit = stopLimit
	}
	client := m.client
	return m.call(limit, func(ctx context.Context) error { return a.call(ctx, client, withNeeds, names) })
}

// alongMsg brings what else an operation on a service is about, for what is to
// follow.
type alongMsg struct {
	along keep.Along
	then  func(*model, keep.Along) tea.Cmd
	err   error
}

// askAlong asks the keeper what else an operation on a service is about.
func (m *model) askAlong(service string, then func(*model, keep.Along) tea.Cmd) tea.Cmd {
	if service == "" {
		return nil
	}
	m.asking = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		a, err := client.Along(ctx, service)
		return alongMsg{a, then, err}
	}
}

// stopOne stops a service; if others go with it, it asks.
func (m *model) stopOne(along keep.Along) tea.Cmd {
	name := along.Service
	if len(along.Running) == 0 {
		return m.act(stopping, name)
	}
	m.panel = &question{
		title: "Stop " + name + "?",
		text:  fmt.Sprintf("%s %s it and will be stopped, too. Data is kept.", strings.Join(along.Running, ", "), plural(len(along.Running), "needs", "need")),
		yes:   "stop them",
		then:  func(m *model) tea.Cmd { return m.act(stopping, name) },
	}
	return nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func (m *model) running(names []string) []string {
	return slices.DeleteFunc(names, func(n string) bool {
		s := m.services[n].State
		return s == keep.Stopped || s == keep.Failed || s == keep.Finished
	})
}

// leaveStopped asks, and then stops everything and leaves.
func (m *model) leaveStopped() tea.Cmd {
	n := len(m.running(slices.Clone(m.order)))
	if n == 0 {
		return m.stopAndQuit()
	}
	m.panel = &question{
		title: "Stop everything and leave?",
		text:  fmt.Sprintf("%d %s and will be stopped. Data is kept.", n, plural(n, "service runs", "services run")),
		yes:   "stop and leave",
		then:  (*model).stopAndQuit,
	}
	return nil
}

func (m *model) stopAndQuit() tea.Cmd {
	m.say("stopping everything", false)
	m.flashUntil = m.flashUntil.Add(stopLimit)
	m.left.Stopped = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, stopLimit)
		defer cancel()
		if _, err := client.Stop(ctx); err != nil {
			return stopFailedMsg{err}
		}
		return tea.Quit()
	}
}

// stopFailedMsg says that everything could not be stopped.
type stopFailedMsg struct{ err error }

// pageOf returns the address of a service's page, "" if it has none.
func pageOf(s api.Status) string {
	for _, f := range s.Facts {
		if strings.HasPrefix(f.Value, "http") && !f.Secret {
			return f.Value
		}
	}
	return ""
}

// openPage opens a service's page in the browser.
func (m *model) openPage(s api.Status) tea.Cmd {
	address := pageOf(s)
	switch {
	case address == "":
		m.say(s.Name+" has no page", false)
		return nil
	case s.State != keep.Ready:
		m.say(fmt.Sprintf("%s is %s, so its page is not there yet", s.Name, s.State), false)
		return nil
	}
	m.say("opening "+address, false)
	return func() tea.Msg { return doneMsg{browser.Open(address)} }
}

// copy puts a fact on the clipboard; if there are several it asks which.
func (m *model) copy(s api.Status) tea.Cmd {
	switch len(s.Facts) {
	case 0:
		return nil
	case 1:
		return m.copyFact(s, s.Facts[0])
	}
	m.panel = &copier{service: s.Name}
	return nil
}

func (m *model) copyFact(s api.Status, f keep.Fact) tea.Cmd {
	m.say(fmt.Sprintf("copied %s of %s", f.Name, s.Name), false)
	return tea.SetClipboard(f.Value)
}
