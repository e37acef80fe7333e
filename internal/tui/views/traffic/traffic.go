// Package traffic is the view of what passes the gate and between services: requests, calls,
// events and webhooks, the newest first, and the chosen one with its answer.
package traffic

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/browser"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/trust"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/views/logs"
)

// Spec describes the view. Its argument is a filter.
var Spec = view.Spec{ID: "traffic", Title: "traffic", Key: "9", New: open, Commands: commands}

func commands(e *view.Env) []view.Command {
	var out []view.Command
	for _, n := range e.Overview.Gate {
		if n.URL != "" {
			out = append(out, view.Command{Says: "open " + n.URL, Do: func() tea.Cmd { return openPage(e, n.URL) }})
		}
	}
	return out
}

// openPage opens an address in the browser, or says it where there is none.
func openPage(e *view.Env, address string) tea.Cmd {
	only := e.Overview.HTTPSOnly
	return func() tea.Msg {
		err := browser.Open(trust.Openable(e.Context(), address, only))
		return view.Later(func() tea.Cmd {
			if err != nil {
				e.Say(address+": "+err.Error(), true)
			} else {
				e.Say(address+" is opened", false)
			}
			return nil
		})
	}
}

// screen is the requests, and the chosen one.
type screen struct {
	*view.Env
	all      []traffic.Exchange // as they passed, the newest first
	aside    []traffic.Exchange // those that wait for a decision
	list     []traffic.Exchange // what is shown: those, and the others
	says     string
	problem  string
	loaded   bool
	asking   bool
	asked    time.Time
	more     bool // there are older ones
	selected int64
	top      int
	follow   bool // the newest is chosen

	whole     traffic.Shown
	wholeOpen bool  // when it was asked for, it was under way
	wanted    int64 // what is asked for of details
	inside    bool  // the details are scrolled
	scrolled  int
	secrets   bool // they are shown
	other     *traffic.Shown

	routes  []traffic.RouteSummary // nil: they are not shown
	summing bool

	triggers triggers

	filter *textinput.Model // while it is typed
	only   string

	columns, rows int
}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &screen{Env: e, follow: true}
	v.only, _ = args.(string)
	return v, v.load()
}

type (
	listMsg struct {
		only string
		t    control.Traffic
		err  error
		old  bool // they belong behind those that are there
	}
	wholeMsg struct {
		id    int64
		shown traffic.Shown
		err   error
	}
	routesMsg struct {
		all []traffic.RouteSummary
		err error
	}
	replayedMsg struct {
		shown traffic.Shown
		err   error
	}
)

const pageRows = 300

func (v *screen) load() tea.Cmd {
	v.asking, v.asked = true, time.Now()
	only := v.only
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		t, err := c.Traffic(ctx, only, 0, pageRows)
		return listMsg{only, t, err, false}
	})
}

// older has those before the ones that are there come.
func (v *screen) older() tea.Cmd {
	if v.asking || !v.more || len(v.all) == 0 {
		return nil
	}
	v.asking = true
	only, before := v.only, v.all[len(v.all)-1].ID
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		t, err := c.Traffic(ctx, only, before, pageRows)
		return listMsg{only, t, err, true}
	})
}

// Update takes a message.
func (v *screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case listMsg:
		return v.took(msg)
	case wholeMsg:
		if msg.id == v.wanted && msg.err == nil {
			v.whole = msg.shown
		}
	case routesMsg:
		v.summing = false
		if msg.err != nil {
			v.Say(msg.err.Error(), true)
			return nil
		}
		if v.routes != nil {
			v.routes = append([]traffic.RouteSummary{}, msg.all...)
		}
	case replayedMsg:
		return v.replayed(msg)
	case triggersMsg:
		return v.tookTriggers(msg)
	case view.Changed:
		if msg.Fresh {
			return v.load()
		}
	case view.Tick:
		if !v.asking && msg.At.Sub(v.asked) >= every {
			cmds := []tea.Cmd{v.load()}
			if v.routes != nil && !v.summing {
				cmds = append(cmds, v.sum())
			}
			if v.triggers.shown {
				cmds = append(cmds, v.loadTriggers())
			}
			return tea.Batch(cmds...)
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		if v.filter != nil {
			in, cmd := v.filter.Update(msg)
			v.filter = &in
			return cmd
		}
	}
	if by := view.Wheel(msg); by != 0 {
		if v.inside {
			v.scroll(3 * by)
			return nil
		}
		return v.move(3 * by)
	}
	return nil
}

