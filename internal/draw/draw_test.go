package draw

import (
	"bytes"
	"encoding/xml"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/core/record/usage"
	"neighbour/internal/testkit"
)

// Times are written as they are at Greenwich, whatever the machine has.
func init() { time.Local = time.UTC }

var update = flag.Bool("update", false, "write the golden drawings anew")

var options = Options{Project: "toolshed", At: time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)}

func written(t testing.TB, f *Figure, format string) []byte {
	var b bytes.Buffer
	require.NoError(t, f.Write(&b, format))
	return b.Bytes()
}

// stack is services in steps, each of which needs some of the steps before.
func stack(steps, each int) []Node {
	var out []Node
	for step := range steps {
		for i := range each {
			n := Node{Name: fmt.Sprintf("s%d-%02d", step, i), Kind: "program", Port: 4100 + i, Step: step + 1, State: supervise.Ready}
			if step > 0 {
				n.Needs = []string{fmt.Sprintf("s%d-%02d", step-1, i), fmt.Sprintf("s%d-%02d", step-1, (i+1)%each)}
			}
			if step > 1 {
				n.Needs = append(n.Needs, fmt.Sprintf("s%d-%02d", step-2, (i*7)%each))
			}
			out = append(out, n)
		}
	}
	return out
}

func toolshed() []Node {
	return []Node{
		{Name: "ledger", Kind: "postgres", Version: "15.18", Port: 4100, Step: 1, State: supervise.Ready},
		{Name: "shelf", Kind: "redis", Version: "7.0.15", Port: 4101, Step: 1, State: supervise.Ailing},
		{Name: "stocktake", Kind: "program", Step: 2, State: supervise.Finished, Needs: []string{"ledger"}},
		{Name: "api", Kind: "program", Port: 4102, Step: 3, State: supervise.Failed, Needs: []string{"ledger", "shelf", "stocktake"}},
		{Name: "web", Kind: "program", Port: 4103, Step: 4, State: supervise.Waiting, Needs: []string{"api"}},
		{Name: "a-name-of-sixty-characters-that-somebody-thought-to-be-useful", Kind: "nginx", Step: 4, State: supervise.Stopped, Needs: []string{"api"}},
		{Name: "Скворечник", Kind: "program", Step: 4, State: supervise.Starting, Needs: []string{"api"}},
		{Name: "工具棚 & <b>", Kind: "program", Step: 4, State: supervise.Preparing, Needs: []string{"api"}},
	}
}

func report() *starts.Report {
	starting := func(from, to float64) starts.Phase { return starts.Phase{Is: starts.Starting, From: from, To: to} }
	s := &starts.Start{ID: 7, Began: options.At, Took: 1500, Result: starts.Failed, Cold: true, Services: []starts.Service{
		{Name: "ledger", Result: starts.Ready, Phases: []starts.Phase{starting(0, 360)}},
		{Name: "shelf", Result: starts.Ready, Phases: []starts.Phase{starting(0, 150)}},
		{Name: "Скворечник", Result: starts.Ready, Needs: []string{"ledger", "shelf"}, Phases: []starts.Phase{{Is: starts.Waiting, To: 360},
			{Is: starts.Preparing, From: 360, To: 800, What: "npm ci"}, starting(800, 1200)}},
		{Name: "web", Result: starts.Failed, Needs: []string{"Скворечник"}, Phases: []starts.Phase{{Is: starts.Waiting, To: 1200}, starting(1200, 1500)}},
		{Name: "after", Result: starts.Failed, Needs: []string{"web"}, Phases: []starts.Phase{{Is: starts.Waiting, To: 1500}}},
	}}
	r := starts.NewReport(s, nil, options.At)
	return &r
}

