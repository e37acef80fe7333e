package panel

import (
	"cmp"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Form is a panel of fields.
type Form struct {
	Env    *view.Env
	Title  string
	Fields []*ui.Field
	// Note is what there is to say of what the fields hold now; nil: nothing.
	Note func() string
	// Has says which fields there are now; nil: all.
	Has func(*ui.Field) bool
	// Take takes what the fields hold. An error is shown in the form.
	Take func() (tea.Cmd, error)
	// Yes says what taking it does; "" is to write it to the declaration.
	Yes     string
	Problem string
	at      int
}

func (f *Form) rows() []*ui.Field {
	if f.Has == nil {
		return f.Fields
	}
	return slices.DeleteFunc(slices.Clone(f.Fields), func(g *ui.Field) bool { return !f.Has(g) })
}

// Render draws the form.
func (f *Form) Render() []string {
	t := f.Env.Theme()
	width := min(64, f.Env.Width-14)
	lines := []string{display.Pad("", width)}
	label := 8 // the names of some fields are those of columns, of any length
	for _, g := range f.rows() {
		label = min(max(label, display.Width(g.Label)), 20)
	}
	for i, g := range f.rows() {
		mark := "  "
		if i == f.at {
			mark = t.Paint(ui.Accent, "▌ ")
		}
		lines = append(lines, mark+t.Paint(ui.Faint, display.Pad(display.Truncate(display.Plain(g.Label), label), label+1))+g.Draw(t, i == f.at, width-label-4))
		if i == f.at && g.Hint != "" {
			for _, l := range display.Wrap(g.Hint, width-label-3) {
				lines = append(lines, strings.Repeat(" ", label+3)+t.Paint(ui.Faint, l))
			}
		}
	}
	lines = append(lines, "")
	if f.Note != nil {
		if note := f.Note(); note != "" {
			for _, l := range display.Wrap(note, width) {
				lines = append(lines, t.Paint(ui.Plain, l))
			}
			lines = append(lines, "")
		}
	}
	if f.Problem != "" {
		// The place of a problem and its remedy are on lines of their own.
		for _, l := range strings.Split(f.Problem, "\n") {
			for _, w := range display.Wrap(display.Plain(l), width) {
				lines = append(lines, t.Paint(ui.Bad, w))
			}
		}
		lines = append(lines, "")
	}
	return t.Frame(f.Title, append(lines, choices(t, cmp.Or(f.Yes, "write it to neighbour.toml"), "leave as it is")), f.Env.Width)
}

// Bindings are the keys of the form.
func (f *Form) Bindings() []view.Binding {
	rows := f.rows()
	return []view.Binding{
		view.Bind("up down tab shift+tab", "next", func(pressed string) tea.Cmd {
			by := 1
			if pressed == "up" || pressed == "shift+tab" {
				by = len(rows) - 1
			}
			f.at = (f.at + by) % len(rows)
			return nil
		}).Shown("↑ ↓"),
		view.Bind("", "choose", nil).Shown("← →").If(rows[f.at].Choices != nil),
		view.Act("enter", cmp.Or(f.Yes, "write it"), func() tea.Cmd {
			cmd, err := f.Take()
			if err != nil {
				f.Problem = err.Error()
			}
			return cmd
		}),
		view.Act("esc", "leave as it is", func() tea.Cmd {
			f.Env.Show(nil)
			return nil
		}),
	}
}

// Type takes a key for the field.
func (f *Form) Type(k tea.KeyPressMsg) tea.Cmd {
	if f.rows()[f.at].Press(k) {
		f.Problem = ""
	}
	return nil
}
