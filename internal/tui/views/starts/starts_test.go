package starts

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
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/display"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/view/viewtest"
)

func opened(t *testing.T) (*screen, *viewtest.Host) {
	e, host := viewtest.Env(api.NewClient(filepath.Join(t.TempDir(), "none")), 142, 38)
	v, _ := open(e, nil)
	return v.(*screen), host
}

// Whatever a record says, and however small the screen is, the view draws what
// fits.
func TestAnyStartFits(t *testing.T) {
	kinds := []starts.Kind{starts.Waiting, starts.Preparing, starts.Starting, "odd"}
	results := []starts.Result{"", starts.Ready, starts.Failed, starts.Cancelled, starts.UnderWay}
	v, _ := opened(t)
	rapid.Check(t, func(r *rapid.T) {
		s := starts.Start{ID: rapid.Int64Range(0, 9).Draw(r, "id"), Began: time.Now().Add(-time.Minute), Took: rapid.Float64Range(0, 1e7).Draw(r, "took"),
			Result: rapid.SampledFrom(results).Draw(r, "result"), Cold: rapid.Bool().Draw(r, "cold")}
		for i := range rapid.IntRange(0, 12).Draw(r, "services") {
			one := starts.Service{Name: fmt.Sprintf("service %d 宽", i), Result: rapid.SampledFrom(results).Draw(r, "result"), Reason: "exit 3\x1b[2J"}
			for range rapid.IntRange(0, 4).Draw(r, "phases") {
				one.Phases = append(one.Phases, starts.Phase{Is: rapid.SampledFrom(kinds).Draw(r, "is"), From: rapid.Float64Range(0, 1e6).Draw(r, "from"),
					To: rapid.Float64Range(0, 1e6).Draw(r, "to"), What: strings.Repeat("npm ci ", 30)})
			}
			if i > 0 {
				one.Needs = []string{s.Services[rapid.IntRange(0, i-1).Draw(r, "need")].Name}
			}
			s.Services = append(s.Services, one)
		}
		report := starts.NewReport(&s, nil, time.Now())
		var all []history.Summary
		for i := range rapid.IntRange(0, 300).Draw(r, "starts") {
			all = append(all, history.Summary{ID: int64(i), Took: float64(i), Result: rapid.SampledFrom(results).Draw(r, "result")})
		}
		v.Update(listMsg{all: all})
		v.id, v.report, v.ghost, v.whatIf = 0, nil, nil, -1
		v.Update(reportMsg{report: report})
		if rapid.Bool().Draw(r, "ghost") {
			v.Update(reportMsg{ghost: true, report: report})
		}
		width, height := rapid.IntRange(20, 200).Draw(r, "width"), rapid.IntRange(5, 60).Draw(r, "height")
		v.Fit(width, height)
		for _, key := range []string{"down", "w", "shift+left", "left", "w", "shift+right", "]", "[", "right", "up"} {
			view.Press(v.Bindings(), viewtest.Key(key))
			lines := v.Render().Lines
			assert.Len(r, lines, height)
			for _, l := range lines {
				assert.LessOrEqual(r, display.Width(l), width, ansi.Strip(l))
				assert.NotContains(r, l, "\x1b[2J")
			}
		}
	})
}

// An answer about a start that is no longer the chosen one is dropped.
func TestAnotherStartIsChosenMeanwhile(t *testing.T) {
	v, _ := opened(t)
	v.Fit(142, 30)
	v.Update(listMsg{all: []history.Summary{{ID: 1, Took: 5}, {ID: 2, Took: 6}}})
	v.Update(reportMsg{report: starts.NewReport(&starts.Start{ID: 2, Took: 6, Result: starts.Ready}, nil, time.Now())})
	view.Press(v.Bindings(), viewtest.Key("left"))
	assert.Equal(t, int64(1), v.id)
	v.Update(reportMsg{report: starts.NewReport(&starts.Start{ID: 3, Took: 7, Result: starts.Ready}, nil, time.Now())})
	assert.Equal(t, int64(2), v.report.Start.ID)
	assert.Nil(t, v.Update(view.Changed{Moved: true}), "an earlier start does not change")
	view.Press(v.Bindings(), viewtest.Key("right"))
	assert.Zero(t, v.id, "the newest is followed")
	assert.NotNil(t, v.Update(view.Changed{Moved: true}))
}

func TestNothingWasStartedYet(t *testing.T) {
	v, _ := opened(t)
	v.Fit(142, 30)
	v.Update(listMsg{})
	v.Update(reportMsg{err: history.ErrNone})
	assert.Contains(t, ansi.Strip(strings.Join(v.Render().Lines, "\n")), "Nothing was started yet.")
}
