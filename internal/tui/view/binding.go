package view

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// Binding is a key with what it does. It is the one source of what a key does,
// of the key bar, and of the help.
type Binding struct {
	key.Binding // its help is what the key bar says
	// Help is what the help says; "" as the key bar.
	Help string
	// Yield says how soon it is left out of the key bar where there is no room.
	Yield int
	// Quiet keeps it out of the key bar.
	Quiet bool
	// Secret keeps it out of the help, too: it is another way of the same.
	Secret bool
	Do     func(pressed string) tea.Cmd
}

// Bind makes a binding of keys, separated by blanks. They are shown as they
// are unless Shown says otherwise.
func Bind(keys, does string, do func(pressed string) tea.Cmd) Binding {
	return Binding{Binding: key.NewBinding(key.WithKeys(strings.Fields(keys)...), key.WithHelp(keys, does)), Do: do}
}

// Act makes a binding of something that needs no key to know what to do.
func Act(keys, does string, do func() tea.Cmd) Binding {
	return Bind(keys, does, func(string) tea.Cmd { return do() })
}

// Shown sets how the keys are shown: "↑ ↓".
func (b Binding) Shown(as string) Binding {
	b.SetHelp(as, b.Binding.Help().Desc)
	return b
}

// Helps sets what the help says.
func (b Binding) Helps(text string) Binding {
	b.Help = text
	return b
}

// Spare says how soon it is left out of the key bar, n above those without.
func (b Binding) Spare(n int) Binding {
	b.Yield = n
	return b
}

// Hushed keeps it out of the key bar.
func (b Binding) Hushed() Binding {
	b.Quiet = true
	return b
}

// If has the key work only where it makes sense; the help lists it all the same.
func (b Binding) If(sensible bool) Binding {
	b.SetEnabled(sensible)
	return b
}

// Label returns how the keys are shown.
func (b Binding) Label() string { return b.Binding.Help().Key }

// Does returns what the key bar says.
func (b Binding) Does() string { return b.Binding.Help().Desc }

// Explains returns what the help says.
func (b Binding) Explains() string {
	if b.Help != "" {
		return b.Help
	}
	return b.Does()
}

// Press finds the binding of a key and does it; false if no enabled one has it.
func Press(all []Binding, k tea.KeyPressMsg) (tea.Cmd, bool) {
	for _, b := range all {
		if b.Do != nil && key.Matches(k, b.Binding) {
			return b.Do(k.String()), true
		}
	}
	return nil, false
}
