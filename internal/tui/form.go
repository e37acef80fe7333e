package tui

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/project"
)

// field is a row of a form: a text, or one of several choices.
type field struct {
	label   string
	input   textinput.Model
	choices []string // if not nil, one of them is taken with the arrows
	chosen  int
	hint    string
}

func textField(label, value, hint string, width int) *field {
	in := textinput.New()
	in.Prompt = ""
	in.SetWidth(width)
	in.SetValue(value)
	in.CursorEnd()
	return &field{label: label, input: in, hint: hint}
}

func (f *field) value() string {
	if f.choices != nil {
		return f.choices[f.chosen]
	}
	return strings.TrimSpace(f.input.Value())
}

// draw returns the field as it is; a selected text has its cursor.
func (f *field) draw(t *theme, selected bool, width int) string {
	in := plain
	if selected {
		in = accent
	}
	switch {
	case f.choices != nil && selected:
		return t.paint(accent, "◂"+f.value()+"▸")
	case f.choices != nil:
		return t.paint(in, f.value())
	case !selected && f.input.Value() == "":
		return t.paint(faint, Truncate(f.hint, width))
	case !selected:
		return t.paint(in, Truncate(Plain(f.input.Value()), width))
	}
	return drawInput(t, f.input, width)
}

// drawInput returns a text with its cursor, and as much around it as fits.
func drawInput(t *theme, in textinput.Model, width int) string {
	r := []rune(in.Value())
	at := min(in.Position(), len(r))
	from := max(0, at-width+2)
	r, at = r[from:], at-from
	under := " "
	rest := ""
	if at < len(r) {
		under, rest = string(r[at]), string(r[at+1:])
	}
	return t.paint(accent, string(r[:at])) + t.style[accent].Reverse(true).Render(under) + t.paint(accent, Truncate(rest, max(0, width-at-1)))
}

// press takes a key; false: it is not for the field.
func (f *field) press(k tea.KeyPressMsg) bool {
	if f.choices == nil {
		before, at := f.input.Value(), f.input.Position()
		f.input.Focus()
		f.input, _ = f.input.Update(k)
		return f.input.Value() != before || f.input.Position() != at
	}
	switch k.String() {
	case "left":
		f.chosen = (f.chosen + len(f.choices) - 1) % len(f.choices)
	case "right", "space":
		f.chosen = (f.chosen + 1) % len(f.choices)
	default:
		// The next choice that begins with the letter.
		if k.Text == "" {
			return false
		}
		for i := range f.choices {
			if n := (f.chosen + 1 + i) % len(f.choices); strings.HasPrefix(f.choices[n], k.Text) {
				f.chosen = n
				break
			}
		}
	}
	return true
}

// form is a panel of fields, written to the declaration with enter.
type form struct {
	title   string
	fields  []*field
	at      int
	problem string
	// note is what there is to say of what the fields hold now.
	note func() string
	// shown says which fields there are now; nil: all.
	shown func(*field) bool
	// change makes of the fields what is to be changed.
	change func() (project.Change, error)
}

func (f *form) rows() []*field {
	if f.shown == nil {
		return f.fields
	}
	return slices.DeleteFunc(slices.Clone(f.fields), func(g *field) bool { return !f.shown(g) })
}

func (f *form) draw(m *model) []string {
	t := m.theme
	width := min(64, m.width-14)
	lines := []string{pad("", width)}
	for i, g := range f.rows() {
		mark := "  "
		if i == f.at {
			mark = t.paint(accent, "▌ ")
		}
		lines = append(lines, mark+t.paint(faint, fmt.Sprintf("%-9s", g.label))+g.draw(t, i == f.at, width-12))
		if i == f.at && g.hint != "" {
			for _, l := range wrap(g.hint, width-11) {
				lines = append(lines, "           "+t.paint(faint, l))
			}
		}
	}
	lines = append(lines, "")
	note := ""
	if f.note != nil {
		note = f.note()
	}
	if note != "" {
		for _, l := range wrap(note, width) {
			lines = append(lines, t.paint(plain, l))
		}
		lines = append(lines, "")
	}
	if f.problem != "" {
		// The place of a problem and its remedy are on lines of their own.
		for _, l := range strings.Split(f.problem, "\n") {
			for _, w := range wrap(Plain(l), width) {
				lines = append(lines, t.paint(stateBad, w))
			}
		}
		lines = append(lines, "")
	}
	lines = append(lines, t.paint(accent, "enter")+" "+t.paint(plain, "write it to neighbour.toml")+"   "+t.paint(accent, "esc")+" "+t.paint(plain, "leave as it is"))
	return m.frame(f.title, lines)
}

func (f *form) key(m *model, k tea.KeyPressMsg) tea.Cmd {
	rows := f.rows()
	switch k.String() {
	case "esc":
		m.panel = nil
	case "up", "shift+tab":
		f.at = (f.at + len(rows) - 1) % len(rows)
	case "down", "tab":
		f.at = (f.at + 1) % len(rows)
	case "enter":
		c, err := f.change()
		if err != nil {
			f.problem = err.Error()
			return nil
		}
		return m.edit(c)
	default:
		if rows[f.at].press(k) {
			f.problem = ""
		}
	}
	return nil
}

func (f *form) bindings() []binding {
	out := []binding{key("↑ ↓", "next")}
	if f.rows()[f.at].choices != nil {
		out = append(out, key("← →", "choose"))
	}
	return append(out, key("enter", "write it"), key("esc", "leave as it is"))
}

