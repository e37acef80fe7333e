package data

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// changes reports whether what is looked at can be changed.
func (v *screen) changes() bool {
	h := v.held[v.place.service]
	return h != nil && h.data.Changes && v.answer == nil && v.place.collection != ""
}

// target is what an action is about: the chosen item, or the collection.
func (v *screen) target(whole bool) store.Act {
	a := store.Act{Collection: v.place.collection}
	if !whole {
		a.Key = v.key()
	}
	return a
}

// begin asks what can be done, and then does what was wanted of it: after its form
// if it needs to know something, and after the question that shows what it does.
func (v *screen) begin(name string, on store.Act) tea.Cmd {
	service := v.place.service
	return v.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
		all, err := c.Actions(ctx, service, on.Collection, on.Key)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			for _, a := range all {
				if a.Name == name {
					return v.prepare(a, on)
				}
			}
			why := "this can't be done here"
			if w := v.whole(); w.Fixed != "" {
				why = "read only: " + w.Fixed
			} else if len(v.pages) > 0 && v.pages[0].Fixed != "" {
				why = "read only: " + v.pages[0].Fixed
			}
			v.Say(why, true)
			return nil
		}, nil
	})
}

// others offers what else can be done.
func (v *screen) others(on store.Act) tea.Cmd {
	service := v.place.service
	return v.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
		all, err := c.Actions(ctx, service, on.Collection, on.Key)
		if err != nil {
			return nil, err
		}
		return func() tea.Cmd {
			if len(all) == 0 {
				v.Say("nothing can be done with it", true)
				return nil
			}
			v.Show(&panel.Menu{Env: v.Env, Title: "What to do", Choices: func() []panel.Choice {
				var out []panel.Choice
				for _, a := range all {
					out = append(out, panel.Choice{Text: a.Says, Then: func() tea.Cmd { return v.prepare(a, on) }})
				}
				return out
			}})
			return nil
		}, nil
	})
}

// clear has all items of the collection deleted, for which its name has to be typed,
// or only those that a filter leaves.
func (v *screen) clear() tea.Cmd {
	service, all, where := v.place.service, v.target(true), v.place.where
	all.Action = store.Clear
	some := all
	some.Where = where
	c := v.current()
	sweeps := where != "" && len(v.rows()) > 0 && c != nil && slices.Contains(c.Can, store.Delete)
	return v.Await(func(ctx context.Context, client *api.Client) (func() tea.Cmd, error) {
		whole, err := client.Plan(ctx, service, all)
		if err != nil || !sweeps {
			return func() tea.Cmd { return v.clearAll(service, all, whole) }, err
		}
		part, err := client.Plan(ctx, service, some)
		return func() tea.Cmd {
			v.Show(&panel.Menu{Env: v.Env, Title: "Which?", Choices: func() []panel.Choice {
				return []panel.Choice{
					{Text: "those that the filter leaves: " + part.Loses, Then: func() tea.Cmd { return v.confirm(service, some, part, v.refused) }},
					{Text: "all: " + whole.Loses, Then: func() tea.Cmd { return v.clearAll(service, all, whole) }},
				}
			}})
			return nil
		}, err
	})
}

// clearAll asks for the name of what is to be emptied.
func (v *screen) clearAll(service string, on store.Act, p store.Plan) tea.Cmd {
	name := on.Collection
	if c := v.current(); c != nil {
		name = c.Title
	}
	field := ui.TextField("its name", "", "type "+name+", to delete all of it", 46)
	field.Input.Focus()
	f := &panel.Form{Env: v.Env, Title: "Delete all of " + display.Plain(name) + "?", Fields: []*ui.Field{field}, Yes: "delete all",
		Note: func() string { return p.Loses + " will be lost. The server is told: " + display.Plain(p.Statement) }}
	f.Take = func() (tea.Cmd, error) {
		if field.Value() != name {
			return nil, errors.New("that is not its name; nothing was deleted")
		}
		v.Show(nil)
		return v.carryOut(service, on, v.refused), nil
	}
	v.Show(f)
	return nil
}

// nothing is what stands for no value in a form.
const nothing = "∅"

// prepare asks for what an action needs to know.
func (v *screen) prepare(a store.Action, on store.Act) tea.Cmd {
	on.Action = a.Name
	if a.Name == store.Clear {
		return v.clear()
	}
	inputs := a.Inputs
	if f, ok := v.chosen(); ok && a.Name == store.Change {
		inputs = nil
		for _, in := range a.Inputs {
			if in.Name == f.Column.Name {
				in.Value, in.Null = f.Value.Text, in.Null || f.Value.Is == store.Null
				if f.Value.Is == store.Null {
					in.Value = nothing
				}
				inputs = append(inputs, in)
			}
		}
		if f.Value.Cut {
			v.Say("only a part of it is here; change it with a statement", true)
			return nil
		}
		if len(inputs) == 0 {
			v.Say(f.Column.Name+" can't be changed", true)
			return nil
		}
	}
	if len(inputs) == 0 {
		return v.plan(on, v.refused)
	}
	fields := make([]*ui.Field, len(inputs))
	for i, in := range inputs {
		hint := in.Hint
		if in.Null {
			hint = strings.TrimPrefix(hint+"; "+nothing+" is no value", "; ")
		}
		fields[i] = ui.TextField(in.Name, in.Value, hint, 46)
	}
	fields[0].Input.Focus()
	f := &panel.Form{Env: v.Env, Title: strings.ToUpper(a.Says[:1]) + a.Says[1:], Fields: fields, Yes: "see what it does"}
	f.Take = func() (tea.Cmd, error) {
		on.Values = map[string]*string{}
		for i, in := range inputs {
			value := fields[i].Input.Value()
			switch {
			case value == nothing && in.Null:
				on.Values[in.Name] = nil
			case value == "" && a.Name == store.Insert: // left to the server
			case value == in.Value && a.Name == store.Change && len(inputs) > 1:
			default:
				on.Values[in.Name] = &value
			}
		}
		v.Show(nil)
		// What was typed is not lost when it is refused.
		return v.plan(on, func(err error) {
			f.Problem = err.Error()
			v.Show(f)
		}), nil
	}
	v.Show(f)
	return nil
}

