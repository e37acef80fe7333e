package tui

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/core/check"
	"neighbour/internal/core/discover"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/keep"
	"neighbour/internal/core/kind"
	ports "neighbour/internal/core/port"
	"neighbour/internal/core/project"
	"neighbour/internal/core/wire"
)

// found are findings with awkward texts.
func found(n int) []check.Finding {
	var out []check.Finding
	levels := []check.Level{check.Stops, check.Warns, check.Note}
	for i := range n {
		f := check.Finding{ID: fmt.Sprint("id", i), Level: levels[i%3], Service: fmt.Sprintf("service-%d", i%5), What: strings.Repeat("宽 what\x1b[2J ", 1+i*5),
			Where: "neighbour.toml:1:2", Why: strings.Repeat("why ", i*9), Remedy: strings.Repeat("do this ", i*7)}
		if i%4 == 0 {
			f.Service = ""
		}
		if i%3 == 0 {
			f.Actions = []check.Action{{Do: "a", Label: "use 4101 now", Says: "it gets another port"}, {Do: "b", Label: "ask it to end", Says: strings.Repeat("SIGTERM is sent ", 9), Asks: true}}
		}
		out = append(out, f)
	}
	return out
}

// wired is a wiring with awkward texts.
func wired(n int) keep.Wiring {
	w := keep.Wiring{}
	for i := range n {
		name := fmt.Sprintf("service-%d", i)
		w.Services = append(w.Services, name)
		v := keep.Wired{Explained: project.Explained{Service: name, Variable: wire.Variable{Name: strings.Repeat("V", i+1), Value: strings.Repeat("宽x", i*9) + "\x1b[1A", From: []string{fmt.Sprintf("service-%d.url", i/2), "env.HOME"}, Where: "neighbour.toml:1:1", Secret: i%2 == 0}}, Stale: i%3 == 0}
		if i%2 == 0 {
			v.Hides = []project.Hidden{{Where: ".env:1"}, {Where: "the environment", Same: true}}
		}
		w.Variables = append(w.Variables, v)
		use := keep.PortUse{Port: 4100 + i, Service: name, Declared: i%2 == 0, Conflict: i == 0}
		if i%2 == 0 {
			use.Holder, use.Whose = &ports.Holder{Port: use.Port, PID: 7, Command: "redis-server", Line: strings.Repeat("redis-server --port ", 20), Addresses: []netip.Addr{netip.MustParseAddr("::1")}, Started: time.Now()}, "not ours"
		}
		w.Ports = append(w.Ports, use)
		results := []wire.Comparison{wire.Same, wire.Different, wire.Elsewhere, wire.Missing, wire.Unused}
		f := project.EnvFile{Path: strings.Repeat("deep/", i) + ".env", Service: name, Production: i%4 == 3,
			Drift: []wire.Drift{{Name: "DATABASE_URL", Line: 3, Result: results[i%5], Theirs: "postgres://u:hidden-word@h/d", Ours: "postgres://u:hidden-word@h/d", Secret: true, Parts: []string{"port 1, ours is 2"}, Provided: i%2 == 0}}}
		if i%5 == 4 {
			f.Problem, f.Line = "it is not a text", 2
		}
		w.Files = append(w.Files, f)
	}
	return w
}

// printed are entries with awkward texts.
func printed(n int) []journal.Entry {
	var out []journal.Entry
	for i := range n {
		e := journal.Entry{Service: fmt.Sprintf("service-%d", i%7), At: time.Date(2026, 11, 22+i/40, 12, 0, i%60, 0, time.Local), Level: journal.Level(i % 5), Place: journal.Place{Seen: int64(i + 1), Log: "x", Offset: int64(i)}}
		e.Message = strings.Repeat("宽\x1b[31mlate\x1b[2J ", 1+i*3) + strings.Repeat("\n    at lend()", i%9)
		e.Text, e.Fields = e.Message, strings.Repeat("days=3 ", i%4)
		if i%6 == 5 {
			e.Event, e.Level = []string{"ready", "failed", "changed"}[i%3], journal.None
		}
		out = append(out, e)
	}
	return out
}

func text(m *model) string { return ansi.Strip(strings.Join(m.screen(), "\n")) }

