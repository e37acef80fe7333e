// Package projects is the view of all projects of this user on this machine.
package projects

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Spec describes the view. Its argument is the folder of the project to select.
var Spec = view.Spec{ID: "projects", Title: "projects", Key: "0", New: open, Commands: commands}

func commands(e *view.Env) []view.Command {
	return []view.Command{{Says: "projects: all of yours on this machine", Key: "0", Do: func() tea.Cmd { return e.Turn("projects", nil) }}}
}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &screen{Env: e, checks: map[string]checked{}}
	v.selected, _ = args.(string)
	return v, v.list()
}

// screen is the projects, one a line, and all of the selected one.
type screen struct {
	*view.Env
	view.Still
	listed    api.ListedProjects
	loaded    bool
	err       string
	selected  string // its folder; "": this project's
	order     int
	search    *textinput.Model // while it is typed
	filter    string
	checks    map[string]checked // by folder
	answering bool               // the list was asked for
	listedAt  time.Time
}

// checked is what was found in a project.
type checked struct {
	found []check.Finding
	err   error
	at    time.Time
	asked bool
}

type (
	listMsg struct {
		all api.ListedProjects
		err error
	}
	checkedMsg struct {
		dir string
		checked
	}
	doneMsg struct {
		says string
		err  error
	}
)

// orders are how the projects can be sorted.
var orders = []struct {
	name string
	less func(a, b *api.Listed) int
}{
	{"last used", nil},
	{"name", func(a, b *api.Listed) int { return strings.Compare(a.Name, b.Name) }},
	{"disk", func(a, b *api.Listed) int { return cmp.Compare(b.Disk, a.Disk) }},
	{"memory", func(a, b *api.Listed) int { return cmp.Compare(b.Memory, a.Memory) }},
	{"unused for longest", func(a, b *api.Listed) int { return a.Used.Compare(b.Used) }},
}

// listEvery is how often the list is asked for.
const listEvery = 2 * time.Second

// checkAge is for how long the checks of a project aren't made again.
const checkAge = 15 * time.Second

func (v *screen) list() tea.Cmd {
	v.answering, v.listedAt = true, v.Now
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		all, err := c.Projects(ctx)
		return listMsg{all, err}
	})
}

// Update takes a message.
func (v *screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case listMsg:
		v.answering = false
		if msg.err != nil {
			v.err = msg.err.Error()
			return nil
		}
		v.listed, v.loaded, v.err = msg.all, true, ""
		if v.selected == "" {
			v.selected = v.Overview.Dir
		}
		return v.look()
	case checkedMsg:
		v.checks[msg.dir] = msg.checked
	case doneMsg:
		if msg.err != nil {
			text, _, _ := strings.Cut(msg.err.Error(), "\n")
			v.Say(text, true)
		} else {
			v.Say(msg.says, false)
		}
		clear(v.checks)
		return v.list()
	case view.Tick:
		if msg.At.Sub(v.listedAt) >= listEvery && !v.answering {
			return v.list()
		}
	case tea.KeyPressMsg:
		if v.search != nil {
			in, cmd := v.search.Update(msg)
			v.search, v.filter = &in, strings.TrimSpace(in.Value())
			return cmd
		}
	case tea.PasteMsg:
		if v.search != nil {
			in, _ := v.search.Update(msg)
			v.search, v.filter = &in, strings.TrimSpace(in.Value())
		}
	}
	if by := view.Wheel(msg); by != 0 {
		return v.move(by)
	}
	return nil
}

// look has the checks of the selected project be made, if that is due.
func (v *screen) look() tea.Cmd {
	l := v.chosen()
	if l == nil || l.Gone || l.Problem != "" {
		return nil
	}
	dir := l.Dir
	before := v.checks[dir]
	if before.asked || time.Since(before.at) < checkAge {
		return nil
	}
	before.asked = true
	v.checks[dir] = before
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		found, err := c.ProjectChecks(ctx, dir)
		return checkedMsg{dir, checked{found: found, err: err, at: time.Now()}}
	})
}

