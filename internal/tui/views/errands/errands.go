// Package errands is the view of the one-off commands of a project: what each is
// for, how it went, and what it prints.
package errands

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/record/errand"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Spec describes the view. Its argument is the name of the errand to choose.
var Spec = view.Spec{ID: "errands", Title: "errands", Key: "5", New: open, Commands: commands}

func commands(e *view.Env) []view.Command {
	var out []view.Command
	for _, one := range e.Overview.Errands {
		says := strings.TrimSuffix("run "+one.Name+": "+one.About, ": ")
		out = append(out, view.Command{Says: says, Do: func() tea.Cmd { return e.Turn("errands", Args{Errand: one.Name, Run: true}) }})
	}
	return out
}

// Args choose an errand, and run it if so asked.
type Args struct {
	Errand string
	Run    bool
}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &screen{Env: e, follow: true}
	a, _ := args.(Args)
	v.selected, v.runAtOnce = a.Errand, a.Run
	return v, v.list()
}

// screen is the errands, and the output of one run of the chosen one.
type screen struct {
	*view.Env
	view.Still
	all       []insight.Errand
	loaded    bool
	err       string
	selected  string
	runAtOnce bool // the chosen one, as soon as it is known

	run    int64 // which run is shown; 0: the latest
	shown  errand.Run
	text   string // its output
	next   int64  // how much of that is there
	asked  bool   // more of it was asked for
	top    int    // the first line that is shown, unless follow
	follow bool   // the end is shown

	search    *textinput.Model // while it is typed
	sought    string
	listedAt  time.Time
	answering bool // the list was asked for
}

type (
	listMsg struct {
		all []insight.Errand
		err error
	}
	outputMsg struct {
		id, from int64
		out      keep.ErrandOutput
		err      error
	}
	begunMsg struct {
		run errand.Run
		err error
	}
)

func (v *screen) list() tea.Cmd {
	v.answering = true
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		all, err := c.Errands(ctx)
		return listMsg{all, err}
	})
}

// errand returns the chosen one; false if there is none.
func (v *screen) errand() (insight.Errand, bool) {
	if len(v.all) == 0 {
		return insight.Errand{}, false
	}
	return v.all[v.at()], true
}

func (v *screen) at() int {
	return max(0, slices.IndexFunc(v.all, func(e insight.Errand) bool { return e.Name == v.selected }))
}

// Update takes a message.
func (v *screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case listMsg:
		return v.took(msg)
	case outputMsg:
		v.printed(msg)
	case begunMsg:
		if msg.err != nil {
			v.Say(msg.err.Error(), true)
			return nil
		}
		v.choose(msg.run.Errand, 0)
		return v.list()
	case view.Changed:
		if msg.Fresh || msg.Moved {
			return v.list()
		}
	case view.Tick:
		return v.tick(msg.At)
	case tea.KeyPressMsg:
		if v.search != nil {
			in, cmd := v.search.Update(msg)
			v.search = &in
			return cmd
		}
	case tea.PasteMsg:
		if v.search != nil {
			in, _ := v.search.Update(msg)
			v.search = &in
		}
	}
	if by := view.Wheel(msg); by != 0 {
		v.scroll(by * 3)
	}
	return nil
}

// listEvery is how often the list is asked for, since other processes run
// errands, too.
const listEvery = time.Second

func (v *screen) tick(at time.Time) tea.Cmd {
	var cmds []tea.Cmd
	if at.Sub(v.listedAt) >= listEvery && !v.answering {
		v.listedAt = at
		cmds = append(cmds, v.list())
	}
	if v.shown.Result == errand.UnderWay {
		cmds = append(cmds, v.more())
	}
	return tea.Batch(cmds...)
}

func (v *screen) took(msg listMsg) tea.Cmd {
	v.answering = false
	if msg.err != nil {
		if !v.loaded {
			v.err = msg.err.Error()
		}
		return nil
	}
	v.all, v.loaded, v.err = msg.all, true, ""
	e, ok := v.errand()
	if !ok {
		return nil
	}
	v.selected = e.Name
	if v.runAtOnce {
		v.runAtOnce = false
		return tea.Batch(v.begin(nil), v.show(e))
	}
	return v.show(e)
}

