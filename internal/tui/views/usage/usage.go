// Package usage is the view of what uses how much of the machine.
package usage

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/usage"
	"neighbour/internal/draw"
	"neighbour/internal/tui/act"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/views/logs"
)

// Spec describes the view. Its argument is the service to select.
var Spec = view.Spec{ID: "usage", Title: "usage", Key: "6", New: open, Commands: commands}

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &screen{Env: e, selected: e.Selected, cursor: -1}
	if name, ok := args.(string); ok {
		v.selected, v.named = name, true
	}
	return v, v.ask()
}

func commands(e *view.Env) []view.Command {
	return []view.Command{{Says: "usage: what uses how much", Key: "6", Do: func() tea.Cmd { return e.Turn("usage", nil) }}}
}

// metrics are what is drawn large, one of them at a time.
var metrics = []struct {
	name  string
	of    func(*usage.Series) []float64
	now   func(usage.Sample) float64
	label func(float64) string
	least float64
	unit  func(top float64) float64
}{
	{"memory", func(s *usage.Series) []float64 { return s.Memory }, func(s usage.Sample) float64 { return float64(s.Memory) }, amount, 4 << 20, bytes},
	{"processor", func(s *usage.Series) []float64 { return s.Peak }, func(s usage.Sample) float64 { return float64(s.CPU) }, func(v float64) string { return fmt.Sprintf("%g %%", v) }, 10, ones},
	{"disk", func(s *usage.Series) []float64 { return s.Disk }, func(s usage.Sample) float64 { return float64(s.Read + s.Written) }, func(v float64) string { return amount(v) + "/s" }, 64 << 10, bytes},
	{"open files", func(s *usage.Series) []float64 { return s.Files }, func(s usage.Sample) float64 { return float64(s.Files) }, func(v float64) string { return fmt.Sprintf("%.0f", v) }, 16, ones},
	{"threads", func(s *usage.Series) []float64 { return s.Threads }, func(s usage.Sample) float64 { return float64(s.Threads) }, func(v float64) string { return fmt.Sprintf("%.0f", v) }, 8, ones},
}

// amount puts bytes in a few words, without a fraction that is none.
func amount(v float64) string { return strings.Replace(words.Bytes(uint64(v)), ".0 ", " ", 1) }

func ones(float64) float64 { return 1 }

// bytes returns the unit that suits an amount.
func bytes(top float64) float64 {
	for _, unit := range []float64{1 << 30, 1 << 20} {
		if top >= 2*unit {
			return unit
		}
	}
	return 1 << 10
}

// periods are the lengths of time that can be shown.
var periods = []struct {
	name  string
	long  time.Duration
	every time.Duration // it is asked again
}{{"5 min", 5 * time.Minute, time.Second}, {"1 h", time.Hour, 10 * time.Second}, {"6 h", 6 * time.Hour, 30 * time.Second}, {"day", 24 * time.Hour, time.Minute}}

// screen is the services by what they use, and one of them large.
type screen struct {
	*view.Env
	view.Still
	report   usage.Report
	loaded   bool
	err      string
	selected string // the service; usage.Machine is the machine
	named    bool   // it was opened for this service
	metric   int
	period   int
	cursor   int // the part under the cursor, from the right: 0 is now; -1: none
	marks    []journal.Entry
	asked    int // how often was asked, so that of two answers the later counts
	askedAt  time.Time
	answered bool // what was asked last
}

type (
	reportMsg struct {
		asked  int
		report usage.Report
		marks  []journal.Entry
		err    error
	}
)

// parts is how many columns the chart has.
func (v *screen) parts() int {
	if v.Columns == 0 {
		return 100
	}
	return min(400, max(20, v.Columns-14))
}

// events are those that are marked on the time line.
var events = []string{"start", "restart", "ended", "failed", "ailing"}

// ask asks for the usage, and for what happened meanwhile to the selected service.
func (v *screen) ask() tea.Cmd {
	v.asked++
	v.askedAt, v.answered = time.Now(), false
	asked, service := v.asked, v.selected
	p := periods[v.period]
	parts := v.parts()
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		r, err := c.Usage(ctx, p.long, parts)
		msg := reportMsg{asked: asked, report: r, err: err}
		if err != nil || service == usage.Machine {
			return msg
		}
		for _, event := range events {
			if a, err := c.Logs(ctx, api.LogQuery{Services: []string{service}, Event: event, From: journal.At(r.From), N: 200}); err == nil {
				msg.marks = append(msg.marks, a.Entries...)
			}
		}
		return msg
	})
}

