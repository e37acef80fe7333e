package errands

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/record/errand"
	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/view/viewtest"
)

func opened(t *testing.T, args any) (*screen, *viewtest.Host) {
	e, host := viewtest.Env(api.NewClient(filepath.Join(t.TempDir(), "none")), 142, 38)
	v, _ := open(e, args)
	return v.(*screen), host
}

func text(v *screen) string { return ansi.Strip(strings.Join(v.Render().Lines, "\n")) }

func run(id int64, result errand.Result) errand.Run {
	return errand.Run{ID: id, Errand: "count", By: "the test", Began: time.Now(), Took: 10, Result: result, Exit: "exit 0"}
}

// Whatever errands there are and whatever they print, the view draws what fits,
// and nothing that would act on the terminal.
func TestAnythingFits(t *testing.T) {
	results := []errand.Result{errand.OK, errand.Failed, errand.UnderWay, errand.Cancelled, errand.Lost, "odd"}
	v, _ := opened(t, nil)
	rapid.Check(t, func(r *rapid.T) {
		var all []insight.Errand
		id := int64(0)
		for i := range rapid.IntRange(0, 30).Draw(r, "errands") {
			e := insight.Errand{Name: fmt.Sprintf("errand-%d-宽", i), About: strings.Repeat("about \x1b[2J宽 ", rapid.IntRange(0, 9).Draw(r, "about")), Run: "run\n it", Ask: "Go on?"}
			for range rapid.IntRange(0, 4).Draw(r, "needs") {
				e.Needs = append(e.Needs, insight.Needed{Name: "ledger", State: supervise.Ready})
			}
			for range rapid.IntRange(0, 8).Draw(r, "runs") {
				id++
				one := run(id, rapid.SampledFrom(results).Draw(r, "result"))
				one.Errand, one.Line, one.By, one.Args = e.Name, "Error: \x1b]0;x\x07 no", strings.Repeat("who ", 20), []string{"a b", "'"}
				e.Runs = append(e.Runs, one)
			}
			all = append(all, e)
		}
		v.selected, v.run, v.shown, v.text, v.next, v.search, v.sought = "", 0, errand.Run{}, "", 0, nil, ""
		v.Update(listMsg{all: all})
		v.Update(outputMsg{id: v.shown.ID, out: keep.ErrandOutput{Run: v.shown, Text: strings.Repeat(rapid.SampledFrom([]string{"line\n", "\x1b[31mred\x1b[0m 宽\r\n", "no end "}).Draw(r, "text"), rapid.IntRange(0, 300).Draw(r, "times")), Next: 1}})
		width, height := rapid.IntRange(20, 200).Draw(r, "width"), rapid.IntRange(5, 60).Draw(r, "height")
		v.Fit(width, height)
		for _, key := range []string{"", "down", "pgup", "left", "end", "down", "home", "right", "/", "enter"} {
			if key != "" {
				view.Press(v.Bindings(), viewtest.Key(key))
			}
			lines := v.Render().Lines
			assert.Len(r, lines, height, key)
			for _, l := range lines {
				assert.LessOrEqual(r, display.Width(l), width, ansi.Strip(l))
				assert.NotContains(r, l, "\x1b[2J")
				assert.NotContains(r, l, "\x07")
			}
		}
	})
}

func TestNothingToShow(t *testing.T) {
	v, _ := opened(t, nil)
	v.Fit(142, 30)
	assert.Contains(t, text(v), "asking the keeper")
	v.Update(listMsg{err: errors.New("the keeper does not answer")})
	assert.Contains(t, text(v), "the keeper does not answer")
	v.Update(listMsg{all: []insight.Errand{}})
	assert.Contains(t, text(v), "[errand.test]", "how one is declared")
	v.Update(listMsg{all: []insight.Errand{{Name: "count", Run: "wc -l"}}})
	assert.Contains(t, text(v), "Nothing was run yet.")
	assert.Contains(t, text(v), "It was not run yet. It would run: wc -l")
}

