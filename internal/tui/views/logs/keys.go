package logs

import (
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/record/journal"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// prompt asks for a text on the line below the entries.
type prompt struct {
	label, hint string
	input       textinput.Model
	err         string
	take        func(v *logs, text string) (tea.Cmd, error)
}

func newPrompt(label, value, hint string, take func(*logs, string) (tea.Cmd, error)) *prompt {
	f := ui.TextField("", value, "", 60)
	f.Input.Focus()
	return &prompt{label: label, hint: hint, input: f.Input, take: take}
}

// typed takes a key or a paste while the view asks for a text.
func (v *logs) typed(msg tea.Msg) {
	if v.prompt != nil {
		v.prompt.err = ""
		v.prompt.input, _ = v.prompt.input.Update(msg)
	}
}

// Bindings are the keys of the view.
func (v *logs) Bindings() []view.Binding {
	if p := v.prompt; p != nil {
		return []view.Binding{
			view.Act("enter", p.label, func() tea.Cmd {
				cmd, err := p.take(v, strings.TrimSpace(p.input.Value()))
				if err != nil {
					p.err = err.Error()
					return nil
				}
				v.prompt = nil
				return cmd
			}),
			view.Act("esc", "leave it", func() tea.Cmd {
				v.prompt = nil
				return nil
			}),
		}
	}
	page := max(1, v.rows-2)
	pause := "pause"
	if !v.following {
		pause = "follow"
	}
	return []view.Binding{
		view.Act("space", pause, v.pauseOrFollow).Spare(-1).Helps("pause, or follow what comes"),
		view.Bind("up down pgup pgdown", "scroll", func(pressed string) tea.Cmd {
			return v.selectBy(map[string]int{"up": -1, "down": 1, "pgup": -page, "pgdown": page}[pressed])
		}).Shown("↑ ↓").Helps("scroll; pgup, pgdn: by a page").Hushed(),
		view.Bind("home end", "the first, the newest", func(pressed string) tea.Cmd {
			if pressed == "end" {
				return v.follow()
			}
			v.pause()
			return v.goTo(v.query(), journal.Place{Seen: -1}, false)
		}).Hushed(),
		view.Bind("left right", "sideways", func(pressed string) tea.Cmd {
			if pressed == "right" {
				v.shift += 20
			} else {
				v.shift = max(0, v.shift-20)
			}
			return nil
		}).Shown("← →").Hushed(),
		view.Bind("tab shift+tab", "one alone", func(pressed string) tea.Cmd {
			v.alone(pressed == "tab")
			return v.anew()
		}).Shown("tab").Helps("one service alone, then the next"),
		view.Act("p", "pick", func() tea.Cmd {
			v.Show(&picker{view: v})
			return nil
		}).Spare(4).Helps("pick services"),
		view.Act("a", "all", v.all).Hushed().Helps("all again, without filters"),
		view.Act("l", "level", func() tea.Cmd {
			v.level = map[journal.Level]journal.Level{journal.None: journal.Info, journal.Info: journal.Warn, journal.Warn: journal.Error}[v.level]
			return v.anew()
		}).Spare(2).Helps("only this level and worse"),
		view.Act("f", "filter", v.askFilter).Helps("only entries with a text or /regexp/"),
		view.Act("/", "search", v.askSearch).Helps("search, and mark what is found"),
		view.Bind("N n", "earlier, later", func(pressed string) tea.Cmd { return v.jump(v.searched(), pressed == "N") }).
			If(v.search != "").Helps("the match before, the one after"),
		view.Bind("b B", "last start", func(pressed string) tea.Cmd {
			q := v.query()
			q.Event, q.Level, q.Patterns = "start", journal.None, nil
			return v.jump(q, pressed == "b")
		}).Spare(3).Helps("the start before, the one after"),
		view.Bind("e E", "last error", func(pressed string) tea.Cmd {
			q := v.query()
			q.Level = journal.Error
			return v.jump(q, pressed == "e")
		}).Spare(1).Helps("the error before, the one after"),
		view.Act("g", "time", v.askTime).Spare(4).Helps("go to a time"),
		view.Act("enter", "open", v.openEntry).Hushed().Helps("open or close a long entry"),
		view.Act("o", "as written", func() tea.Cmd {
			v.raw = !v.raw
			return nil
		}).Spare(6).Helps("lines as they were written"),
		view.Act("w", "wrap", func() tea.Cmd {
			v.wrapped, v.shift = !v.wrapped, 0
			return nil
		}).Spare(7).Helps("wrap long lines"),
		view.Act("m", "mark", v.markHere).Spare(5).Helps("mark: then ↑ ↓ select more"),
		view.Act("c", "copy", v.copy).Spare(5).Helps("copy what is selected"),
		view.Act("s", "save", v.askFile).Spare(5).Helps("save what is shown to a file"),
		view.Act("esc", "back", v.back).If(v.mark >= 0 || v.search != "").Hushed().Helps("end a mark or a search"),
	}
}

func (v *logs) pauseOrFollow() tea.Cmd {
	if !v.following {
		return v.follow()
	}
	v.pause()
	return nil
}

// all shows everything again.
func (v *logs) all() tea.Cmd {
	v.services, v.level, v.filter = nil, journal.None, ""
	v.search, v.pattern = "", nil
	return v.anew()
}

// openEntry opens or closes a long entry.
func (v *logs) openEntry() tea.Cmd {
	v.pause()
	if v.cursor < len(v.entries) {
		place := v.entries[v.cursor].Place
		v.opened[place] = !v.opened[place]
	}
	return nil
}

// markHere begins a selection of several, or ends it.
func (v *logs) markHere() tea.Cmd {
	v.pause()
	if v.mark >= 0 {
		v.mark = -1
	} else {
		v.mark = v.cursor
	}
	return nil
}

func (v *logs) askFilter() tea.Cmd {
	v.prompt = newPrompt("filter", v.filter, "a text, or an /expression/; nothing shows all", func(v *logs, text string) (tea.Cmd, error) {
		if _, err := journal.Parse(text); err != nil {
			return nil, err
		}
		v.filter = text
		return v.anew(), nil
	})
	return nil
}

func (v *logs) askSearch() tea.Cmd {
	v.prompt = newPrompt("search", v.search, "a text, or an /expression/", (*logs).searchFor)
	return nil
}

func (v *logs) askTime() tea.Cmd {
	v.prompt = newPrompt("go to", "", "14:05, or 10m for ten minutes ago", func(v *logs, text string) (tea.Cmd, error) {
		at, err := journal.ParseTime(text, time.Now())
		if err != nil {
			return nil, err
		}
		v.pause()
		return v.goTo(v.query(), journal.At(at), true), nil
	})
	return nil
}

func (v *logs) searchFor(text string) (tea.Cmd, error) {
	pattern, err := journal.Parse(text)
	if err != nil {
		return nil, err
	}
	v.search, v.pattern = text, pattern
	v.begin()
	if text == "" {
		return nil, nil
	}
	v.pause()
	back, forth := v.searched(), v.searched()
	if here := v.here(); !here.IsZero() {
		forth.From, forth.Oldest = here, true
		here.Offset++ // the selected entry counts
		back.Before = here
	}
	return tea.Batch(v.find(back, forth), v.countMatches()), nil
}

// back undoes the nearest thing that esc undoes.
func (v *logs) back() tea.Cmd {
	if v.mark >= 0 {
		v.mark = -1
	} else {
		v.search, v.pattern = "", nil
	}
	return nil
}

// click selects the entry on a row.
func (v *logs) click(row int) {
	if row >= 0 && row < len(v.laid) {
		v.pause()
		v.cursor = v.laid[row]
	}
}

// alone shows one service after the other, and then all again.
func (v *logs) alone(next bool) {
	names := slices.Sorted(slices.Values(v.Order))
	at := -1
	if len(v.services) == 1 {
		at = slices.Index(names, v.services[0])
	}
	if next {
		at++
	} else if at--; at < -1 {
		at = len(names) - 1
	}
	v.services = nil
	if at >= 0 && at < len(names) {
		v.services = []string{names[at]}
	}
}