// shown returns the projects that the filter lets through, in their order.
func (v *screen) shown() []*api.Listed {
	var out []*api.Listed
	for i := range v.listed.Projects {
		l := &v.listed.Projects[i]
		text := strings.ToLower(l.Name + " " + l.Dir + " " + l.Where() + " " + l.When(v.Now))
		if strings.Contains(text, strings.ToLower(v.filter)) {
			out = append(out, l)
		}
	}
	if less := orders[v.order].less; less != nil {
		slices.SortStableFunc(out, less)
	}
	return out
}

func (v *screen) at(all []*api.Listed) int {
	return max(0, slices.IndexFunc(all, func(l *api.Listed) bool { return l.Dir == v.selected }))
}

// chosen returns the selected project, nil if none is shown.
func (v *screen) chosen() *api.Listed {
	all := v.shown()
	if len(all) == 0 {
		return nil
	}
	return all[v.at(all)]
}

func (v *screen) move(by int) tea.Cmd {
	all := v.shown()
	if len(all) == 0 {
		return nil
	}
	v.selected = all[min(max(v.at(all)+by, 0), len(all)-1)].Dir
	return v.look()
}

// Typing reports whether the filter is typed.
func (v *screen) Typing() bool { return v.search != nil }

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	if v.search != nil {
		end := func(keep bool) func() tea.Cmd {
			return func() tea.Cmd {
				if v.search = nil; !keep {
					v.filter = ""
				}
				return v.look()
			}
		}
		return []view.Binding{view.Act("enter", "take it", end(true)), view.Act("esc", "no filter", end(false))}
	}
	l := v.chosen()
	some := l != nil && !l.Gone
	running := some && l.PID != 0 && l.Running()
	here := some && l.Dir == v.Overview.Dir
	out := []view.Binding{
		view.Bind("up down pgup pgdown home end", "choose", func(pressed string) tea.Cmd {
			return v.move(map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10, "home": -1 << 20, "end": 1 << 20}[pressed])
		}).Shown("↑ ↓"),
		view.Act("enter", "go there", func() tea.Cmd { return v.visit(l) }).If(some && !here).Helps("show that project in the place of this one; both go on as they are"),
		view.Act("s", "start", func() tea.Cmd { return v.start(l) }).If(some && !running).Helps("start the project; if another has its ports, ask whether that one is to stop"),
		view.Act("x", "stop", func() tea.Cmd { return v.stop(l) }).If(running).Helps("stop the project, after a question"),
		view.Act("w", "switch to it", func() tea.Cmd { return v.switchTo(l, v.others(l)) }).If(some && !running && len(v.others(l)) > 0).Spare(1).Helps("stop the other projects that run and start this one, after a question"),
		view.Act("f", "forget", func() tea.Cmd { return v.forget(l) }).If(l != nil && l.Gone).Helps("take a project whose folder is gone out of the list"),
		view.Act("/", "filter", func() tea.Cmd {
			in := textinput.New()
			in.Prompt = ""
			in.SetValue(v.filter)
			in.CursorEnd()
			in.Focus()
			v.search = &in
			return nil
		}).Spare(2).Helps("only those with a text in their name, folder, ports or time"),
		view.Act("o", "order", func() tea.Cmd {
			v.order = (v.order + 1) % len(orders)
			return v.look()
		}).Spare(3).Helps("sort by name, disk, memory, or by when they were used"),
	}
	return out
}

// others returns the projects that run beside one: those that have its ports, or if there are none
// all others.
func (v *screen) others(l *api.Listed) []string {
	if l == nil || len(l.Rivals) > 0 {
		if l == nil {
			return nil
		}
		return l.Rivals
	}
	var out []string
	for i := range v.listed.Projects {
		if o := &v.listed.Projects[i]; o.Dir != l.Dir && o.Running() {
			out = append(out, o.Dir)
		}
	}
	return out
}