// editService returns the form of what can be changed of a service.
func editService(s api.Status) *form {
	port := ""
	if s.Declared.Port != 0 {
		port = strconv.Itoa(s.Declared.Port)
	}
	f := &form{title: "Change " + s.Name}
	version := textField("version", s.Declared.Version, `which will do: "15", ">=15.2, <17"; empty: any`, 40)
	number := textField("port", port, "empty: any free one, the same again next time", 12)
	if s.Declared.Versioned {
		f.fields = append(f.fields, version)
	}
	f.fields = append(f.fields, number)
	f.note = func() string {
		if s.State.Running() {
			return s.Name + " runs and goes on as it is until the change is applied (a)."
		}
		return ""
	}
	f.change = func() (project.Change, error) {
		c := project.Change{Service: s.Name}
		if v := version.value(); s.Declared.Versioned && v != s.Declared.Version {
			c.Version = &v
		}
		n := 0
		if text := number.value(); text != "" {
			var err error
			if n, err = strconv.Atoi(text); err != nil || n < 1 || n > 65535 {
				return c, fmt.Errorf("%q is not a port: write a number from 1 to 65535, or nothing", text)
			}
		}
		if n != s.Declared.Port {
			c.Port = &n
		}
		return c, nil
	}
	return f
}

// newService returns the form of a service to add.
func newService(kinds []project.Available) *form {
	kind := &field{label: "kind", choices: make([]string, len(kinds))}
	for i, k := range kinds {
		kind.choices[i] = k.Name
	}
	name := textField("name", "", "what your app calls it: a-z, 0-9, - and _", 40)
	begin := textField("line", "", "", 60)
	chosen := func() project.Available { return kinds[kind.chosen] }
	given := kinds[kind.chosen].Begin
	begin.input.SetValue(given)
	f := &form{title: "Add a service", fields: []*field{kind, name, begin}}
	f.shown = func(g *field) bool {
		if g != begin {
			return true
		}
		if now := chosen().Begin; now != given && begin.input.Value() == given {
			given = now // not touched yet
			begin.input.SetValue(now)
			begin.input.CursorEnd()
		}
		return chosen().Begin != ""
	}
	f.note = func() string {
		switch k := chosen(); {
		case k.Missing != "":
			return k.About + ", " + k.Missing + "."
		case k.Installed != "":
			return k.About + " " + k.Installed + " is installed here."
		default:
			return k.About + "."
		}
	}
	f.change = func() (project.Change, error) {
		if name.value() == "" {
			return project.Change{}, fmt.Errorf("it needs a name")
		}
		add := &project.NewService{Kind: chosen().Name}
		if chosen().Begin != "" {
			add.Line = begin.value()
		}
		return project.Change{Service: name.value(), Add: add}, nil
	}
	return f
}

// kindsMsg brings the kinds for the form of a new service.
type kindsMsg struct {
	kinds []project.Available
	err   error
}

// askKinds asks the keeper for the kinds.
func (m *model) askKinds() tea.Cmd {
	m.asking = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		kinds, err := client.Kinds(ctx)
		return kindsMsg{kinds, err}
	}
}

// editedMsg is the end of a change of the declaration.
type editedMsg struct {
	change project.Change
	err    error
}

// edit asks the keeper to change the declaration.
func (m *model) edit(c project.Change) tea.Cmd {
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		return editedMsg{c, client.Edit(ctx, c)}
	}
}

// edited says how a change went, and lets the keeper be replaced by one that
// has read it, if nothing runs.
func (m *model) edited(msg editedMsg) tea.Cmd {
	if msg.err != nil {
		if f, ok := m.panel.(*form); ok {
			f.problem = msg.err.Error()
		} else {
			text, _, _ := strings.Cut(msg.err.Error(), "\n")
			m.say(text, true)
		}
		return nil
	}
	m.panel = nil
	m.say(msg.change.Service+" is changed in neighbour.toml", false)
	if msg.change.Add != nil {
		m.added = msg.change.Service
	}
	return tea.Batch(m.refresh(), m.askChecks())
}

// refresh lets the keeper be replaced by one that has read the declaration as
// it is now, if it has changed and nothing runs.
func (m *model) refresh() tea.Cmd {
	if m.opts.Refresh == nil {
		return nil
	}
	m.refreshing = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		c, err := m.opts.Refresh(ctx, client)
		if err != nil || c == client {
			return refreshedMsg{err}
		}
		events, err := c.Events(m.ctx)
		return connectedMsg{c, events, err}
	}
}

// refreshedMsg says that the keeper stays, or why it could not be replaced.
type refreshedMsg struct{ err error }

// removeService asks, and then removes a service from the declaration.
func (m *model) removeService(s api.Status) tea.Cmd {
	if s.State.Running() || len(m.running([]string{s.Name})) > 0 {
		m.say(fmt.Sprintf("%s runs: stop it first (t)", s.Name), true)
		return nil
	}
	m.panel = &question{
		title: "Remove " + s.Name + "?",
		text:  fmt.Sprintf("Its table in neighbour.toml is removed, with the comments directly above it. Its data stays in .neighbour/data/%s.", s.Name),
		yes:   "remove it",
		then:  func(m *model) tea.Cmd { return m.edit(project.Change{Service: s.Name, Remove: true}) },
	}
	return nil
}