// refused says why something is not done.
func (v *screen) refused(err error) { v.Say(err.Error(), true) }

// plan shows what an act would do, and has it done if that is meant.
func (v *screen) plan(on store.Act, refused func(error)) tea.Cmd {
	service := v.place.service
	return v.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
		p, err := c.Plan(ctx, service, on)
		if ctx.Err() != nil {
			return nil, err
		}
		return func() tea.Cmd {
			if err != nil {
				refused(err)
				return nil
			}
			return v.confirm(service, on, p, refused)
		}, nil
	})
}

// confirm shows what an act would do, and has it done if that is meant.
func (v *screen) confirm(service string, on store.Act, p store.Plan, refused func(error)) tea.Cmd {
	text := "The server is told:"
	if p.Loses != "" {
		text = p.Loses + " will be lost. The server is told:"
	}
	v.Show(&panel.Question{Env: v.Env, Title: "Do it?", Text: text, List: strings.Split(p.Statement, "\n"), Yes: "do it", Then: func() tea.Cmd { return v.carryOut(service, on, refused) }})
	return nil
}

func (v *screen) carryOut(service string, on store.Act, refused func(error)) tea.Cmd {
	client, ctx := v.Client(), v.Context()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, view.StopLimit)
		defer cancel()
		says, err := client.Act(ctx, service, on)
		return view.Later(func() tea.Cmd {
			if err != nil {
				refused(err)
				return nil
			}
			v.Say(says, false)
			if v.place.collection != on.Collection || v.place.service != service {
				return nil
			}
			cmds := []tea.Cmd{v.list()}
			if on.Action == store.Delete && v.level == item {
				cmds = append(cmds, v.back())
			}
			v.rhythm = quickest
			if on.Action == store.Clear || len(v.pages) == 0 {
				cmds = append(cmds, v.load())
			} else {
				cmds = append(cmds, v.again(), v.read())
			}
			return tea.Batch(cmds...)
		})
	}
}

// in asks for a file of items, tries it, and adds them if that is meant.
func (v *screen) in() tea.Cmd {
	service, collection := v.place.service, v.place.collection
	field := ui.TextField("file", "", "CSV with names in its first line, or JSON", 46)
	field.Input.Focus()
	f := &panel.Form{Env: v.Env, Title: "Add the rows of a file", Fields: []*ui.Field{field}, Yes: "see what fits"}
	f.Take = func() (tea.Cmd, error) {
		path, err := filepath.Abs(field.Value())
		if err != nil || field.Value() == "" {
			return nil, errors.Join(errors.New("say which file"), err)
		}
		v.Show(nil)
		file := api.Filling{Collection: collection, File: path, Dry: true}
		return v.Await(func(ctx context.Context, c *api.Client) (func() tea.Cmd, error) {
			tried, err := c.Fill(ctx, service, file)
			if ctx.Err() != nil {
				return nil, err
			}
			return func() tea.Cmd {
				if err != nil {
					f.Problem = err.Error()
					v.Show(f)
					return nil
				}
				return v.fitted(service, file, tried)
			}, nil
		}), nil
	}
	v.Show(f)
	return nil
}

// fitted tells what fits, and adds it if all does and that is meant.
func (v *screen) fitted(service string, file api.Filling, tried store.Filled) tea.Cmd {
	var lines []string
	for _, p := range tried.Problems {
		lines = append(lines, fmt.Sprintf("line %d: %s", p.Line, p.Says))
	}
	if tried.Wrong > 0 {
		v.Show(&panel.Question{Env: v.Env, Title: "Not all fit", Text: fmt.Sprintf("%s would fit, %d would not. Nothing was added.", words.Count(tried.Rows, "row"), tried.Wrong), List: lines, Yes: "back", Then: func() tea.Cmd { return nil }})
		return nil
	}
	file.Dry = false
	v.Show(&panel.Question{Env: v.Env, Title: "Add them?", Text: words.Count(tried.Rows, "row") + " of " + file.File + " would fit.", Yes: "add them", Then: func() tea.Cmd {
		return v.Ask(view.StopLimit, func(ctx context.Context, c *api.Client) tea.Msg {
			done, err := c.Fill(ctx, service, file)
			if err == nil && done.Wrong > 0 {
				err = fmt.Errorf("%d rows don't fit any more; nothing was added", done.Wrong)
			}
			return filledMsg{done.Rows, err}
		})
	}})
	return nil
}
