package tui_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
	"neighbour/internal/core/project/discover"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/display"
	"neighbour/internal/signs"
	"neighbour/internal/tui/shell"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/view/viewtest"
	"neighbour/internal/tui/views"
	"neighbour/internal/tui/views/setup"
)

// Times are written as they are at Greenwich, whatever the machine has.
func init() { time.Local = time.UTC }

var update = flag.Bool("update", false, "write the golden frames anew")

// screen is the whole interface on a terminal of a size, with a keeper that
// answers as it is told. What a key leads to is done before the next.
type screen struct {
	*shell.Model
	keeper *viewtest.Keeper
}

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "tui")
	if err != nil {
		panic(err)
	}
	os.Setenv("XDG_STATE_HOME", dir)
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func shown(t testing.TB, width, height int, services ...api.Status) *screen {
	keeper, client := viewtest.NewKeeper(t, map[string]any{"GET /checks": []check.Finding{}, "GET /wiring": wired(0), "GET /logs": journal.Answer{}})
	s := &screen{shell.New(context.Background(), shell.Options{Client: client, Views: views.All()}), keeper}
	s.send(tea.WindowSizeMsg{Width: width, Height: height})
	s.Told(api.Snapshot{Overview: api.Overview{Project: "toolshed"}, Services: services})
	s.update(tea.FocusMsg{}) // what was told is laid out
	return s
}

func (s *screen) send(msg tea.Msg) { viewtest.Settle(func() tea.Msg { return msg }, s.update) }

func (s *screen) update(msg tea.Msg) tea.Cmd {
	if _, quit := msg.(tea.QuitMsg); quit {
		return nil
	}
	_, cmd := s.Update(msg)
	return cmd
}

func (s *screen) press(keys ...string) {
	for _, k := range keys {
		s.send(viewtest.Key(k))
	}
}

func (s *screen) text() string { return ansi.Strip(strings.Join(s.Lines(), "\n")) }

func (s *screen) find(n int) {
	s.keeper.Answer("GET /checks", found(n))
	s.send(shell.Findings{All: found(n), Took: 3 * time.Millisecond})
}

var sizes = [][2]int{{60, 16}, {80, 24}, {142, 38}, {250, 70}}

// Each screen fills its size exactly, whatever is on it, and shows no password
// before it is asked to.
func TestEveryScreenFits(t *testing.T) {
	t.Parallel()
	all := []string{"", "right down tab", "?", "S", "T", "R", "c", "t", "v", "Q", "/ 4", "/ z z", "+ + +", "- - - -", "ctrl+p", "ctrl+p s t o", "e", "e down 9 9 9 9 9 9 enter", "x", "n",
		"3", "3 down down", "3 tab", "3 tab down", "3 tab tab", "3 tab tab down down", "7", "7 down down", "7 l", "7 l l l", "7 b", "7 ?", "7 enter", "3 1",
		"2", "enter", "2 w", "2 o up", "2 up m up up", "2 / l a t e enter", "2 f", "2 l l", "2 p down space", "2 up enter right", "2 up up down down down", "2 ?", "2 s", "2 g x enter",
		"5 down", "5 down a", "5 down / d u e enter left", "8", "8 enter down", "8 enter enter", "8 enter enter down enter", "8 enter / x", "8 : s e l e c t", "8 enter x", "8 enter n", "8 enter right right", "8 down enter",
		"9", "9 down down", "9 enter down down", "9 / p o s t enter", "9 m", "9 e", "9 = down", "9 down = down enter", "9 w", "9 up", "9 up enter", "9 t", "9 t down down", "9 t down f", "9 t up enter",
		"0", "0 down", "0 down down", "0 down down down", "0 end", "0 / o r c h", "0 / o r c h enter", "0 / z z enter", "0 o o", "0 x", "0 down s", "0 down down down w", "0 end f", "0 ?",
		"8 S", "8 S down", "8 S down down r", "8 S x", "8 S n", "8 S ?", "8 S esc"}
	for _, n := range []int{0, 1, 7, 60} {
		for _, size := range sizes {
			t.Run(fmt.Sprintf("%d services, %d×%d", n, size[0], size[1]), func(t *testing.T) {
				t.Parallel()
				fits(t, n, size, all)
			})
		}
	}
}

