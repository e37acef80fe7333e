package main

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// figure is one thing measured in a run, with the limit that its median keeps.
type figure struct {
	Name   string    `json:"name"` // tells it apart in every run: "gate/file/https"
	What   string    `json:"what"` // in words
	Unit   string    `json:"unit"`
	Values []float64 `json:"values"`          // one a round, sorted
	Limit  float64   `json:"limit,omitempty"` // 0: it is only told
	Least  bool      `json:"least,omitempty"` // the limit is the least that will do
	Beside string    `json:"beside,omitempty"`
}

// bound is what a figure is held to.
type bound struct {
	unit  string
	limit float64
	least bool
}

func atMost(limit float64, unit string) bound  { return bound{unit, limit, false} }
func atLeast(limit float64, unit string) bound { return bound{unit, limit, true} }
func only(unit string) bound                   { return bound{unit: unit} }

// measured are the figures of this run.
var measured []figure

// tell adds a figure to those of this run, and prints it. Beside is what it was compared with.
func tell(name, what string, b bound, beside string, values ...float64) {
	f := figure{Name: name, What: what, Unit: b.unit, Values: slices.Sorted(slices.Values(values)), Limit: b.limit, Least: b.least, Beside: beside}
	measured = append(measured, f)
	mark := "  "
	if !f.holds() {
		mark = "! "
	}
	fmt.Printf("%s%-24s %-28s %-16s %s\n", mark, f.Name, f.result(), f.bound(), strings.TrimSpace(f.What+" "+parens(beside)))
}

func parens(text string) string {
	if text == "" {
		return ""
	}
	return "(" + text + ")"
}

// median returns the middle of a figure's values.
func (f figure) median() float64 { return f.Values[len(f.Values)/2] }

func (f figure) holds() bool {
	return f.Limit == 0 || f.Least && f.median() >= f.Limit || !f.Least && f.median() <= f.Limit
}

// result returns the median, and between which the values lay: "1.22 × (1.15 to 1.31)".
func (f figure) result() string {
	text := number(f.median()) + " " + f.Unit
	if first, last := f.Values[0], f.Values[len(f.Values)-1]; number(first) != number(last) {
		text += fmt.Sprintf(" (%s to %s)", number(first), number(last))
	}
	return text
}

func (f figure) bound() string {
	switch {
	case f.Limit == 0:
		return ""
	case f.Least:
		return "at least " + number(f.Limit) + " " + f.Unit
	}
	return "at most " + number(f.Limit) + " " + f.Unit
}

// number writes a value with two digits that count, and all before the point.
func number(v float64) string {
	switch {
	case math.Abs(v) < 10:
		return strconv.FormatFloat(math.Round(v*100)/100, 'f', -1, 64)
	case math.Abs(v) < 100:
		return strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64)
	}
	return strconv.FormatFloat(math.Round(v), 'f', -1, 64)
}

// inMS returns durations as milliseconds.
func inMS(all ...time.Duration) []float64 {
	out := make([]float64, len(all))
	for i, d := range all {
		out[i] = float64(d.Microseconds()) / 1000
	}
	return out
}

// ratios returns how much longer the first of each round took than the second.
func ratios(ours, theirs []time.Duration) []float64 {
	out := make([]float64, min(len(ours), len(theirs)))
	for i := range out {
		out[i] = ours[i].Seconds() / theirs[i].Seconds()
	}
	return out
}

// sides returns the medians of both sides of a ratio: "135 ms : 105 ms".
func sides(ours, theirs []time.Duration) string {
	return ms(median(ours)) + " : " + ms(median(theirs))
}

// beyond returns an error that names the figures which don't keep their limits.
func beyond(all []figure) error {
	var names []string
	for _, f := range all {
		if !f.holds() {
			names = append(names, fmt.Sprintf("%s: %s, %s", f.Name, f.result(), f.bound()))
		}
	}
	if len(names) == 0 {
		return nil
	}
	return fmt.Errorf("beyond their limits:\n  %s", strings.Join(names, "\n  "))
}

// moved tells what has moved since an earlier run by more than both runs vary.
func moved(before, now []figure) []string {
	var out []string
	for _, f := range now {
		i := slices.IndexFunc(before, func(o figure) bool { return o.Name == f.Name && o.Unit == f.Unit && len(o.Values) > 0 })
		if i < 0 {
			continue
		}
		was := before[i]
		apart := f.Values[0] > was.Values[len(was.Values)-1] || f.Values[len(f.Values)-1] < was.Values[0]
		if apart && math.Abs(f.median()-was.median()) > 0.05*math.Abs(was.median()) {
			out = append(out, fmt.Sprintf("%s: %s, was %s", f.Name, f.result(), was.result()))
		}
	}
	return out
}

func writeFigures(path string, all []figure) error {
	b, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(b, '\n'), 0o644)
}

func readFigures(path string) (all []figure, err error) {
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &all)
	}
	return all, err
}

// The table in a document stands between these lines.
const tableBegins, tableEnds = "<!-- figures: make figures writes them -->", "<!-- end of figures -->"

// table writes figures as a table of Markdown, with the date and the machine.
func table(all []figure, now time.Time, machine string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Measured on %s, on %s: medians, and between which the rounds lay.\n\n| | measured | limit |\n|---|---|---|\n", now.Format("2 January 2006"), machine)
	for _, f := range all {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", strings.TrimSpace(f.What+" "+parens(f.Beside)), f.result(), f.bound())
	}
	return b.String()
}

// aroundTable returns what a document has before and after its table.
func aroundTable(path string) (before, after string, err error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return "", "", err
	}
	before, rest, ok := strings.Cut(string(b), tableBegins)
	_, after, ended := strings.Cut(rest, tableEnds)
	if !ok || !ended {
		return "", "", fmt.Errorf("%s has no lines %q and %q", path, tableBegins, tableEnds)
	}
	return before, after, nil
}

// writeTable puts a table in its place in a document.
func writeTable(path, table string) error {
	before, after, err := aroundTable(path)
	if err != nil {
		return err
	}
	return os.WriteFile(path, []byte(before+tableBegins+"\n"+table+tableEnds+after), 0o644)
}

// machine says in words what this runs on.
func machine() string {
	text := fmt.Sprintf("%d cores", runtime.NumCPU())
	if b, err := os.ReadFile("/proc/meminfo"); err == nil {
		if fields := strings.Fields(string(b)); len(fields) > 1 {
			kb, _ := strconv.ParseFloat(fields[1], 64)
			text += fmt.Sprintf(" and %.0f GB", kb/(1<<20))
		}
	}
	as := "an ordinary user"
	if os.Getuid() == 0 {
		as = "root"
	}
	return fmt.Sprintf("%s of %s/%s, with %s, as %s", text, runtime.GOOS, runtime.GOARCH, runtime.Version(), as)
}