// every is how often what passed is asked for.
const every = 400 * time.Millisecond

func (v *screen) took(msg listMsg) tea.Cmd {
	v.asking = false
	if msg.only != v.only {
		return v.load()
	}
	if msg.err != nil {
		v.problem, v.loaded = msg.err.Error(), true
		return nil
	}
	v.problem, v.loaded, v.says = "", true, msg.t.Says
	if !msg.old {
		v.aside = msg.t.Aside
	}
	fresh := msg.t.Exchanges
	switch {
	case msg.old:
		v.more = len(fresh) == pageRows
		v.all = append(v.all, fresh...)
	case len(fresh) == pageRows && len(v.all) > 0 && fresh[len(fresh)-1].ID <= v.all[0].ID:
		// What is older stays.
		last := fresh[len(fresh)-1].ID
		v.all = append(fresh, slices.DeleteFunc(slices.Clone(v.all), func(e traffic.Exchange) bool { return e.ID >= last })...)
	default:
		v.more = len(fresh) == pageRows
		v.all = fresh
	}
	v.list = slices.Concat(v.aside, slices.DeleteFunc(slices.Clone(v.all), func(e traffic.Exchange) bool {
		return slices.ContainsFunc(v.aside, func(a traffic.Exchange) bool { return a.ID == e.ID })
	}))
	if len(v.list) == 0 {
		v.selected, v.whole = 0, traffic.Shown{}
		return nil
	}
	if v.follow || v.at() < 0 {
		v.selected = v.list[min(v.newest(), len(v.list)-1)].ID
	}
	return v.read()
}

// newest is which of the list is the newest that does not wait for a decision.
func (v *screen) newest() int { return len(v.aside) }

// at is which of the list is chosen, -1 if it isn't there.
func (v *screen) at() int {
	return slices.IndexFunc(v.list, func(e traffic.Exchange) bool { return e.ID == v.selected })
}

// chosen returns the chosen one.
func (v *screen) chosen() (traffic.Exchange, bool) {
	if i := v.at(); i >= 0 {
		return v.list[i], true
	}
	return traffic.Exchange{}, false
}

// read has the details of the chosen one come, unless they are there.
func (v *screen) read() tea.Cmd {
	e, ok := v.chosen()
	if !ok || v.wanted == e.ID && !v.wholeOpen {
		return nil
	}
	if v.wanted != e.ID {
		v.scrolled = 0
	}
	v.wanted, v.wholeOpen = e.ID, e.Open
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		shown, err := c.Exchange(ctx, e.ID)
		return wholeMsg{e.ID, shown, err}
	})
}

func (v *screen) move(by int) tea.Cmd {
	if v.routes != nil || len(v.list) == 0 {
		return nil
	}
	i := min(max(0, v.at()+by), len(v.list)-1)
	v.selected, v.follow = v.list[i].ID, i == v.newest()
	cmds := []tea.Cmd{v.read()}
	if i > len(v.list)-50 {
		cmds = append(cmds, v.older())
	}
	return tea.Batch(cmds...)
}

func (v *screen) scroll(by int) {
	v.scrolled = min(max(0, v.scrolled+by), max(0, len(v.details(v.columns))-v.detailRows()))
}

func (v *screen) sum() tea.Cmd {
	v.summing = true
	only := v.only
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		all, err := c.Routes(ctx, only)
		return routesMsg{all, err}
	})
}

// replay makes the chosen request again.
func (v *screen) replay(change traffic.Repeat) tea.Cmd {
	id := v.selected
	v.Say("it is sent again", false)
	return v.Ask(view.StopLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		shown, err := c.Replay(ctx, id, change)
		return replayedMsg{shown, err}
	})
}

func (v *screen) replayed(msg replayedMsg) tea.Cmd {
	if msg.err != nil {
		v.Say(msg.err.Error(), true)
		return nil
	}
	v.Say("answered with "+status(&msg.shown.Exchange)+" after "+traffic.Took(msg.shown.TookMS), msg.shown.Failed())
	v.selected, v.follow = msg.shown.ID, false
	return v.load()
}