// act has the keeper do something with a project, which may take long.
func (v *screen) act(under, says string, do func(context.Context, *api.Client) error) tea.Cmd {
	v.Say(under, false)
	return v.Ask(view.StopLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		return doneMsg{says, do(ctx, c)}
	})
}

func (v *screen) visit(l *api.Listed) tea.Cmd {
	if l.Problem != "" && l.PID == 0 {
		v.Say(l.Problem, true)
		return nil
	}
	return v.Visit(l.Dir)
}

func (v *screen) start(l *api.Listed) tea.Cmd {
	if len(l.Rivals) > 0 {
		return v.switchTo(l, l.Rivals)
	}
	dir := l.Dir
	return v.act("starting "+l.Name, l.Name+" starts", func(ctx context.Context, c *api.Client) error {
		_, err := c.StartProject(ctx, dir)
		return err
	})
}

func (v *screen) stop(l *api.Listed) tea.Cmd {
	dir, name := l.Dir, l.Name
	v.Show(&panel.Question{Env: v.Env, Title: "Stop " + name + "?", Text: fmt.Sprintf("Its services in %s are stopped. Data is kept.", dir), Yes: "stop it",
		Then: func() tea.Cmd {
			return v.act("stopping "+name, name+" is stopped", func(ctx context.Context, c *api.Client) error {
				_, err := c.StopProject(ctx, dir)
				return err
			})
		}})
	return nil
}

// switchTo stops projects and starts another, after a question that says why.
func (v *screen) switchTo(l *api.Listed, others []string) tea.Cmd {
	var list, names []string
	for _, dir := range others {
		i := slices.IndexFunc(v.listed.Projects, func(o api.Listed) bool { return o.Dir == dir })
		if i < 0 {
			continue
		}
		o := &v.listed.Projects[i]
		why := ""
		for _, c := range v.listed.Clashes {
			if slices.Contains(c.Dirs, l.Dir) && o.Holds(c.Port) {
				why = fmt.Sprintf(", which has port %d", c.Port)
			}
		}
		names = append(names, o.Name)
		list = append(list, o.Name+why)
	}
	dir, name := l.Dir, l.Name
	what := "that one"
	if len(list) > 1 {
		what = fmt.Sprintf("these %d", len(list))
	}
	v.Show(&panel.Question{Env: v.Env, Title: "Stop " + what + " and start " + name + "?", Text: "All of their services are stopped. Data is kept.", List: list, Yes: "stop and start",
		Then: func() tea.Cmd {
			return v.act("stopping "+strings.Join(names, ", "), name+" starts", func(ctx context.Context, c *api.Client) error {
				_, err := c.SwitchProjects(ctx, others, dir)
				return err
			})
		}})
	return nil
}

func (v *screen) forget(l *api.Listed) tea.Cmd {
	dir := l.Dir
	return v.act("forgetting "+l.Name, l.Name+" is out of the list", func(ctx context.Context, c *api.Client) error { return c.ForgetProject(ctx, dir) })
}

// Render draws the view.
func (v *screen) Render() view.Drawing { return v.drawing() }

// mostSays is how many lines say how all projects are.
const mostSays = 3

// head says how all of them are, or what is typed.
func (v *screen) head() []string {
	t := v.Theme()
	if v.search != nil {
		return []string{"  " + t.Paint(ui.Accent, "/ ") + ui.DrawInput(t, *v.search, v.Columns-8)}
	}
	text := strings.Join(v.listed.Says, "; ") + "."
	if v.filter != "" {
		text = fmt.Sprintf("/%s: %d of %d. ", v.filter, len(v.shown()), len(v.listed.Projects)) + text
	}
	if v.err != "" {
		return []string{"  " + t.Paint(ui.Bad, v.err)}
	}
	var out []string
	for i, line := range display.Wrap(display.Plain(strings.ToUpper(text[:1])+text[1:]), v.Columns-4) {
		if i == mostSays-1 {
			line = display.Truncate(line, v.Columns-6) + " …"
		}
		if i < mostSays {
			out = append(out, "  "+t.Paint(ui.Strong, line))
		}
	}
	return out
}