// show has the output of the chosen run be there, or more of it.
func (v *screen) show(e insight.Errand) tea.Cmd {
	r, ok := e.Last()
	if i := slices.IndexFunc(e.Runs, func(r errand.Run) bool { return r.ID == v.run }); i >= 0 {
		r = e.Runs[i]
	} else {
		v.run = 0
	}
	if !ok {
		v.shown, v.text, v.next = errand.Run{}, "", 0
		return nil
	}
	if r.ID != v.shown.ID {
		v.text, v.next, v.top, v.follow, v.asked = "", 0, 0, true, false
	}
	ended := v.shown.ID == r.ID && v.shown.Result != errand.UnderWay
	v.shown = r
	if ended {
		return nil
	}
	return v.more()
}

func (v *screen) more() tea.Cmd {
	if v.asked || v.shown.ID == 0 {
		return nil
	}
	v.asked = true
	id, from := v.shown.ID, v.next
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		out, err := c.ErrandOutput(ctx, id, from)
		return outputMsg{id, from, out, err}
	})
}

func (v *screen) printed(msg outputMsg) {
	if msg.id != v.shown.ID {
		return
	}
	v.asked = false
	if msg.err != nil || msg.from != v.next {
		return
	}
	if msg.out.Next < msg.from+int64(len(msg.out.Text)) && msg.from > 0 { // it was shortened
		v.text = ""
	}
	v.text += msg.out.Text
	v.next, v.shown = msg.out.Next, msg.out.Run
}

// choose shows a run of an errand; 0 is the latest.
func (v *screen) choose(name string, run int64) {
	v.selected, v.run, v.sought = name, run, ""
}

func (v *screen) move(by int) tea.Cmd {
	if len(v.all) == 0 {
		return nil
	}
	e := v.all[min(max(0, v.at()+by), len(v.all)-1)]
	v.choose(e.Name, 0)
	return v.show(e)
}

// earlier shows another run of the chosen errand.
func (v *screen) earlier(by int) tea.Cmd {
	e, ok := v.errand()
	if !ok || len(e.Runs) == 0 {
		return nil
	}
	i := slices.IndexFunc(e.Runs, func(r errand.Run) bool { return r.ID == v.shown.ID })
	i = min(max(0, i+by), len(e.Runs)-1)
	v.run = e.Runs[i].ID
	if i == len(e.Runs)-1 {
		v.run = 0
	}
	return v.show(e)
}

// scroll moves through the output.
func (v *screen) scroll(by int) {
	lines, rows := len(v.lines()), v.outputRows()
	if v.follow {
		v.top = max(0, lines-rows)
	}
	v.top = min(max(0, v.top+by), max(0, lines-rows))
	v.follow = v.top >= lines-rows
}

// begin runs the chosen errand, after its question.
func (v *screen) begin(args []string) tea.Cmd {
	e, ok := v.errand()
	if !ok {
		return nil
	}
	run := func() tea.Cmd { return v.start(e, args) }
	if e.Ask == "" {
		return run()
	}
	v.Show(&panel.Question{Env: v.Env, Title: "Run " + e.Name + "?", Text: e.Ask, Yes: "run it", Then: run})
	return nil
}

func (v *screen) start(e insight.Errand, args []string) tea.Cmd {
	if e.Terminal {
		return v.stepAside(e, args)
	}
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		run, err := c.RunErrand(ctx, e.Name, args)
		return begunMsg{run, err}
	})
}

// stepAside gives the terminal to an errand that wants it, and comes back.
func (v *screen) stepAside(e insight.Errand, args []string) tea.Cmd {
	self, err := os.Executable()
	if err != nil {
		v.Say(err.Error(), true)
		return nil
	}
	cmd := exec.Command(self, append([]string{"-C", v.Overview.Dir, "run", "--yes", e.Name}, args...)...)
	instance := v.Instance
	return tea.ExecProcess(cmd, func(err error) tea.Msg {
		return view.Answer{Instance: instance, Msg: begunMsg{errand.Run{Errand: e.Name}, nil}}
	})
}

// ask asks for the arguments.
func (v *screen) ask() tea.Cmd {
	e, ok := v.errand()
	if !ok {
		return nil
	}
	before := ""
	if len(v.shown.Args) > 0 {
		before = joined(v.shown.Args)
	}
	field := ui.TextField("words", before, "as in a shell: words, \"some of them in quotes\"", 46)
	field.Input.Focus()
	f := &panel.Form{Env: v.Env, Title: "Run " + e.Name + " with", Fields: []*ui.Field{field}, Yes: "run it"}
	f.Take = func() (tea.Cmd, error) {
		args, err := split(field.Value())
		if err != nil {
			return nil, err
		}
		v.Show(nil)
		return v.begin(args), nil
	}
	v.Show(f)
	return nil
}