func used() *usage.Report {
	r := &usage.Report{From: options.At.Add(-time.Hour), To: options.At, Cores: 2, Memory: 24 << 30}
	for i, name := range []string{"", "ledger", "Скворечник", "web"} {
		var rows []usage.Row
		for m := range 50 {
			s := usage.Sample{CPU: float32(m % (7 + i)), Memory: uint64(i+1)<<24 + uint64(m*i)<<18, Processes: 1}
			rows = append(rows, usage.Row{At: r.From.Add(time.Duration(m) * time.Minute), Step: time.Minute, Sample: s, Peak: s.CPU})
		}
		s := usage.NewSeries(name, rows[:30+10*(i%2)], r.From, r.To, 120)
		s.Now = rows[49].Sample
		if i == 0 {
			r.Machine = s
		} else {
			r.Services = append(r.Services, s)
		}
	}
	r.Summarise()
	return r
}

func wired() insight.Wiring {
	w := insight.Wiring{Services: []string{"ledger", "Скворечник", "web"}}
	for _, v := range [][3]string{{"web", "API_URL", "Скворечник.url"}, {"Скворечник", "LEDGER_URL", "ledger.url"}, {"Скворечник", strings.Repeat("LONG_", 20), "ledger.port"}, {"web", "PORT", ""}} {
		one := insight.Wired{Explained: project.Explained{Variable: wire.Variable{Name: v[1], Value: "hidden-word"}, Service: v[0]}}
		if v[2] != "" {
			one.From = []string{v[2]}
		}
		w.Variables = append(w.Variables, one)
	}
	return w
}

func figures() map[string]*Figure {
	night := options
	night.Dark = true
	return map[string]*Figure{
		"map": Map(toolshed(), options), "map-dark": Map(toolshed(), night), "map-none": Map(nil, options),
		"map-wide": Map(stack(2, 30), options), "map-deep": Map(stack(24, 1), options), "map-200": Map(stack(10, 20), options),
		"usage": Usage(used(), options), "wiring": Wiring(wired(), options), "wiring-none": Wiring(insight.Wiring{}, night),
		"start": Start(report(), nil, options), "start-two": Start(report(), report(), options),
	}
}

// What is drawn is as somebody last looked at it: go test ./internal/draw -update
// writes it anew, to be looked at.
func TestGoldenDrawings(t *testing.T) {
	for name, f := range figures() {
		got := written(t, f, "svg")
		path := filepath.Join("testdata", name+".svg")
		if *update {
			require.NoError(t, os.MkdirAll("testdata", 0o755))
			require.NoError(t, os.WriteFile(path, got, 0o644))
		}
		want, err := os.ReadFile(path)
		require.NoError(t, err, "write it with -update")
		assert.Equal(t, string(want), string(got), "%s; if it is meant, write it anew with -update and look at it", name)
	}
}

// Each drawing renders in both formats, with every name in its text and its fonts
// inside, and the same input makes the same bytes.
func TestDrawingsRender(t *testing.T) {
	testkit.Need(t, "rsvg-convert")
	testkit.Need(t, "pdftoppm")
	dir := t.TempDir()
	for name, f := range figures() {
		again := figures()[name]
		for _, format := range Formats {
			b := written(t, f, format)
			assert.True(t, bytes.Equal(b, written(t, again, format)), "%s.%s differs from itself", name, format)
			require.NoError(t, os.WriteFile(filepath.Join(dir, name+"."+format), b, 0o600))
		}
		run := func(args ...string) string {
			cmd := exec.Command(args[0], args[1:]...)
			cmd.Dir = dir
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s: %s", name, out)
			return string(out)
		}
		run("rsvg-convert", name+".svg", "-o", name+".png")
		run("pdftoppm", "-r", "40", "-png", name+".pdf", name)
		size := regexp.MustCompile(`Page size: +([\d.]+) x ([\d.]+)`).FindStringSubmatch(run("pdfinfo", name+".pdf"))
		require.NotNil(t, size)
		assert.InDelta(t, f.Width, value(size[1]), 1)
		assert.InDelta(t, f.Height, value(size[2]), 1)
		fonts := strings.Split(strings.TrimSpace(run("pdffonts", name+".pdf")), "\n")[2:]
		assert.NotEmpty(t, fonts)
		for _, f := range fonts {
			assert.Regexp(t, `Identity-H +yes`, f, "the font is inside")
		}
		text := run("pdftotext", "-layout", name+".pdf", "-")
		svg, err := os.ReadFile(filepath.Join(dir, name+".svg"))
		require.NoError(t, err)
		assert.NotContains(t, text, "hidden-word", name)
		for _, n := range []string{"ledger", "Скворечник", "web"} {
			if strings.HasPrefix(name, "start") || name == "map" {
				assert.Contains(t, text, n, name)
				assert.Contains(t, string(svg), ">"+n+"</text>", name)
				assert.Contains(t, string(svg), "<title>"+n+"</title>", name)
			}
		}
	}
}