// Each page fills its size exactly, whatever is on it, and shows no password
// before it is asked to.
func TestEveryPageFits(t *testing.T) {
	for _, n := range []int{0, 1, 7, 80} {
		for _, size := range [][2]int{{60, 16}, {80, 24}, {142, 38}, {250, 70}} {
			for _, keys := range []string{"", "3", "3 down down", "3 tab", "3 tab down", "3 tab tab", "3 tab tab down down", "7", "7 down down", "7 l", "7 l l l", "7 b", "7 ?", "7 enter", "3 1", "e", "e down 9 9 9 9 9 9 enter", "x",
				"2", "enter", "2 w", "2 o up", "2 up m up up", "2 / l a t e enter", "2 f", "2 l l", "2 p down space", "2 up enter right", "2 up up down down down", "2 ?", "2 s", "2 g x enter"} {
				m := shown(size[0], size[1], toolshed(min(n, 12))...)
				m.Update(checksMsg{findings: found(n), took: 3 * time.Millisecond})
				for k := range strings.FieldsSeq(keys) {
					press(m, k)
					m.Update(wiringMsg{wiring: wired(n)})
					if v, ok := m.page.(*logsView); ok {
						m.Update(logsMsg{turn: v.turn, ask: askNewest, entries: printed(n)})
					}
				}
				lines := m.screen()
				assert.Len(t, lines, size[1], "%d at %v, keys %q", n, size, keys)
				for _, l := range lines {
					assert.LessOrEqual(t, Width(l), size[0], "%d at %v, keys %q: %q", n, size, keys, ansi.Strip(l))
				}
				assert.NotContains(t, text(m), "hidden-word")
			}
		}
	}
}

func TestChecksPage(t *testing.T) {
	m := shown(142, 38, toolshed(6)...)
	m.Update(checksMsg{findings: found(9)})
	m.choose("service-3")
	assert.Contains(t, text(m), "(7)", "the doorstep says what was found")
	press(m, "7")
	page := m.page.(*checksView)
	assert.Equal(t, "id3", page.selected, "the finding of the selected service")
	page.selected = "id0"
	assert.Contains(t, text(m), "✖ 3 would stop a start   ▲ 3 warnings   · 3 notes")
	assert.Contains(t, text(m), "a use 4101 now  b ask it to end")
	press(m, "b")
	require.IsType(t, &question{}, m.panel, "what ends something is asked")
	assert.Contains(t, text(m), "Ask it to end?")
	press(m, "esc")
	assert.Nil(t, m.panel)
	press(m, "c")
	assert.Nil(t, m.panel, "there is no third action")
	press(m, "l")
	assert.NotContains(t, text(m), "▲ warns")
	press(m, "down")
	assert.Equal(t, "id3", page.selected)
	press(m, "enter")
	assert.Nil(t, m.page)
	assert.Equal(t, "service-3", m.selected)

	m.Update(remediedMsg{says: "port 4101 is free"})
	assert.Contains(t, text(m), "port 4101 is free")
	m.Update(remediedMsg{err: errors.New("things have changed meanwhile")})
	assert.Contains(t, text(m), "things have changed meanwhile")
	m.checking = false
	press(m, "7")
	m.Update(checksMsg{err: errors.New("the keeper is gone")})
	assert.Contains(t, text(m), "the checks could not be made: the keeper is gone")
	m.Update(checksMsg{})
	assert.Contains(t, text(m), "Nothing was found that would go wrong.")
}

func TestWiringPage(t *testing.T) {
	m := shown(142, 38, toolshed(6)...)
	press(m, "3")
	assert.Contains(t, text(m), "asking the keeper")
	m.Update(wiringMsg{wiring: wired(4)})
	assert.Regexp(t, `reads from +service-0 +service-1`, text(m))
	assert.Regexp(t, `service-1 +● url`, text(m))
	press(m, "down")
	assert.Contains(t, text(m), "${service-0.url}  →  ${env.HOME}  →  VV  →  environment of service-1, pid 100001")
	press(m, "up")
	assert.Contains(t, text(m), "service-0 was started with another value; restart service-0 to give it this one")
	press(m, "tab")
	assert.Regexp(t, `4100 +service-0 +✖ held +IPv6 +redis-server --port .* pid 7`, text(m))
	assert.Contains(t, text(m), "7 shows what can be done about it")
	press(m, "tab")
	assert.Contains(t, text(m), "the same as what the declaration provides")
	press(m, "v")
	assert.Contains(t, text(m), "hidden-word", "shown when it is asked for")
	for range 3 {
		press(m, "down")
	}
	assert.Contains(t, text(m), "of a production file are not shown")
	m.Update(wiringMsg{err: errors.New("no longer there")})
	assert.Contains(t, text(m), "no longer there")
	press(m, "esc")
	assert.Nil(t, m.page)
}