// Update takes a message.
func (v *screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case reportMsg:
		if msg.asked != v.asked {
			return nil
		}
		first := !v.loaded
		v.loaded, v.err = true, ""
		if msg.err != nil {
			v.err = msg.err.Error()
		} else {
			v.report, v.marks = msg.report, msg.marks
		}
		v.answered = true
		if rows := v.rows(); first && !v.named && len(rows) > 1 && average(v.chosen().Memory) == 0 && average(rows[1].Memory) > 0 {
			v.selected = rows[1].Service // one that uses nothing has no chart: the largest
			return v.ask()
		}
		return nil
	case view.Tick:
		if v.answered && msg.At.Sub(v.askedAt) >= periods[v.period].every {
			return v.ask()
		}
		return nil
	}
	if by := view.Wheel(msg); by != 0 {
		return v.move(by)
	}
	return nil
}

// rows returns what is listed: the machine, and the services with the largest
// first.
func (v *screen) rows() []*usage.Series {
	out := []*usage.Series{&v.report.Machine}
	m := metrics[v.metric]
	for i := range v.report.Services {
		out = append(out, &v.report.Services[i])
	}
	// By what each uses on the average, so that rows don't change places all the
	// time.
	slices.SortStableFunc(out[1:], func(a, b *usage.Series) int { return cmp.Compare(average(m.of(b)), average(m.of(a))) })
	return out
}

// average returns that of the parts in which something is known, in steps, so
// that what is nearly the same is.
func average(parts []float64) float64 {
	sum, n := 0.0, 0
	for _, v := range parts {
		if v >= 0 {
			sum, n = sum+v, n+1
		}
	}
	if n == 0 || sum == 0 {
		return 0
	}
	return math.Round(math.Log2(sum/float64(n)) * 8)
}

// at returns the selected row.
func (v *screen) at(rows []*usage.Series) int {
	return max(0, slices.IndexFunc(rows, func(s *usage.Series) bool { return s.Service == v.selected }))
}

func (v *screen) move(by int) tea.Cmd {
	rows := v.rows()
	v.selected = rows[min(max(0, v.at(rows)+by), len(rows)-1)].Service
	v.marks = nil
	if _, known := v.Services[v.selected]; known {
		v.Selected = v.selected
	}
	return v.ask()
}

// chosen is the selected series.
func (v *screen) chosen() *usage.Series {
	rows := v.rows()
	return rows[v.at(rows)]
}

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	return []view.Binding{
		view.Bind("up down pgup pgdown", "service", func(pressed string) tea.Cmd {
			return v.move(map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10}[pressed])
		}).Shown("↑ ↓"),
		view.Bind("left right", "time", func(pressed string) tea.Cmd {
			v.cursor = max(-1, min(v.parts()-1, v.cursor+map[string]int{"left": 1, "right": -1}[pressed]))
			return nil
		}).Shown("← →").Helps("read the value at a time"),
		view.Bind("tab shift+tab", metrics[(v.metric+1)%len(metrics)].name, func(pressed string) tea.Cmd {
			by := 1
			if pressed == "shift+tab" {
				by = len(metrics) - 1
			}
			v.metric = (v.metric + by) % len(metrics)
			return nil
		}).Shown("tab").Helps("memory, processor, disk, open files, threads"),
		view.Bind("+ -", "shorter, longer", func(pressed string) tea.Cmd {
			by := map[string]int{"+": -1, "-": 1}[pressed]
			v.period, v.cursor = min(max(0, v.period+by), len(periods)-1), -1
			return v.ask()
		}).Shown("+ -").Helps("a shorter or a longer period, up to a day"),
		view.Act("p", "peak", func() tea.Cmd {
			values := metrics[v.metric].of(v.chosen())
			v.cursor = len(values) - 1 - slices.Index(values, slices.Max(values))
			return nil
		}).If(v.loaded && len(v.report.Services) > 0).Helps("to the highest value"),
		view.Act("d", "draw", func() tea.Cmd {
			return act.Draw(v.Env, "usage", draw.Usage(&v.report, draw.Options{Project: v.Overview.Project, At: v.Now}))
		}).If(v.loaded).Spare(3).Helps("draw it (neighbour draw usage)"),
		view.Act("enter", "log then", func() tea.Cmd { return v.Turn("logs", logs.Args{Service: v.selected, At: v.time()}) }).If(v.loaded).Helps("the log at the time under the cursor"),
	}
}

// time is when the part under the cursor begins.
func (v *screen) time() time.Time {
	n := len(v.report.Machine.CPU)
	if v.cursor < 0 || n == 0 {
		return time.Time{}
	}
	length := v.report.To.Sub(v.report.From) / time.Duration(n)
	return v.report.From.Add(length * time.Duration(n-1-v.cursor))
}

// Render draws the view.
func (v *screen) Render() view.Drawing { return view.Drawing{Lines: ui.Truncate(v.lines(), v.Columns)} }
