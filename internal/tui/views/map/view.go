// Package mapview is the map: a card for each service, the lines of what they
// need, and below it the doorstep, which says all of the selected one.
package mapview

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/display"
	"neighbour/internal/draw"
	"neighbour/internal/tui/act"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/prefs"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/views/data"
	"neighbour/internal/tui/views/errands"
	"neighbour/internal/tui/views/logs"
)

// Spec describes the view. It takes no argument: it shows the selected service.
var Spec = view.Spec{ID: "map", Title: "map", Key: "1", New: open, Commands: commands}

// mapView is the map that is open.
type mapView struct {
	*view.Env
	width, rows int

	chart            *chart
	border           int // rows that the user has given to the map, or taken
	scrollX, scrollY int
	filter           string
	filtering        bool
	reveal           bool   // secrets are shown
	added            string // a service to select as soon as it is there
}

func open(e *view.Env, _ any) (view.View, tea.Cmd) {
	v := &mapView{Env: e, border: prefs.Load().MapBorder}
	v.selectFirst()
	return v, nil
}

// Update takes a message.
func (v *mapView) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Changed:
		if msg.Fresh || msg.Moved && v.filter != "" {
			v.chart = nil
		}
		if _, ok := v.Services[v.added]; ok {
			v.choose(v.added)
			v.added = ""
		}
		v.selectFirst()
	case addedMsg:
		v.added = string(msg)
	case tea.MouseWheelMsg:
		if by := view.Wheel(msg); by != 0 {
			v.step(by)
		}
	case tea.KeyPressMsg:
		v.typeFilter(msg)
	case tea.PasteMsg:
		if v.filtering {
			v.setFilter(v.filter + msg.Content)
		}
	}
	return nil
}

// Fit tells the room there is, lays out the map and scrolls it.
func (v *mapView) Fit(width, height int) {
	v.width, v.rows = width, height
	v.scrollTo(v.arrange(), v.mapRows())
}

// Render draws the view.
func (v *mapView) Render() view.Drawing {
	if v.chart == nil {
		return view.Drawing{}
	}
	rows := v.mapRows()
	d := view.Drawing{Lines: append(v.drawMap(rows), v.drawDoorstep(v.rows-rows)...), Spots: v.spots(rows)}
	if v.filter != "" || v.filtering {
		cursor := ""
		if v.filtering {
			cursor = "▏"
		}
		t := v.Theme()
		d.Note = t.Paint(ui.Faint, "only ") + t.Paint(ui.Accent, v.filter+cursor)
	}
	return d
}

// Typing reports whether a filter is typed.
func (v *mapView) Typing() bool { return v.filtering }

// Close ends nothing.
func (*mapView) Close() {}

// Bindings are the keys of the map and of the selected service.
func (v *mapView) Bindings() []view.Binding {
	if v.filtering {
		return []view.Binding{
			view.Bind("", "name, kind or state", nil).Shown("type"),
			view.Act("enter", "keep", func() tea.Cmd {
				v.filtering = false
				return nil
			}),
			view.Act("esc", "show all", func() tea.Cmd {
				v.filtering = false
				v.setFilter("")
				return nil
			}),
		}
	}
	s := v.Services[v.Selected]
	there := s.Name != ""
	running := len(v.Running([]string{s.Name})) > 0
	does := "show password"
	if v.reveal {
		does = "hide password"
	}
	out := []view.Binding{
		view.Bind("left right up down", "select a service", func(pressed string) tea.Cmd {
			by := map[string][2]int{"left": {-1, 0}, "right": {1, 0}, "up": {0, -1}, "down": {0, 1}}[pressed]
			v.move(by[0], by[1])
			return nil
		}).Shown("← ↑ ↓ →").Hushed(),
		view.Bind("tab shift+tab", "the next one in the order of the start", func(pressed string) tea.Cmd {
			if pressed == "tab" {
				v.step(1)
			} else {
				v.step(-1)
			}
			return nil
		}).Shown("tab").Hushed(),
		onService("s", "start", v.Env, starting, s.Name, there && (!running || s.Held)).Helps("start it with what it needs"),
		onService("r", "restart", v.Env, restarting, s.Name, there && running).Helps("restart it"),
		view.Act("t", "stop", func() tea.Cmd { return stopOne(v.Env, s.Name) }).If(there && running).Helps("stop it with what needs it"),
	}
	out = append(out, v.remedies(s)...)
	return append(out,
		view.Act("a", "apply the change", func() tea.Cmd { return askChanges(v.Env) }).If(v.Overview.Changed).Helps("apply a changed neighbour.toml"),
		view.Bind("S R T", "more of them", func(pressed string) tea.Cmd {
			return askScope(v.Env, map[string]*action{"S": starting, "R": restarting, "T": stopping}[pressed], s.Name)
		}).If(there).Spare(6).Helps("the same, for more services"),
		view.Act("enter", "log", func() tea.Cmd { return v.Turn("logs", logs.Args{Service: s.Name}) }).If(there).Helps("its log"),
		view.Act("m", "look into", func() tea.Cmd { return v.Turn("data", data.Args{Service: s.Name}) }).If(there && slices.Contains(v.Overview.Holding, s.Name)).Spare(2).Helps("what it holds: tables, keys, mails"),
		view.Act("u", "errands", func() tea.Cmd { return v.askErrand(s.Name) }).If(len(v.errandsOf(s.Name)) > 0).Spare(3).Helps("run one of its errands"),
		view.Act("c", "copy", func() tea.Cmd { return v.copy(s) }).If(len(s.Facts) > 0).Spare(2).Helps("copy its address or a credential"),
		view.Act("o", "open page", func() tea.Cmd { return openPage(v.Env, s) }).If(pageOf(s) != "" && s.State == supervise.Ready).Spare(3).Helps("open its page in the browser"),
		view.Act("p", "for a phone", func() tea.Cmd { v.Show(newPhone(v.Env)); return nil }).If(v.Overview.LANURL != "").Spare(3).Helps("the address for a phone in this machine's network, as a QR code"),
		view.Act("v", does, func() tea.Cmd {
			v.reveal = !v.reveal
			return nil
		}).If(hasSecret(s)).Spare(3).Helps("show or hide passwords"),
		view.Bind("e n x", "change, add, remove", func(pressed string) tea.Cmd {
			switch {
			case pressed == "n":
				return askKinds(v.Env)
			case !there:
				return nil
			case pressed == "e":
				v.Show(editService(v.Env, s))
				return nil
			}
			return removeService(v.Env, s)
		}).Spare(8).Helps("change it, add a service, remove it"),
		view.Act("/", "filter", func() tea.Cmd {
			v.filtering = true
			return nil
		}).Spare(4).Helps("show only some, by name, kind or state"),
		view.Act("esc", "show all", func() tea.Cmd {
			v.setFilter("")
			return nil
		}).If(v.filter != "").Hushed(),
		view.Act("d", "draw the map", func() tea.Cmd {
			return act.Draw(v.Env, "map", draw.Map(draw.Nodes(v.Order, v.Services), draw.Options{Project: v.Overview.Project, At: v.Now}))
		}).If(there).Hushed().Helps("draw the map (neighbour draw map)"),
		view.Bind("+ -", "border", func(pressed string) tea.Cmd {
			v.moveBorder(pressed == "+")
			return nil
		}).Shown("- +").Hushed().Helps("give the map less or more of the screen"),
	)
}