// fits presses keys on a screen of so many services.
func fits(t *testing.T, n int, size [2]int, all []string) {
	services := toolshed(n)
	s := shown(t, size[0], size[1], services...)
	names := s.names(services)
	for request, answer := range map[string]any{
		"GET /wiring": wired(n), "GET /logs": journal.Answer{Entries: printed(n)},
		"GET /kinds": []project.Available{{Name: "program", About: "program", Begin: `run = "npm start"`}},
	} {
		s.keeper.Answer(request, answer)
	}
	for _, name := range names {
		s.keeper.Answer("GET /services/"+name+"/impact", insight.Impact{Service: name, Needs: names, NeededBy: names, Running: names})
	}
	answerErrands(s.keeper)
	answerData(s.keeper)
	answerTraffic(s.keeper)
	answerProjects(s.keeper)
	answerSnapshots(s.keeper)
	holding(s, services)
	s.find(n)
	for _, keys := range all {
		s.press(strings.Fields(keys)...)
		lines := s.Lines()
		assert.Len(t, lines, size[1], "keys %q", keys)
		for _, l := range lines {
			if display.Width(l) > size[0] {
				t.Errorf("keys %q: too wide: %q", keys, ansi.Strip(l))
			}
		}
		assert.NotContains(t, s.text(), "hidden-word", keys)
		for s.Shown() != nil {
			s.press("esc")
		}
		s.press("esc", "esc", "1", "esc")
	}
}

func (s *screen) names(services []api.Status) []string {
	out := []string{}
	for _, st := range services {
		out = append(out, st.Name)
	}
	return out
}

// What is drawn is as it was when somebody last looked at it: go test
// ./internal/tui -run Golden -update writes it anew, to be looked at.
func TestGoldenFrames(t *testing.T) {
	services := calm()
	for id, keys := range map[string]string{"map": "", "logs": "2", "wiring": "3", "starts": "4 g w", "errands": "5 down", "usage": "6 down left left", "checks": "7", "data": "8 enter down", "traffic": "9", "triggers": "9 t down", "projects": "0 down down", "snapshots": "8 S down", "finder": "ctrl+p"} {
		frame := func(name string, width, height int, prepare func(*screen), text func(*screen) string) {
			s := shown(t, width, height, services...)
			s.keeper.Answer("GET /wiring", wired(3))
			s.keeper.Answer("GET /logs", journal.Answer{Entries: calmEntries()})
			answerStarts(s.keeper)
			answerErrands(s.keeper)
			s.keeper.Answer("GET /usage", calmUsage(min(400, max(20, width-14))))
			answerData(s.keeper)
			answerTraffic(s.keeper)
			answerProjects(s.keeper)
			answerSnapshots(s.keeper)
			s.find(4)
			if id == "data" || id == "triggers" {
				holding(s, services)
			}
			if prepare != nil {
				prepare(s)
			}
			s.press(strings.Fields(keys)...)
			golden(t, id+"-"+name, text(s))
		}
		for _, size := range sizes[1:] {
			frame(fmt.Sprintf("%dx%d", size[0], size[1]), size[0], size[1], nil, (*screen).text)
		}
		styled := func(s *screen) string { return strings.Join(s.Lines(), "\n") }
		frame("dark", 80, 24, nil, styled)
		frame("light", 80, 24, func(s *screen) { s.send(tea.BackgroundColorMsg{Color: ansi.BrightWhite}) }, styled)
		frame("16", 80, 24, func(s *screen) { s.send(tea.ColorProfileMsg{Profile: colorprofile.ANSI}) }, styled)
		frame("ascii", 80, 24, nil, func(s *screen) string { return display.ASCII(s.text()) })
	}
}