// box is a card, as the drawing has it.
type box struct{ left, top, right, bottom float64 }

// No card is on another, and no line runs through one.
func TestLinesRunBetweenCards(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		var nodes []Node
		for i := range rapid.IntRange(1, 30).Draw(r, "services") {
			n := Node{Name: fmt.Sprintf("s%02d", i), Kind: "program", Step: 1, State: supervise.Ready}
			for j := range i {
				if rapid.IntRange(0, 6).Draw(r, "needs") == 0 {
					n.Needs = append(n.Needs, nodes[j].Name)
					n.Step = max(n.Step, nodes[j].Step+1)
				}
			}
			nodes = append(nodes, n)
		}
		var b bytes.Buffer
		require.NoError(r, Map(nodes, options).Write(&b, "svg"))
		require.NoError(r, wellFormed(b.Bytes()))
		needs, rest, _ := strings.Cut(b.String(), "<g><title>s00")
		_, needs, _ = strings.Cut(needs, "<g><title>needs</title>")
		var cards []box
		for _, m := range regexp.MustCompile(`<path d="M([\d.]+) ([\d.]+)L([\d.]+) [\d.]+L[\d.]+ ([\d.]+)L[^"]*Z" fill="none"`).FindAllStringSubmatch("<g><title>s00"+rest, -1) {
			cards = append(cards, box{value(m[1]), value(m[2]), value(m[3]), value(m[4])})
		}
		require.Len(r, cards, len(nodes))
		for i, a := range cards {
			for _, c := range cards[:i] {
				assert.False(r, a.left < c.right && c.left < a.right && a.top < c.bottom && c.top < a.bottom, "%v is on %v", a, c)
			}
		}
		for _, m := range regexp.MustCompile(`<path d="M([^"Z]+)" fill="none"`).FindAllStringSubmatch(needs, -1) {
			var xy [][2]float64
			for pt := range strings.SplitSeq(m[1], "L") {
				x, y, _ := strings.Cut(pt, " ")
				xy = append(xy, [2]float64{value(x), value(y)})
			}
			for i := 1; i < len(xy); i++ {
				for _, c := range cards {
					through := min(xy[i-1][0], xy[i][0]) < c.right-1 && max(xy[i-1][0], xy[i][0]) > c.left+1 &&
						min(xy[i-1][1], xy[i][1]) < c.bottom-1 && max(xy[i-1][1], xy[i][1]) > c.top+1
					assert.False(r, through, "%v to %v runs through %v", xy[i-1], xy[i], c)
				}
			}
		}
	})
}

func value(text string) float64 {
	v, _ := strconv.ParseFloat(text, 64)
	return v
}

func wellFormed(b []byte) error {
	d := xml.NewDecoder(bytes.NewReader(b))
	for {
		if _, err := d.Token(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}

func BenchmarkMapOf200(b *testing.B) {
	for b.Loop() {
		var out bytes.Buffer
		if err := Map(stack(10, 20), options).Write(&out, "svg"); err != nil {
			b.Fatal(err)
		}
	}
}
