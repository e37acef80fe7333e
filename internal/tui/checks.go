package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/check"
)

// page is a view beside the map.
type page interface {
	title() string
	draw(m *model, rows int) []string
	key(m *model, pressed string) tea.Cmd
	bindings(m *model) []binding
	// move selects another row.
	move(m *model, by int)
}

// checksMsg brings what the checks found.
type checksMsg struct {
	findings []check.Finding
	took     time.Duration
	err      error
}

// askChecks makes the checks.
func (m *model) askChecks() tea.Cmd {
	if m.checking || m.client == nil {
		return nil
	}
	m.checking, m.checkAt = true, time.Time{}
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		began := time.Now()
		all, err := client.Checks(ctx)
		for range 10 { // it may just be replaced, and answer at the same place again
			if !errors.Is(err, api.ErrNoKeeper) && !errors.Is(err, api.ErrLost) {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(100 * time.Millisecond):
			}
			all, err = client.Checks(ctx)
		}
		return checksMsg{all, time.Since(began), err}
	}
}

func (m *model) checked(msg checksMsg) {
	m.checking = false
	if msg.err != nil {
		m.checkErr = msg.err.Error()
		return
	}
	m.findings, m.checkErr, m.checkTook = msg.findings, "", msg.took
}

// finding returns the worst that was found of a service, if it is worth a mark.
func (m *model) finding(service string) (check.Finding, bool) {
	for _, f := range m.findings {
		if f.Service == service && f.Level != check.Note {
			return f, true
		}
	}
	return check.Finding{}, false
}

// checksView is the findings, one a line, and all of the selected one.
type checksView struct {
	selected string // its id
	only     check.Level
}

func (v *checksView) title() string { return "checks" }

func (v *checksView) shown(m *model) []check.Finding {
	return slices.DeleteFunc(slices.Clone(m.findings), func(f check.Finding) bool { return v.only != "" && f.Level != v.only })
}

// at returns the selected finding's place in what is shown.
func (v *checksView) at(all []check.Finding) int {
	return max(0, slices.IndexFunc(all, func(f check.Finding) bool { return f.ID == v.selected }))
}

func (v *checksView) move(m *model, by int) {
	if all := v.shown(m); len(all) > 0 {
		v.selected = all[min(max(v.at(all)+by, 0), len(all)-1)].ID
	}
}

func (v *checksView) draw(m *model, rows int) []string {
	t := m.theme
	all := v.shown(m)
	counts := map[check.Level]int{}
	for _, f := range m.findings {
		counts[f.Level]++
	}
	head := "  "
	for _, l := range []struct {
		level check.Level
		says  string
	}{{check.Stops, "would stop a start"}, {check.Warns, "warnings"}, {check.Note, "notes"}} {
		in := levelInk(l.level)
		if counts[l.level] == 0 {
			in = faint
		}
		says := l.says
		if counts[l.level] == 1 {
			says = strings.TrimSuffix(says, "s")
		}
		head += t.paint(in, fmt.Sprintf("%s %d %s", LevelShape(l.level), counts[l.level], says)) + "   "
	}
	switch {
	case m.checking:
		head += t.paint(faint, "checking")
	case m.checkErr != "":
		head += t.paint(stateBad, "the checks could not be made: "+m.checkErr)
	case v.only != "":
		head += t.paint(faint, "only what "+string(v.only))
	case m.checkTook > 0:
		head += t.paint(faint, fmt.Sprintf("checked in %d ms", m.checkTook.Milliseconds()))
	}
	out := []string{Truncate(head, m.width), ""}
	if len(all) == 0 {
		text := "Nothing was found that would go wrong."
		if len(m.findings) > 0 {
			text = "Nothing of this level."
		}
		if m.checking && len(m.findings) == 0 {
			text = "Checking programs, versions, ports, folders, packages and env files."
		}
		return fill(append(out, "  "+t.paint(plain, text)), rows)
	}
	at := v.at(all)
	detail := v.detail(m, all[at])
	room := max(3, rows-len(out)-len(detail)-1)
	first := min(max(0, at-room/2), max(0, len(all)-room))
	name := 8
	for _, f := range all {
		name = max(name, min(16, Width(m.nameOf(f))))
	}
	for i := first; i < min(len(all), first+room); i++ {
		f := all[i]
		mark, in := "  ", plain
		if i == at {
			mark, in = t.paint(accent, "▌ "), strong
		}
		keys := ""
		if len(f.Actions) > 0 {
			keys = t.paint(accent, " ▸") // there is something to do about it
		}
		line := mark + t.paint(levelInk(f.Level), fmt.Sprintf("%s %-6s", LevelShape(f.Level), f.Level)) + t.paint(in, pad(Truncate(m.nameOf(f), name), name)) + "  "
		out = append(out, line+t.paint(in, Truncate(Plain(f.What), m.width-Width(line)-3))+keys)
	}
	for len(out) < rows-len(detail) {
		out = append(out, "")
	}
	return fill(append(out, detail...), rows)
}