func TestForms(t *testing.T) {
	m := shown(142, 38, api.Status{Name: "ledger", Kind: "postgres", Step: 1, State: keep.Stopped, Declared: keep.Declared{Version: "15", Port: 5432, Versioned: true}})
	press(m, "e")
	f := m.panel.(*form)
	c, err := f.change()
	require.NoError(t, err)
	assert.Equal(t, project.Change{Service: "ledger"}, c, "nothing is changed")
	for _, k := range []string{"backspace", "backspace", ">", "=", "1", "6", "down", "left", "left", "1"} {
		press(m, k)
	}
	c, err = f.change()
	require.NoError(t, err)
	assert.Equal(t, ">=16", *c.Version)
	assert.Equal(t, 54132, *c.Port, "the cursor can be moved")
	for range 5 {
		press(m, "backspace")
	}
	press(m, "right")
	press(m, "right")
	press(m, "x")
	_, err = f.change()
	assert.ErrorContains(t, err, "is not a port")
	m.Update(editedMsg{err: errors.New("neighbour.toml:1:1: no\n  do this")})
	assert.Contains(t, text(m), "do this", "the form stays, and says why")
	press(m, "esc")
	assert.Nil(t, m.panel)

	m.Update(kindsMsg{kinds: []project.Available{{Name: "program", About: "program", Begin: `run = "npm start"`}, {Name: "redis", About: "Redis", Installed: "7.0"}, {Name: "nats", About: "NATS", Missing: "not installed here; install it with: sudo apt-get install nats-server"}}})
	f = m.panel.(*form)
	assert.Contains(t, text(m), `run = "npm start"`)
	_, err = f.change()
	assert.ErrorContains(t, err, "it needs a name")
	press(m, "right")
	assert.Contains(t, text(m), "Redis 7.0 is installed here.")
	assert.NotContains(t, text(m), "npm start")
	press(m, "n")
	assert.Regexp(t, `sudo apt-get install\s+│\s+│ nats-server`, text(m))
	press(m, "down")
	press(m, "b")
	c, err = f.change()
	require.NoError(t, err)
	assert.Equal(t, project.Change{Service: "b", Add: &project.NewService{Kind: "nats"}}, c)
	m.Update(kindsMsg{err: errors.New("lost")})
	assert.Contains(t, text(m), "lost")
	m.panel = nil
	m.Update(editedMsg{change: c})
	assert.Contains(t, text(m), "b is changed in neighbour.toml")
	press(m, "x")
	require.IsType(t, &question{}, m.panel)
}

func TestSetupScreen(t *testing.T) {
	p := &discover.Proposal{Name: "toolshed", Dir: t.TempDir(), Files: []string{".env"}}
	for i := range 30 {
		p.Services = append(p.Services, &discover.Service{On: i < 20, Name: fmt.Sprintf("cache%d", i), Kind: "redis", Why: []discover.Finding{{File: ".env", Line: i, What: strings.Repeat("宽 why ", i)}}})
	}
	s := newSetup(p)
	key := func(k string) {
		m := tea.KeyPressMsg(tea.Key{Text: k})
		switch k {
		case "down", "right", "enter", "left", "up":
			m = tea.KeyPressMsg(tea.Key{Code: map[string]rune{"down": tea.KeyDown, "up": tea.KeyUp, "right": tea.KeyRight, "left": tea.KeyLeft, "enter": tea.KeyEnter}[k]})
		case "space":
			m = tea.KeyPressMsg(tea.Key{Code: tea.KeySpace, Text: " "})
		}
		s.Update(m)
	}
	fits := func() {
		for _, size := range [][2]int{{60, 16}, {80, 24}, {142, 38}, {250, 70}, {30, 10}} {
			s.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
			lines := s.screen()
			assert.LessOrEqual(t, len(lines), size[1])
			for _, l := range lines {
				assert.LessOrEqual(t, Width(l), size[0], "%v %q", size, ansi.Strip(l))
			}
		}
		s.Update(tea.WindowSizeMsg{Width: 142, Height: 38})
	}
	screen := func() string { return ansi.Strip(strings.Join(s.screen(), "\n")) }
	fits()
	assert.Contains(t, screen(), "…", "what is installed isn't known yet")
	s.Update(hereMsg{"redis": {Version: "7.0.15"}, "nats": {Missing: "nats-server is not installed", Packages: kind.Packages{Debian: "nats-server"}}})
	assert.Contains(t, screen(), "7.0.15")
	for range 29 {
		key("down")
	}
	fits()
	assert.Contains(t, screen(), "cache29")
	key("right")
	key("enter")
	key("n")
	fits()
	assert.Contains(t, screen(), `kind = "nats"`)
	assert.True(t, p.Services[29].On, "who changes it wants it")
	assert.Contains(t, screen(), "▲ nats-server is not installed")
	key("enter")
	key("left")
	key("enter")
	key("!")
	assert.Contains(t, screen(), "✖")
	key("enter")
	key("w")
	assert.False(t, s.write)
	assert.Contains(t, screen(), "not written")
	fits()
	for _, v := range p.Services {
		v.On = false
	}
	s.render()
	assert.Contains(t, screen(), "nothing to write yet")
	key("space")
	p.Services[29].Name = "bus"
	s.render()
	key("w")
	assert.True(t, s.write)
	s.Update(tea.MouseClickMsg{Button: tea.MouseLeft, X: 5, Y: setupTop + 1})
	assert.Equal(t, s.cut+1, s.row)
}