func golden(t *testing.T, name, got string) {
	t.Helper()
	var lines []string
	for l := range strings.SplitSeq(got, "\n") {
		lines = append(lines, strings.TrimRight(l, " "))
	}
	got = regexp.MustCompile(`checked in \d+ ms`).ReplaceAllString(strings.Join(lines, "\n")+"\n", "checked in 3 ms")
	path := filepath.Join("testdata", name+".txt")
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(want), got, "%s; if it is meant, write it anew with -update and look at it", name)
}

func TestStateHasShapeAndWord(t *testing.T) {
	for _, state := range []supervise.State{supervise.Stopped, supervise.Waiting, supervise.Preparing, supervise.Starting, supervise.Ready, supervise.Ailing, supervise.Stopping, supervise.Failed, supervise.Finished} {
		s := shown(t, 142, 38, api.Status{Name: "api", State: state, Step: 1})
		assert.Contains(t, s.text(), signs.State(state)+" "+string(state))
	}
}

func TestMouse(t *testing.T) {
	s := shown(t, 142, 38, toolshed(8)...)
	click := func(what string) {
		for y, l := range strings.Split(s.text(), "\n") {
			if i := strings.Index(l, what); i >= 0 {
				s.send(tea.MouseClickMsg{Button: tea.MouseLeft, X: display.Width(l[:i]), Y: y})
				return
			}
		}
		t.Errorf("%s is not on the screen", what)
	}
	click("service-5")
	assert.Contains(t, s.text(), "── service-5 ")
	s.send(tea.MouseClickMsg{Button: tea.MouseLeft, X: 0, Y: 0})
	assert.Contains(t, s.text(), "── service-5 ", "a click beside the cards changes nothing")
	s.send(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	assert.Contains(t, s.text(), "── service-6 ")
	click("3 wiring")
	assert.Contains(t, s.text(), "[3 wiring]", "the row of views")
	click("? help")
	assert.Contains(t, s.text(), "Keys and signs", "the key bar")
}

func TestRevealEndsWithTheSelection(t *testing.T) {
	s := shown(t, 200, 38, toolshed(2)...)
	secret := strings.Repeat("x", 60)
	assert.NotContains(t, s.text(), secret)
	s.press("v")
	assert.Contains(t, s.text(), secret)
	s.press("tab", "tab")
	assert.NotContains(t, s.text(), secret)
}

// A key that is pressed while a question is on its way is for the question.
func TestQuickTyping(t *testing.T) {
	s := shown(t, 142, 38, toolshed(4)...)
	impact := insight.Impact{Service: "service-0", Running: []string{"web"}}
	s.keeper.Answer("GET /services/service-0/impact", impact)
	s.keeper.Answer("POST /stop", api.Done{})
	cmd := s.update(viewtest.Key("t"))
	for _, k := range []string{"down", "enter", "q"} {
		assert.Nil(t, s.update(viewtest.Key(k)))
	}
	assert.Contains(t, s.text(), "── service-0 ", "nothing below takes them")
	viewtest.Settle(cmd, s.update)
	assert.Nil(t, s.Shown(), "enter has answered it")
	assert.Contains(t, s.text(), "stopping service-0")
	assert.Contains(t, fmt.Sprint(s.keeper.Asked()), `POST /stop {"services":["service-0"]`)
	s.keeper.Answer("GET /services/service-0/impact", errors.New("the keeper is gone"))
	s.press("t")
	assert.Contains(t, s.text(), "the keeper is gone")
	s.press("tab")
	assert.Contains(t, s.text(), "── service-1 ", "without a question the keys are the map's again")
}

func TestHelpFits(t *testing.T) {
	for _, size := range sizes[:3] {
		s := shown(t, size[0], size[1], toolshed(2)...)
		s.press("?")
		seen := ""
		for range 6 {
			seen += s.text()
			s.press("right")
		}
		for _, says := range []string{"select a service", "selects; shift and drag marks text", "stop all and leave", "ran once, ended well", "a check that failed", "find everything that can be done"} {
			assert.Contains(t, seen, says, size)
		}
		assert.Nil(t, s.Shown())
	}
}

// What can be done is found by a part of its words, wherever one is, and a
// finding's remedy, too.
func TestFinder(t *testing.T) {
	services := toolshed(3)
	s := shown(t, 142, 38, services...)
	s.find(1)
	s.keeper.Answer("POST /restart", api.Done{})
	s.press("3", "ctrl+p")
	for _, k := range strings.Split("rest ce-0", "") {
		s.press(map[string]string{" ": "space"}[k] + strings.TrimSpace(k))
	}
	assert.Regexp(t, `▌ restart service-0 +`, s.text())
	s.keeper.Asked()
	s.press("enter")
	assert.Contains(t, fmt.Sprint(s.keeper.Asked()), `POST /restart {"services":["service-0"]`)
	assert.Contains(t, s.text(), "[3 wiring]", "the view stays")
	for words, key := range map[string]string{"logs of service-1": "", "wiring: ports": "3", "use 4101 now": "", "stop all and": "Q"} {
		s.press("ctrl+p")
		for _, k := range strings.Split(words, "") {
			s.press(map[string]string{" ": "space"}[k] + strings.TrimSpace(k))
		}
		assert.Regexp(t, "▌ "+words+".* "+key, s.text())
		s.press("esc")
	}
	assert.NotRegexp(t, `restart service-0 +r `, s.text(), "that key does it on the map")
	s.press("ctrl+p", "r", "e", "l", "o", "a", "d", "space", "a", "l", "l")
	assert.Regexp(t, `▌ restart all`, s.text(), "other words find it, too")
	s.press("esc", "ctrl+p", "z", "z", "z")
	assert.Contains(t, s.text(), "nothing is called that")
	s.press("enter", "esc")
}

// An answer to a view that was closed meanwhile is dropped.
func TestAnswersOfClosedViewsAreDropped(t *testing.T) {
	s := shown(t, 142, 38, toolshed(3)...)
	cmd := s.update(viewtest.Key("3"))
	s.press("1", "7")
	viewtest.Settle(cmd, s.update)
	assert.Contains(t, s.text(), "[7 checks]")
}

// The map opens on the first service that isn't well, keeps its cards as long
// as there is room, and its border can be moved.
func TestMapFitsItsContents(t *testing.T) {
	services := calm()
	s := shown(t, 142, 38, services...)
	assert.Contains(t, s.text(), "── api ", "it failed")
	s.find(1)
	assert.Contains(t, s.text(), "A  use 4101 now", "its remedies have their keys in place")
	var many []api.Status
	for i := range 15 {
		many = append(many, api.Status{Name: fmt.Sprintf("s%02d", i), Kind: "redis", Version: "7.0.15", State: supervise.Ready, Step: 1 + i/8})
	}
	s = shown(t, 142, 38, many...)
	assert.Regexp(t, `│ ● ready +redis 7\.0\.15`, s.text(), "low cards, not lines")
	s.press("-", "-", "-", "-")
	assert.NotContains(t, s.text(), "╭", "lines, since the doorstep got the room")
	s = shown(t, 142, 38, many...)
	assert.NotContains(t, s.text(), "╭", "which is remembered")
	s.press("+", "+", "+", "+")
	assert.Contains(t, s.text(), "╭")
}

func TestChecksPage(t *testing.T) {
	s := shown(t, 142, 38, toolshed(6)...)
	s.find(9)
	s.press("/", "3", "enter", "7")
	assert.Contains(t, s.text(), "✖ 3 would stop a start   ▲ 3 warnings   · 3 notes")
	assert.Contains(t, s.text(), "[7 checks 6]")
	assert.Regexp(t, `▌ ✖ stops service-3`, s.text(), "the finding of the selected service")
	assert.Contains(t, s.text(), "a use 4101 now  b ask it to end")
	assert.Regexp(t, `▌ +12  port = 4177`, s.text(), "the declaration around its place")
	s.press("b")
	assert.Contains(t, s.text(), "Ask it to end?", "what ends something is asked")
	s.press("esc", "c")
	assert.Nil(t, s.Shown(), "there is no third action")
	s.keeper.Answer("POST /remedy", map[string]string{"says": "port 4101 is free"})
	s.press("a")
	assert.Contains(t, s.text(), "port 4101 is free")
	s.keeper.Answer("POST /remedy", errors.New("things have changed meanwhile"))
	s.press("a")
	assert.Contains(t, s.text(), "things have changed meanwhile")
	s.press("l")
	assert.NotContains(t, s.text(), "▲ warns")
	s.press("enter")
	assert.Contains(t, s.text(), "── service-3 ")
	s.press("7")
	s.send(shell.Findings{Err: errors.New("the keeper is gone")})
	assert.Contains(t, s.text(), "the checks could not be made: the keeper is gone")
	s.send(shell.Findings{})
	assert.Contains(t, s.text(), "Nothing was found that would go wrong.")
}

func TestWiringPage(t *testing.T) {
	s := shown(t, 142, 38, toolshed(6)...)
	s.keeper.Answer("GET /wiring", wired(4))
	s.press("3")
	assert.Regexp(t, `reads from +service-0 +service-1`, s.text())
	assert.Regexp(t, `service-1 +● url`, s.text())
	s.press("down")
	assert.Contains(t, s.text(), "${service-0.url}  →  ${env.HOME}  →  VV  →  environment of service-1, pid 100001")
	s.press("up")
	assert.Contains(t, s.text(), "service-0 was started with another value; restart service-0 to give it this one")
	s.press("tab")
	assert.Regexp(t, `4100 +service-0 +✖ held +IPv6 +redis-server --port .* pid 7`, s.text())
	assert.Contains(t, s.text(), "7 shows what can be done about it")
	s.press("tab")
	assert.Contains(t, s.text(), "the same as what the declaration provides")
	s.press("v")
	assert.Contains(t, s.text(), "hidden-word", "shown when it is asked for")
	s.press("down", "down", "down")
	assert.Contains(t, s.text(), "of a production file are not shown")
	s.keeper.Answer("GET /wiring", errors.New("no longer there"))
	s.press("r")
	assert.Contains(t, s.text(), "no longer there")
	s.press("esc")
	assert.Contains(t, s.text(), "[1 map]")
}

func TestForms(t *testing.T) {
	s := shown(t, 142, 38, api.Status{Name: "ledger", Kind: "postgres", Step: 1, State: supervise.Stopped, Declared: supervise.Declared{Version: "15", Port: 5432, Versioned: true}})
	s.keeper.Answer("POST /declaration", struct{}{})
	edits := func() string {
		out := ""
		for _, a := range s.keeper.Asked() {
			if strings.HasPrefix(a, "POST /declaration") {
				out += a
			}
		}
		return out
	}
	s.press("e", "backspace", "backspace", ">", "=", "1", "6", "down", "left", "left", "1", "enter")
	assert.JSONEq(t, `{"service":"ledger","version":">=16","port":54132}`, strings.TrimPrefix(edits(), "POST /declaration "), "the cursor can be moved")
	s.press("e", "down", "x", "enter")
	assert.Contains(t, s.text(), "is not a port")
	assert.Empty(t, edits())
	s.keeper.Answer("POST /declaration", errors.New("neighbour.toml:1:1: no\n  do this"))
	s.press("backspace", "enter")
	assert.Contains(t, s.text(), "do this", "the form stays, and says why")
	s.press("esc")
	assert.Nil(t, s.Shown())

	s.keeper.Answer("POST /declaration", struct{}{})
	s.keeper.Answer("GET /kinds", []project.Available{{Name: "program", About: "program", Begin: `run = "npm start"`}, {Name: "redis", About: "Redis", Installed: "7.0"}, {Name: "nats", About: "NATS", Missing: "not installed here; install it with: sudo apt-get install nats-server"}})
	s.press("n")
	assert.Contains(t, s.text(), `run = "npm start"`)
	s.press("enter")
	assert.Contains(t, s.text(), "it needs a name")
	s.press("right")
	assert.Contains(t, s.text(), "Redis 7.0 is installed here.")
	assert.NotContains(t, s.text(), "npm start")
	s.press("n")
	assert.Regexp(t, `sudo apt-get install\s+│\s+│ nats-server`, s.text())
	edits()
	s.press("down", "b", "enter")
	assert.JSONEq(t, `{"service":"b","add":{"kind":"nats"}}`, strings.TrimPrefix(edits(), "POST /declaration "))
	assert.Contains(t, s.text(), "b is changed in neighbour.toml")
	s.keeper.Answer("GET /kinds", errors.New("lost"))
	s.press("n")
	assert.Contains(t, s.text(), "lost")
	s.press("x")
	assert.Contains(t, s.text(), "Remove ledger?")
}

func TestSetupScreen(t *testing.T) {
	p := &discover.Proposal{Name: "toolshed", Dir: t.TempDir(), Files: []string{".env"}}
	for i := range 30 {
		p.Services = append(p.Services, &discover.Service{On: i < 20, Name: fmt.Sprintf("cache%d", i), Kind: "redis", Why: []discover.Finding{{File: ".env", Line: i, What: strings.Repeat("宽 why ", i)}}})
	}
	write := false
	s := &screen{Model: shell.New(context.Background(), shell.Options{Project: "toolshed", Views: []view.Spec{setup.Spec(p, &write)}})}
	fits := func() {
		for _, size := range append(sizes, [2]int{30, 10}) {
			s.send(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
			assert.LessOrEqual(t, len(s.Lines()), size[1])
			for _, l := range s.Lines() {
				assert.LessOrEqual(t, display.Width(l), size[0], "%v %q", size, ansi.Strip(l))
			}
		}
		s.send(tea.WindowSizeMsg{Width: 142, Height: 38})
	}
	fits()
	assert.Contains(t, s.text(), "…", "what is installed isn't known yet")
	s.send(view.Answer{Instance: 1, Msg: setup.Here{"redis": {Version: "7.0.15"}, "nats": {Missing: "nats-server is not installed", Packages: kind.Packages{Debian: "nats-server"}}}})
	assert.Contains(t, s.text(), "7.0.15")
	for range 29 {
		s.press("down")
	}
	fits()
	assert.Contains(t, s.text(), "cache29")
	s.press("right", "enter", "n")
	fits()
	assert.Contains(t, s.text(), `kind = "nats"`)
	assert.True(t, p.Services[29].On, "who changes it wants it")
	assert.Contains(t, s.text(), "▲ nats-server is not installed")
	s.press("enter", "left", "enter", "!")
	assert.Contains(t, s.text(), "✖")
	s.press("enter", "w")
	assert.False(t, write)
	assert.Contains(t, s.text(), "not written")
	fits()
	for _, v := range p.Services {
		v.On = false
	}
	s.press("space", "space")
	assert.Contains(t, s.text(), "nothing to write yet")
	p.Services[29].Name = "bus"
	s.press("space", "w")
	assert.True(t, write)
	s.press("up", "q")
	assert.Contains(t, s.text(), "leave without writing")
}

func BenchmarkScreen(b *testing.B) {
	s := shown(b, 250, 70, toolshed(60)...)
	for b.Loop() {
		s.Lines()
	}
}