// fill makes lines as many as there are rows.
func fill(lines []string, rows int) []string {
	for len(lines) < rows {
		lines = append(lines, "")
	}
	return lines[:rows]
}

func (m *model) nameOf(f check.Finding) string {
	if f.Service == "" {
		return m.overview.Project
	}
	return f.Service
}

func (v *checksView) detail(m *model, f check.Finding) []string {
	t := m.theme
	title := m.nameOf(f) + " "
	out := []string{t.paint(line, "── ") + t.paint(accent, title) + t.paint(line, strings.Repeat("─", max(0, m.width-3-Width(title))))}
	row := func(label, text string, in ink) {
		for i, l := range wrap(Plain(text), m.width-16) {
			if i > 0 {
				label = ""
			}
			out = append(out, "  "+t.paint(faint, fmt.Sprintf("%-10s", label))+t.paint(in, l))
		}
	}
	row("found", f.What, plain)
	if f.Where != "" {
		row("in", f.Where, plain)
	}
	if f.Why != "" {
		row("why", f.Why, plain)
	}
	if f.Remedy != "" {
		row("do", f.Remedy, strong)
	}
	for i, a := range f.Actions {
		out = append(out, "  "+t.paint(accent, fmt.Sprintf("%-10s", actionKey(i)))+t.paint(plain, Truncate(Plain(a.Label+": "+a.Says), m.width-14)))
	}
	return out
}

// actionKey returns the key of an action.
func actionKey(i int) string { return string(rune('a' + i)) }

func (v *checksView) key(m *model, pressed string) tea.Cmd {
	all := v.shown(m)
	switch pressed {
	case "up":
		v.move(m, -1)
	case "down":
		v.move(m, 1)
	case "l":
		levels := []check.Level{"", check.Stops, check.Warns, check.Note}
		v.only = levels[(slices.Index(levels, v.only)+1)%len(levels)]
	case "r":
		return m.askChecks()
	case "enter":
		if len(all) > 0 && m.services[all[v.at(all)].Service].Name != "" {
			m.choose(all[v.at(all)].Service)
			m.page = nil
		}
	default:
		if len(all) == 0 || len(pressed) != 1 {
			return nil
		}
		f := all[v.at(all)]
		if i := int(pressed[0] - 'a'); i >= 0 && i < len(f.Actions) {
			return m.remedy(f, f.Actions[i])
		}
	}
	return nil
}

func (v *checksView) bindings(m *model) []binding {
	out := []binding{key("↑ ↓", "choose")}
	if all := v.shown(m); len(all) > 0 {
		for i, a := range all[v.at(all)].Actions {
			out = append(out, binding{key: actionKey(i), does: a.Label})
		}
		out = append(out, spare(3, "enter", "on the map"))
	}
	return append(out, spare(2, "l", "level"), key("r", "check again"), spare(1, "1", "map"), key("?", "help"), key("q", "leave"))
}

// remedy does something about a finding; what ends something is asked first.
func (m *model) remedy(f check.Finding, a check.Action) tea.Cmd {
	if !a.Asks {
		return m.carryOut(f, a)
	}
	m.panel = &question{
		title: strings.ToUpper(a.Label[:1]) + a.Label[1:] + "?",
		text:  a.Says + ".",
		yes:   a.Label,
		then:  func(m *model) tea.Cmd { return m.carryOut(f, a) },
	}
	return nil
}

// remediedMsg is the end of a remedy.
type remediedMsg struct {
	says string
	err  error
}

func (m *model) carryOut(f check.Finding, a check.Action) tea.Cmd {
	m.say(a.Label, false)
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, stopLimit)
		defer cancel()
		says, err := client.Remedy(ctx, f.ID, a)
		return remediedMsg{says, err}
	}
}