// onService is the binding that does something with one service.
func onService(key, does string, e *view.Env, a *action, service string, sensible bool) view.Binding {
	return view.Act(key, does, func() tea.Cmd { return do(e, a, false, service) }).If(sensible)
}

// errandsOf returns the errands that run with a service.
func (v *mapView) errandsOf(service string) []string {
	var out []string
	for _, e := range v.Overview.Errands {
		if e.With == service {
			out = append(out, e.Name)
		}
	}
	return out
}

// askErrand asks which of a service's errands is to be run.
func (v *mapView) askErrand(service string) tea.Cmd {
	v.Show(&panel.Menu{Env: v.Env, Title: "Run an errand of " + service, Choices: func() []panel.Choice {
		var out []panel.Choice
		for _, e := range v.Overview.Errands {
			if e.With == service {
				out = append(out, panel.Choice{Text: strings.TrimSuffix(e.Name+"  "+e.About, "  "), Then: func() tea.Cmd {
					return v.Turn("errands", errands.Args{Errand: e.Name, Run: true})
				}})
			}
		}
		return out
	}})
	return nil
}

// remedies are the bindings of what can be done about a failed service, whose
// keys its doorstep shows.
func (v *mapView) remedies(s api.Status) []view.Binding {
	f, ok := v.Finding(s.Name)
	if !ok || s.State != supervise.Failed {
		return nil
	}
	var out []view.Binding
	for i, a := range f.Actions {
		out = append(out, view.Act(remedyKey(i), a.Label, func() tea.Cmd { return act.Remedy(v.Env, f, a) }).Spare(9))
	}
	return out
}

// remedyKey returns the key of a remedy on the map.
func remedyKey(i int) string { return string(rune('A' + i)) }

func (v *mapView) typeFilter(k tea.KeyPressMsg) {
	if k.String() == "backspace" {
		if r := []rune(v.filter); len(r) > 0 {
			v.setFilter(string(r[:len(r)-1]))
		}
		return
	}
	v.setFilter(v.filter + k.Text)
}

func (v *mapView) setFilter(text string) {
	v.filter = display.Plain(text)
	v.chart = nil
	v.selectFirst()
}

// moveBorder gives the map more rows, or fewer, and remembers it.
func (v *mapView) moveBorder(more bool) {
	before := v.border
	if more {
		v.border += 2
	} else {
		v.border -= 2
	}
	v.border = max(-v.rows, min(v.border, v.rows))
	v.chart = nil
	if v.mostRows() == min(max(4, v.rows-doorstepRows+before), v.rows-3) {
		v.border = before // it is as far as it goes
		return
	}
	if err := prefs.Save(prefs.Prefs{MapBorder: v.border}); err != nil {
		v.Say("the border's place is not remembered: "+err.Error(), true)
	}
}

func hasSecret(s api.Status) bool {
	return slices.ContainsFunc(s.Facts, func(f supervise.Fact) bool { return f.Secret })
}

// pageOf returns the address of a service's page, "" if it has none.
func pageOf(s api.Status) string {
	page := ""
	for _, f := range s.Facts {
		if f.Name == declare.PublicURL {
			return f.Value
		}
		if page == "" && strings.HasPrefix(f.Value, "http") && !f.Secret {
			page = f.Value
		}
	}
	return page
}