// split makes arguments of what was typed.
func split(text string) ([]string, error) {
	words, ok := declare.PlainWords("x " + text)
	if !ok {
		return nil, fmt.Errorf("this is not a list of words; what a shell would act on stands between single quotes: '$HOME'")
	}
	return words[1:], nil
}

// joined is split's inverse.
func joined(args []string) string {
	out := make([]string, len(args))
	for i, a := range args {
		if words, ok := declare.PlainWords("x " + a); !ok || len(words) != 2 || words[1] != a {
			a = "'" + strings.ReplaceAll(a, "'", `'"'"'`) + "'"
		}
		out[i] = a
	}
	return strings.Join(out, " ")
}

func (v *screen) cancel() tea.Cmd {
	id := v.shown.ID
	return v.Call(view.CallLimit, func(ctx context.Context, c *api.Client) error { return c.CancelErrand(ctx, id) })
}

// Typing reports whether a search is typed.
func (v *screen) Typing() bool { return v.search != nil }

func (v *screen) seek(back bool) {
	lines := v.lines()
	from := v.top
	if v.follow {
		from = max(0, len(lines)-v.outputRows())
	}
	found := -1
	for i, l := range lines {
		if !strings.Contains(strings.ToLower(l), strings.ToLower(v.sought)) {
			continue
		}
		switch {
		case back && i < from:
			found = i
		case !back && i > from && found < 0:
			found = i
		}
	}
	if found < 0 {
		v.Say("nothing more is found of "+v.sought, false)
		return
	}
	v.top, v.follow = found, false
}

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	if v.search != nil {
		return []view.Binding{
			view.Bind("", "what to look for", nil).Shown("type"),
			view.Act("enter", "find", func() tea.Cmd {
				v.sought, v.search = v.search.Value(), nil
				if v.sought != "" {
					v.top, v.follow = -1, false
					v.seek(false)
					v.top = max(0, v.top)
				}
				return nil
			}),
			view.Act("esc", "leave it", func() tea.Cmd { v.search = nil; return nil }),
		}
	}
	_, some := v.errand()
	under := v.shown.Result == errand.UnderWay
	return []view.Binding{
		view.Bind("up down", "choose", func(pressed string) tea.Cmd {
			return v.move(map[string]int{"up": -1, "down": 1}[pressed])
		}).Shown("↑ ↓"),
		view.Act("enter", "run", func() tea.Cmd { return v.begin(nil) }).If(some && !under).Helps("run it; what it needs is started first"),
		view.Act("a", "with arguments", v.ask).If(some && !under).Helps("run it with arguments"),
		view.Act("R", "as it was", func() tea.Cmd { return v.begin(v.shown.Args) }).If(len(v.shown.Args) > 0 && !under).Helps("run it again with the arguments of the run that is shown"),
		view.Act("x", "cancel", v.cancel).If(under).Helps("end the run"),
		view.Bind("left right", "earlier runs", func(pressed string) tea.Cmd {
			return v.earlier(map[string]int{"left": -1, "right": 1}[pressed])
		}).Shown("← →").If(v.shown.ID != 0),
		view.Bind("pgup pgdown home end", "scroll", func(pressed string) tea.Cmd {
			v.scroll(map[string]int{"pgup": -v.outputRows(), "pgdown": v.outputRows(), "home": -1 << 30, "end": 1 << 30}[pressed])
			return nil
		}).Shown("pgup").If(v.text != "").Spare(1).Helps("scroll the output; end follows what comes"),
		view.Act("/", "search", func() tea.Cmd {
			in := textinput.New()
			in.Prompt = ""
			cmd := in.Focus()
			v.search = &in
			return cmd
		}).If(v.text != "").Spare(2).Helps("search the output"),
		view.Bind("N n", "earlier, later", func(pressed string) tea.Cmd { v.seek(pressed == "N"); return nil }).If(v.sought != "").Helps("the match before, the one after"),
	}
}

// Render draws the view.
func (v *screen) Render() view.Drawing { return v.drawing() }

var _ view.View = (*screen)(nil)
