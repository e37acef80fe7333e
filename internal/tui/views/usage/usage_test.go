package usage

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"neighbour/internal/api"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/usage"
	"neighbour/internal/display"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/view/viewtest"
)

func opened(t *testing.T) *screen {
	e, _ := viewtest.Env(api.NewClient(filepath.Join(t.TempDir(), "none")), 142, 38, api.Status{Name: "s0"}, api.Status{Name: "s1"})
	v, _ := open(e, nil)
	return v.(*screen)
}

// report is a period of n services, each with a steady use.
func report(n, parts int, memory uint64) usage.Report {
	to := time.Date(2026, 3, 2, 9, 0, 30, 0, time.UTC)
	from := to.Add(-5 * time.Minute)
	r := usage.Report{From: from, To: to, Cores: 2, Memory: 24 << 30}
	series := func(name string, m uint64) usage.Series {
		var rows []usage.Row
		for i := range 60 {
			s := usage.Sample{CPU: float32(i % 7), Memory: m + m*uint64(i)/200, Files: 12, Threads: 7, Processes: 1}
			rows = append(rows, usage.Row{At: from.Add(2*time.Minute + time.Duration(i)*3*time.Second), Step: 3 * time.Second, Sample: s, Peak: s.CPU})
		}
		s := usage.NewSeries(name, rows, from, to, parts)
		s.Now = rows[59].Sample
		return s
	}
	r.Machine = series("", 5<<30)
	for i := range n {
		r.Services = append(r.Services, series(fmt.Sprintf("s%d", i), memory*uint64(i+1)))
	}
	r.Summarise()
	return r
}

func (v *screen) text() string { return ansi.Strip(strings.Join(v.Render().Lines, "\n")) }

func TestTheLargestComesFirst(t *testing.T) {
	v := opened(t)
	v.Fit(120, 30)
	v.Update(reportMsg{asked: v.asked, report: report(3, v.parts(), 20<<20), marks: []journal.Entry{{Event: "restart", At: time.Date(2026, 3, 2, 8, 58, 0, 0, time.UTC)}}})
	text := v.text()
	assert.Contains(t, text, "s2 uses most memory")
	assert.Regexp(t, `(?s)machine .*s2 .*s1 .*s0 `, text)
	assert.Regexp(t, ` 6 GB ┤`, text, "round numbers at the axis")
	assert.Contains(t, text, "─r─")
	view.Press(v.Bindings(), viewtest.Key("p"))
	assert.Regexp(t, `08:5\d:\d\d|09:00:\d\d`, v.text(), "the time of the peak")
	before := v.asked
	view.Press(v.Bindings(), viewtest.Key("down"))
	assert.Equal(t, before+1, v.asked)
	v.Update(reportMsg{asked: before, report: report(1, 20, 1)})
	assert.Len(t, v.report.Services, 3, "an answer to an earlier question is dropped")
}

func TestAnyUsageFits(t *testing.T) {
	v := opened(t)
	rapid.Check(t, func(r *rapid.T) {
		v.Fit(rapid.IntRange(20, 250).Draw(r, "width"), rapid.IntRange(5, 70).Draw(r, "height"))
		v.Update(reportMsg{asked: v.asked, report: report(rapid.IntRange(0, 40).Draw(r, "services"), rapid.IntRange(1, 400).Draw(r, "parts"), rapid.Uint64Range(0, 1<<33).Draw(r, "memory"))})
		for range 4 {
			view.Press(v.Bindings(), viewtest.Key(rapid.SampledFrom([]string{"down", "up", "tab", "left", "right", "p", "+", "-"}).Draw(r, "key")))
			lines := v.Render().Lines
			assert.Len(r, lines, v.Rows)
			for _, l := range lines {
				assert.LessOrEqual(r, display.Width(l), v.Columns, ansi.Strip(l))
			}
			v.Fit(rapid.IntRange(20, 250).Draw(r, "width"), rapid.IntRange(5, 70).Draw(r, "height"))
		}
	})
}

// What is selected elsewhere and doesn't run has no chart to show.
func TestOpensOnWhatIsUsed(t *testing.T) {
	for name, c := range map[string]struct {
		args any
		want string
	}{
		"selected on the map": {nil, "s2"},
		"asked for":           {"s0", "s0"},
	} {
		e, _ := viewtest.Env(api.NewClient(filepath.Join(t.TempDir(), "none")), 142, 38, api.Status{Name: "s0"})
		e.Selected = "s0"
		opened, _ := open(e, c.args)
		v := opened.(*screen)
		r := report(3, v.parts(), 20<<20)
		clear(r.Services[0].Memory)
		v.Update(reportMsg{asked: v.asked, report: r})
		assert.Equal(t, c.want, v.selected, name)
		assert.Equal(t, "s0", e.Selected, name)
	}
}