// Output comes in parts, in order; what belongs to another run, or was asked for
// before, is dropped.
func TestOutputInParts(t *testing.T) {
	v, _ := opened(t, nil)
	v.Fit(100, 30)
	v.Update(listMsg{all: []insight.Errand{{Name: "count", Runs: []errand.Run{run(7, errand.UnderWay)}}, {Name: "other"}}})
	assert.True(t, v.asked)
	v.Update(outputMsg{id: 6, out: keep.ErrandOutput{Text: "of another", Next: 10}})
	v.Update(outputMsg{id: 7, from: 99, out: keep.ErrandOutput{Text: "too late", Next: 107}})
	assert.Empty(t, v.text)
	v.Update(outputMsg{id: 7, out: keep.ErrandOutput{Run: run(7, errand.UnderWay), Text: "one\n", Next: 4}})
	assert.NotNil(t, v.Update(view.Tick{At: time.Now()}), "more is asked for while it runs")
	v.Update(outputMsg{id: 7, from: 4, out: keep.ErrandOutput{Run: run(7, errand.OK), Text: "two\n", Next: 8}})
	assert.Equal(t, []string{"one", "two"}, v.lines())
	assert.Equal(t, errand.OK, v.shown.Result)
	view.Press(v.Bindings(), viewtest.Key("down"))
	assert.Empty(t, v.text, "another errand")
}

func TestSearchAndScroll(t *testing.T) {
	v, host := opened(t, nil)
	v.Fit(100, 20)
	v.Update(listMsg{all: []insight.Errand{{Name: "count", Runs: []errand.Run{run(1, errand.OK)}}}})
	var b strings.Builder
	for i := range 200 {
		fmt.Fprintf(&b, "line %d\n", i)
	}
	v.Update(outputMsg{id: 1, out: keep.ErrandOutput{Run: run(1, errand.OK), Text: b.String(), Next: 1}})
	assert.Contains(t, text(v), "line 199", "the end is shown")
	view.Press(v.Bindings(), viewtest.Key("home"))
	assert.Contains(t, text(v), "line 0\n")
	view.Press(v.Bindings(), viewtest.Key("/"))
	assert.True(t, v.Typing())
	for _, k := range []string{"1", "5"} {
		v.Update(viewtest.Key(k))
	}
	view.Press(v.Bindings(), viewtest.Key("enter"))
	assert.False(t, v.Typing())
	assert.Contains(t, text(v), "line 15\n")
	view.Press(v.Bindings(), viewtest.Key("n"))
	assert.Contains(t, text(v), "line 115\n", "the next one")
	view.Press(v.Bindings(), viewtest.Key("N"))
	assert.Contains(t, text(v), "line 15\n")
	view.Press(v.Bindings(), viewtest.Key("N"))
	assert.Equal(t, "nothing more is found of 15", host.Said)
	view.Press(v.Bindings(), viewtest.Key("end"))
	assert.True(t, v.follow)
}

// One with a question asks it, and runs nothing before; one that was asked for by
// the finder begins as soon as it is known.
func TestQuestions(t *testing.T) {
	v, host := opened(t, Args{Errand: "remind", Run: true})
	v.Fit(100, 20)
	v.Update(listMsg{all: []insight.Errand{{Name: "count"}, {Name: "remind", Ask: "This mails. Go on?"}}})
	q, ok := host.Panel.(*panel.Question)
	require.True(t, ok)
	assert.Equal(t, "This mails. Go on?", q.Text)
	assert.Equal(t, "remind", v.selected)
	host.Panel = nil
	view.Press(v.Bindings(), viewtest.Key("a"))
	f, ok := host.Panel.(*panel.Form)
	require.True(t, ok)
	assert.Contains(t, ansi.Strip(strings.Join(f.Render(), "\n")), "enter run it")
}

func TestWordsOfArguments(t *testing.T) {
	for typed, want := range map[string][]string{
		"":                       {},
		`one "two words" 'a $b'`: {"one", "two words", "a $b"},
		"--name=x -v":            {"--name=x", "-v"},
	} {
		got, err := split(typed)
		require.NoError(t, err, typed)
		assert.Equal(t, want, append([]string{}, got...), typed)
	}
	for _, typed := range []string{"$HOME", "a | b", "'open"} {
		_, err := split(typed)
		assert.Error(t, err, typed)
	}
	for _, args := range [][]string{{"a"}, {"a b", "c"}, {"$x", "*"}, {"--x=1"}} {
		got, err := split(joined(args))
		require.NoError(t, err)
		assert.Equal(t, args, got)
	}
}