// edit asks how the request is to be changed before it is made again.
func (v *screen) edit() tea.Cmd {
	e, ok := v.chosen()
	if !ok || v.whole.ID != e.ID {
		return nil
	}
	method := ui.TextField("method", e.Method, "", 46)
	path := ui.TextField("path", e.Path, "with the query", 46)
	body := ui.TextField("body", strings.ReplaceAll(v.whole.Request.Text, "\n", " "), "left as it is unless it is changed", 46)
	was := body.Value()
	header := ui.TextField("header", "", "one to set, such as Accept: text/csv; with nothing behind the colon it is left out", 46)
	path.Input.Focus()
	f := &panel.Form{Env: v.Env, Title: "Send it again, changed", Fields: []*ui.Field{path, method, header, body}, Yes: "send it"}
	f.Take = func() (tea.Cmd, error) {
		change := traffic.Repeat{Method: strings.ToUpper(strings.TrimSpace(method.Value())), Path: strings.TrimSpace(path.Value())}
		if text := body.Value(); text != was {
			change.Body = &text
		}
		if name, value, ok := strings.Cut(header.Value(), ":"); ok {
			change.Header = map[string]string{strings.TrimSpace(name): strings.TrimSpace(value)}
		} else if strings.TrimSpace(header.Value()) != "" {
			return nil, errHeader
		}
		v.Show(nil)
		return v.replay(change), nil
	}
	v.Show(f)
	return nil
}

// goToLogs shows what was printed around the request.
func (v *screen) goToLogs() tea.Cmd {
	e, ok := v.chosen()
	if !ok {
		return nil
	}
	return v.Turn("logs", logs.Args{Service: e.Service, At: e.Began})
}

// save writes an archive of all that is remembered.
func (v *screen) save() tea.Cmd {
	field := ui.TextField("file", v.Overview.Project+".har", "an HTTP archive; passwords and cookies are in it", 46)
	field.Input.Focus()
	f := &panel.Form{Env: v.Env, Title: "Write what passed to a file", Fields: []*ui.Field{field}, Yes: "write it"}
	f.Take = func() (tea.Cmd, error) {
		path := field.Value()
		if !filepath.IsAbs(path) {
			path = filepath.Join(v.Overview.Dir, path)
		}
		if _, err := os.Stat(path); err == nil {
			return nil, errThere
		}
		v.Show(nil)
		return v.Call(view.StopLimit, func(ctx context.Context, _ *api.Client) error {
			b, err := control.NewClient().HAR(ctx, v.Overview.Dir)
			if err != nil {
				return err
			}
			return os.WriteFile(path, b, 0o600)
		}), nil
	}
	v.Show(f)
	return nil
}

// Typing reports whether a filter is typed.
func (v *screen) Typing() bool { return v.filter != nil }

// Close ends nothing.
func (v *screen) Close() {}

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	if v.filter != nil {
		return []view.Binding{
			view.Bind("", "words, 5xx, >200ms, -word", nil).Shown("type"),
			view.Act("enter", "find", func() tea.Cmd {
				if _, err := traffic.ParseFilter(v.filter.Value()); err != nil {
					v.Say(err.Error(), true)
					return nil
				}
				v.only, v.filter = strings.TrimSpace(v.filter.Value()), nil
				v.follow, v.all, v.list = true, nil, nil
				if v.routes != nil {
					return tea.Batch(v.load(), v.sum())
				}
				return v.load()
			}),
			view.Act("esc", "leave it", func() tea.Cmd { v.filter = nil; return nil }),
		}
	}
	if v.routes != nil {
		return []view.Binding{
			view.Act("m", "the requests", func() tea.Cmd { v.routes = nil; return nil }).Helps("the single requests again"),
			view.Act("esc", "back", func() tea.Cmd { v.routes = nil; return nil }),
			view.Act("/", "only", v.typeFilter),
		}
	}
	if v.triggers.shown {
		return v.triggerBindings()
	}
	e, some := v.chosen()
	if v.inside {
		return append([]view.Binding{
			view.Bind("up down", "scroll", func(pressed string) tea.Cmd {
				v.scroll(map[string]int{"up": -1, "down": 1}[pressed])
				return nil
			}).Shown("↑ ↓"),
			view.Bind("pgup pgdown", "page", func(pressed string) tea.Cmd {
				v.scroll(map[string]int{"pgup": -1, "pgdown": 1}[pressed] * v.detailRows())
				return nil
			}).Hushed().Helps("a page up or down"),
			view.Act("esc", "back", func() tea.Cmd { v.inside, v.scrolled = false, 0; return nil }),
		}, v.about(e, some)...)
	}
	return append([]view.Binding{
		view.Bind("up down", "choose", func(pressed string) tea.Cmd {
			return v.move(map[string]int{"up": -1, "down": 1}[pressed])
		}).Shown("↑ ↓"),
		view.Act("enter", "whole", func() tea.Cmd { v.inside = true; return nil }).If(some).Helps("the request and its answer whole"),
		view.Bind("pgup pgdown", "page", func(pressed string) tea.Cmd {
			return v.move(map[string]int{"pgup": -1, "pgdown": 1}[pressed] * v.listRows())
		}).Hushed().Helps("a page up or down"),
		view.Act("home", "newest", func() tea.Cmd { return v.move(v.newest() - v.at()) }).Hushed().Helps("the newest, and those that come"),
		view.Act("/", "only", v.typeFilter).Helps("only some: words of the method, name, path, service or status; event, call, stub; 5xx; >200ms; >1MB; -word"),
		view.Act("esc", "all", func() tea.Cmd {
			v.only, v.all, v.list, v.follow = "", nil, nil, true
			return v.load()
		}).If(v.only != "").Helps("all requests again"),
		view.Act("m", "medians", func() tea.Cmd {
			v.routes = []traffic.RouteSummary{}
			return v.sum()
		}).If(len(v.list) > 0).Spare(1).Helps("the requests summed up by their routes"),
		view.Act("t", "triggers", func() tea.Cmd {
			v.triggers.shown = true
			return v.loadTriggers()
		}).If(len(v.Overview.Triggers) > 0).Helps("the triggers: pause one, fire it, see what comes next"),
	}, v.about(e, some)...)
}

