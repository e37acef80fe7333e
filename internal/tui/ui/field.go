package ui

import (
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/display"
)

// Field is a row of a form: a text, or one of several choices.
type Field struct {
	Label   string
	Input   textinput.Model
	Choices []string // if not nil, one of them is taken with the arrows
	Chosen  int
	Hint    string
}

// TextField returns a field for a text.
func TextField(label, value, hint string, width int) *Field {
	in := textinput.New()
	in.Prompt = ""
	in.SetWidth(width)
	in.SetValue(value)
	in.CursorEnd()
	return &Field{Label: label, Input: in, Hint: hint}
}

// Value returns what the field holds.
func (f *Field) Value() string {
	if f.Choices != nil {
		return f.Choices[f.Chosen]
	}
	return strings.TrimSpace(f.Input.Value())
}

// Draw returns the field as it is; a selected text has its cursor.
func (f *Field) Draw(t *Theme, selected bool, width int) string {
	in := Plain
	if selected {
		in = Accent
	}
	switch {
	case f.Choices != nil && selected:
		return t.Paint(Accent, "◂"+f.Value()+"▸")
	case f.Choices != nil:
		return t.Paint(in, f.Value())
	case !selected && f.Input.Value() == "":
		return t.Paint(Faint, display.Truncate(f.Hint, width))
	case !selected:
		return t.Paint(in, display.Truncate(display.Plain(f.Input.Value()), width))
	}
	return DrawInput(t, f.Input, width)
}

// DrawInput returns a text with its cursor, and as much around it as fits.
func DrawInput(t *Theme, in textinput.Model, width int) string {
	r := []rune(in.Value())
	at := min(in.Position(), len(r))
	from := max(0, at-width+2)
	r, at = r[from:], at-from
	under := " "
	rest := ""
	if at < len(r) {
		under, rest = string(r[at]), string(r[at+1:])
	}
	return t.Paint(Accent, string(r[:at])) + t.Style[Accent].Reverse(true).Render(under) + t.Paint(Accent, display.Truncate(rest, max(0, width-at-1)))
}

// Press takes a key; false: it is not for the field.
func (f *Field) Press(k tea.KeyPressMsg) bool {
	if f.Choices == nil {
		before, at := f.Input.Value(), f.Input.Position()
		f.Input.Focus()
		f.Input, _ = f.Input.Update(k)
		return f.Input.Value() != before || f.Input.Position() != at
	}
	switch k.String() {
	case "left":
		f.Chosen = (f.Chosen + len(f.Choices) - 1) % len(f.Choices)
	case "right", "space":
		f.Chosen = (f.Chosen + 1) % len(f.Choices)
	default:
		// The next choice that begins with the letter.
		if k.Text == "" {
			return false
		}
		for i := range f.Choices {
			if n := (f.Chosen + 1 + i) % len(f.Choices); strings.HasPrefix(f.Choices[n], k.Text) {
				f.Chosen = n
				break
			}
		}
	}
	return true
}
