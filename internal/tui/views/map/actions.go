package mapview

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/browser"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/display"
	"neighbour/internal/gate/trust"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
)

// action is something to do with services.
type action struct {
	verb, doing string
	// withDependents says that it takes along what needs a service; otherwise
	// it may take along what the service needs.
	withDependents bool
	long           bool // it may take as long as stopping does
	call           func(ctx context.Context, c *api.Client, withNeeds bool, names []string) error
}

var (
	starting = &action{verb: "start", doing: "starting", call: func(ctx context.Context, c *api.Client, _ bool, names []string) error {
		_, err := c.Start(ctx, false, names...)
		return err
	}}
	restarting = &action{verb: "restart", doing: "restarting", long: true, call: func(ctx context.Context, c *api.Client, withNeeds bool, names []string) error {
		_, err := c.Restart(ctx, withNeeds, false, names...)
		return err
	}}
	stopping = &action{verb: "stop", doing: "stopping", withDependents: true, long: true, call: func(ctx context.Context, c *api.Client, _ bool, names []string) error {
		_, err := c.Stop(ctx, names...)
		return err
	}}
)

// do has an action carried out. What the user has never had executed is asked
// about before.
func do(e *view.Env, a *action, withNeeds bool, names ...string) tea.Cmd {
	if len(names) == 0 || names[0] == "" {
		return nil
	}
	call := func() tea.Cmd {
		e.Say(a.doing+" "+strings.Join(names, ", "), false)
		limit := view.CallLimit
		if a.long {
			limit = view.StopLimit
		}
		return e.Call(limit, func(ctx context.Context, c *api.Client) error { return a.call(ctx, c, withNeeds, names) })
	}
	if a == stopping || len(e.Overview.Unknown) == 0 {
		return call()
	}
	q := &panel.Question{
		Env: e, Title: "Start for the first time?", Yes: "start", List: e.Overview.Unknown, Then: call,
		Text: "You have not started this project on this machine before. It executes as you:",
	}
	if !e.Overview.First {
		q.Title, q.Text = "Execute what is new?", "This has come to the project since you last started it, and is executed as you:"
	}
	e.Show(q)
	return nil
}

// awaitImpact asks the keeper what else an operation on a service is about.
func awaitImpact(e *view.Env, service string, then func(insight.Impact) tea.Cmd) tea.Cmd {
	if service == "" {
		return nil
	}
	return e.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
		impact, err := c.Impact(ctx, service)
		return func() tea.Cmd { return then(impact) }, err
	})
}

// stopOne stops a service; if others go with it, it asks.
func stopOne(e *view.Env, service string) tea.Cmd {
	return awaitImpact(e, service, func(i insight.Impact) tea.Cmd { return stopWith(e, i) })
}

func stopWith(e *view.Env, i insight.Impact) tea.Cmd {
	stop := func() tea.Cmd { return do(e, stopping, false, i.Service) }
	if len(i.Running) == 0 {
		return stop()
	}
	e.Show(&panel.Question{
		Env: e, Title: "Stop " + i.Service + "?", Yes: "stop them", Then: stop,
		Text: fmt.Sprintf("%s %s it and will be stopped, too. Data is kept.", strings.Join(i.Running, ", "), display.Plural(len(i.Running), "needs", "need")),
	})
	return nil
}

// askScope asks how many services an action is about.
func askScope(e *view.Env, a *action, service string) tea.Cmd {
	return awaitImpact(e, service, func(i insight.Impact) tea.Cmd {
		e.Show(scope(e, a, i))
		return nil
	})
}