// about are the keys for the chosen request.
func (v *screen) about(e traffic.Exchange, some bool) []view.Binding {
	here := some && v.whole.ID == e.ID
	return []view.Binding{
		view.Act("R", "again", func() tea.Cmd { return v.replay(traffic.Repeat{}) }).If(here && e.Upgrade == "").Helps("make the same request again"),
		view.Act("e", "again, changed", v.edit).If(here && e.Upgrade == "").Spare(1).Helps("make it again with another path, header or body"),
		view.Act("x", "drop", func() tea.Cmd {
			return tea.Sequence(v.Call(view.CallLimit, func(ctx context.Context, c *api.Client) error { return c.DropEvent(ctx, e.ID) }), v.load())
		}).If(here && e.State == traffic.Aside).Helps("let what was put aside be"),
		view.Act("c", "copy as curl", func() tea.Cmd {
			v.Say("copied; passwords and cookies are in it", false)
			return tea.SetClipboard(v.whole.Curl)
		}).If(here).Spare(2).Helps("copy it as a curl command, with its secrets"),
		view.Act("l", "its log", v.goToLogs).If(some && e.Service != "").Spare(2).Helps("what the service printed at that moment"),
		view.Act("v", map[bool]string{true: "hide secrets", false: "show secrets"}[v.secrets], func() tea.Cmd { v.secrets = !v.secrets; return nil }).If(here).Spare(3),
		view.Act("=", map[bool]string{true: "compare no more", false: "compare"}[v.other != nil], func() tea.Cmd {
			if v.other != nil {
				v.other = nil
				return nil
			}
			marked := v.whole
			v.other = &marked
			v.Say("choose another to compare it with", false)
			return nil
		}).If(here || v.other != nil).Spare(3).Helps("mark it, to see what is different in another"),
		view.Act("o", "open", func() tea.Cmd { return openPage(v.Env, e.Scheme+"://"+e.Host+e.Path) }).If(some && e.Method == "GET" && e.What == "" && e.Of == "").Spare(4).Helps("open it in the browser"),
		view.Act("w", "write", v.save).If(len(v.list) > 0).Spare(4).Helps("write what passed to a file, as an HTTP archive"),
		view.Act("X", "clear", func() tea.Cmd {
			v.all, v.list, v.follow = nil, nil, true
			return tea.Sequence(v.Call(view.CallLimit, func(ctx context.Context, c *api.Client) error { return c.ClearTraffic(ctx) }), v.load())
		}).If(len(v.list) > 0).Spare(4).Helps("forget what passed"),
	}
}

func (v *screen) typeFilter() tea.Cmd {
	in := textinput.New()
	in.Prompt = ""
	in.SetValue(v.only)
	in.CursorEnd()
	v.filter = &in
	return v.filter.Focus()
}
