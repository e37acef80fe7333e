package mapview

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/project"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// editService returns the form of what can be changed of a service.
func editService(e *view.Env, s api.Status) *panel.Form {
	port := ""
	if s.Declared.Port != 0 {
		port = strconv.Itoa(s.Declared.Port)
	}
	f := &panel.Form{Env: e, Title: "Change " + s.Name}
	version := ui.TextField("version", s.Declared.Version, `which will do: "15", ">=15.2, <17"; empty: any`, 40)
	number := ui.TextField("port", port, "empty: any free one, the same again next time", 12)
	if s.Declared.Versioned {
		f.Fields = append(f.Fields, version)
	}
	f.Fields = append(f.Fields, number)
	f.Note = func() string {
		if s.State.Running() {
			return s.Name + " runs and goes on as it is until the change is applied (a)."
		}
		return ""
	}
	f.Take = taking(e, f, func() (project.Change, error) {
		c := project.Change{Service: s.Name}
		if v := version.Value(); s.Declared.Versioned && v != s.Declared.Version {
			c.Version = &v
		}
		n := 0
		if text := number.Value(); text != "" {
			var err error
			if n, err = strconv.Atoi(text); err != nil || n < 1 || n > 65535 {
				return c, fmt.Errorf("%q is not a port: write a number from 1 to 65535, or nothing", text)
			}
		}
		if n != s.Declared.Port {
			c.Port = &n
		}
		return c, nil
	})
	return f
}

// newService returns the form of a service to add.
func newService(e *view.Env, kinds []project.Available) *panel.Form {
	kind := &ui.Field{Label: "kind", Choices: make([]string, len(kinds))}
	for i, k := range kinds {
		kind.Choices[i] = k.Name
	}
	name := ui.TextField("name", "", "what your app calls it: a-z, 0-9, - and _", 40)
	begin := ui.TextField("line", "", "", 60)
	chosen := func() project.Available { return kinds[kind.Chosen] }
	given := kinds[kind.Chosen].Begin
	begin.Input.SetValue(given)
	f := &panel.Form{Env: e, Title: "Add a service", Fields: []*ui.Field{kind, name, begin}}
	f.Has = func(g *ui.Field) bool {
		if g != begin {
			return true
		}
		if now := chosen().Begin; now != given && begin.Input.Value() == given {
			given = now // not touched yet
			begin.Input.SetValue(now)
			begin.Input.CursorEnd()
		}
		return chosen().Begin != ""
	}
	f.Note = func() string {
		switch k := chosen(); {
		case k.Missing != "":
			return k.About + ", " + k.Missing + "."
		case k.Installed != "":
			return k.About + " " + k.Installed + " is installed here."
		default:
			return k.About + "."
		}
	}
	f.Take = taking(e, f, func() (project.Change, error) {
		if name.Value() == "" {
			return project.Change{}, fmt.Errorf("it needs a name")
		}
		add := &project.NewService{Kind: chosen().Name}
		if chosen().Begin != "" {
			add.Line = begin.Value()
		}
		return project.Change{Service: name.Value(), Add: add}, nil
	})
	return f
}

// askKinds asks the keeper for the kinds, and then for a service to add.
func askKinds(e *view.Env) tea.Cmd {
	return e.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
		kinds, err := c.Kinds(ctx)
		return func() tea.Cmd {
			e.Show(newService(e, kinds))
			return nil
		}, err
	})
}

// taking has what a form holds written to the declaration. The form stays
// until that has gone well.
func taking(e *view.Env, f *panel.Form, change func() (project.Change, error)) func() (tea.Cmd, error) {
	return func() (tea.Cmd, error) {
		c, err := change()
		if err != nil {
			return nil, err
		}
		return edit(e, c, func(err error) { f.Problem = err.Error() }), nil
	}
}

// addedMsg names a service to select as soon as it is there.
type addedMsg string

// edit asks the keeper to change the declaration, and lets the keeper be
// replaced by one that has read it, if nothing runs.
func edit(e *view.Env, change project.Change, failed func(error)) tea.Cmd {
	client, ctx := e.Client(), e.Context()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, view.CallLimit)
		defer cancel()
		err := client.Edit(ctx, change)
		return view.Later(func() tea.Cmd { return edited(e, change, err, failed) })
	}
}

func edited(e *view.Env, change project.Change, err error, failed func(error)) tea.Cmd {
	if err != nil {
		failed(err)
		return nil
	}
	e.Show(nil)
	e.Say(change.Service+" is changed in neighbour.toml", false)
	cmds := []tea.Cmd{e.Renew(), e.CheckAgain()}
	if change.Add != nil {
		cmds = append(cmds, func() tea.Msg { return view.Answer{Instance: e.Instance, Msg: addedMsg(change.Service)} })
	}
	return tea.Batch(cmds...)
}

// removeService asks, and then removes a service from the declaration.
func removeService(e *view.Env, s api.Status) tea.Cmd {
	if len(e.Running([]string{s.Name})) > 0 {
		e.Say(fmt.Sprintf("%s runs: stop it first (t)", s.Name), true)
		return nil
	}
	e.Show(&panel.Question{
		Env: e, Title: "Remove " + s.Name + "?", Yes: "remove it",
		Text: "Its table in neighbour.toml is removed, with the comments directly above it. Its data stays, for a service of the same name and kind.",
		Then: func() tea.Cmd {
			return edit(e, project.Change{Service: s.Name, Remove: true}, func(err error) {
				text, _, _ := strings.Cut(err.Error(), "\n")
				e.Say(text, true)
			})
		},
	})
	return nil
}