func scope(e *view.Env, a *action, i insight.Impact) *panel.Menu {
	var choices []panel.Choice
	add := func(text string, withNeeds bool, names ...string) {
		choices = append(choices, panel.Choice{Text: text, Then: func() tea.Cmd { return do(e, a, withNeeds, names...) }})
	}
	needs, needed := strings.Join(i.Needs, ", "), strings.Join(i.NeededBy, ", ")
	switch {
	case a.withDependents && needed != "":
		add(i.Service+" and what needs it: "+needed, false, i.Service)
	case a == starting && needs != "":
		add(i.Service+" and what it needs: "+needs, false, i.Service)
	default:
		add(i.Service, false, i.Service)
	}
	if a == restarting && needs != "" {
		add(i.Service+" and what it needs: "+needs, true, i.Service)
	}
	if a == stopping && needs != "" {
		// What it needs takes along whatever else needs that.
		add(i.Service+", what it needs, and all that needs those: "+needs, false, append(slices.Clone(i.Needs), i.Service)...)
	}
	all := slices.Clone(e.Order)
	add(fmt.Sprintf("all %d services", len(all)), false, all...)
	return &panel.Menu{Env: e, Title: strings.ToUpper(a.verb[:1]) + a.verb[1:], Choices: func() []panel.Choice { return choices }}
}

// openPage opens a service's page in the browser.
func openPage(e *view.Env, s api.Status) tea.Cmd {
	address := pageOf(s)
	only := e.Overview.HTTPSOnly
	e.Say("opening "+address, false)
	return e.Call(view.CallLimit, func(ctx context.Context, _ *api.Client) error {
		return browser.Open(trust.Openable(ctx, address, only))
	})
}

// copy puts a fact on the clipboard; if there are several it asks which.
func (v *mapView) copy(s api.Status) tea.Cmd {
	if len(s.Facts) == 1 {
		return copyFact(v.Env, s, s.Facts[0])
	}
	v.Show(&panel.Menu{Env: v.Env, Title: "Copy from " + s.Name, Choices: func() []panel.Choice {
		var out []panel.Choice
		for _, f := range v.Services[s.Name].Facts {
			out = append(out, panel.Choice{Text: fmt.Sprintf("%-9s %s", f.Name, v.masked(f)), Then: func() tea.Cmd { return copyFact(v.Env, s, f) }})
		}
		return out
	}})
	return nil
}

func copyFact(e *view.Env, s api.Status, f supervise.Fact) tea.Cmd {
	e.Say(fmt.Sprintf("copied %s of %s", f.Name, s.Name), false)
	return tea.SetClipboard(f.Value)
}

// commands is what can be done with services, for the finder.
func commands(e *view.Env) []view.Command {
	var out []view.Command
	on := "" // the service that keys are about
	add := func(says, key string, do func() tea.Cmd) {
		out = append(out, view.Command{Says: says, Key: key, On: on, Do: do})
	}
	for _, name := range e.Order {
		s := e.Services[name]
		on = name
		add("show "+name+" on the map", "", func() tea.Cmd {
			e.Selected = name
			return e.Turn("map", nil)
		})
		if pageOf(s) != "" && s.State == supervise.Ready {
			add("open "+name+"'s page", "o", func() tea.Cmd { return openPage(e, s) })
		}
		for _, f := range s.Facts {
			add("copy "+name+"'s "+f.Name, "c", func() tea.Cmd { return copyFact(e, s, f) })
		}
		if len(e.Running([]string{name})) > 0 {
			add("restart "+name, "r", func() tea.Cmd { return do(e, restarting, false, name) })
			add("stop "+name, "t", func() tea.Cmd { return stopOne(e, name) })
		} else {
			add("start "+name, "s", func() tea.Cmd { return do(e, starting, false, name) })
		}
		add("change "+name, "e", func() tea.Cmd {
			e.Show(editService(e, s))
			return nil
		})
		add("remove "+name+" from the declaration", "x", func() tea.Cmd { return removeService(e, s) })
	}
	on = ""
	all := slices.Clone(e.Order)
	add("start all", "S", func() tea.Cmd { return do(e, starting, false, all...) })
	add("restart all", "R", func() tea.Cmd { return do(e, restarting, false, all...) })
	add("stop all", "T", func() tea.Cmd { return do(e, stopping, false, all...) })
	add("add a service", "n", func() tea.Cmd { return askKinds(e) })
	if e.Overview.Changed {
		add("apply the changed neighbour.toml", "a", func() tea.Cmd { return askChanges(e) })
	}
	return out
}
