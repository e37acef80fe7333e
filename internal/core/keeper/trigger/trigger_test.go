package trigger

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
	"neighbour/internal/testkit"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m, goleak.IgnoreCurrent()) }

// host is a project whose service "loans" tells what is put into source.
type host struct {
	ready  atomic.Bool
	source chan []outbox.Event
	states chan string

	mu     sync.Mutex
	notes  []string
	ran    []map[string]string
	taken  []outbox.Event
	begins []string // the cursors that were gone on from
	fails  error
}

func (h *host) Ready(string) bool { return h.ready.Load() }

func (h *host) Follow(ctx context.Context, _ string, _ kind.Watch, cursor string, emit kind.Emit) error {
	h.mu.Lock()
	h.begins = append(h.begins, cursor)
	err := h.fails
	h.mu.Unlock()
	if err != nil {
		return err
	}
	if cursor == "" {
		if err := emit(nil, "0"); err != nil {
			return err
		}
	}
	for {
		select {
		case all := <-h.source:
			if err := emit(all, all[len(all)-1].Source); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (h *host) Take(_ context.Context, service, to string, e outbox.Event) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	e.Subject = service + " " + to
	h.taken = append(h.taken, e)
	return nil
}

func (h *host) Expand(text string) (string, error) {
	if text == "${gone.url}" {
		return "", errors.New("there is no such service")
	}
	return text, nil
}

func (h *host) Forbids(t *declare.Trigger) string {
	if t.Name == "abroad" {
		return "that is outside"
	}
	return ""
}

func (h *host) Run(_ context.Context, errand string, variables map[string]string, by string) (string, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	variables["errand"], variables["by"] = errand, by
	h.ran = append(h.ran, variables)
	return "done", nil
}

func (h *host) States(ctx context.Context, began func(), told func(service, state string, at time.Time)) {
	began()
	for {
		select {
		case s := <-h.states:
			told("api", s, time.Now())
		case <-ctx.Done():
			return
		}
	}
}

func (h *host) Note(name string, _ bool, text string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.notes = append(h.notes, name+": "+text)
}

func (h *host) noted() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]string{}, h.notes...)
}

// running runs triggers until the test ends.
func running(t *testing.T, h *host, all ...*declare.Trigger) *Runner {
	h.source, h.states = make(chan []outbox.Event), make(chan string)
	h.ready.Store(true)
	dir := t.TempDir()
	b, err := outbox.Open(filepath.Join(dir, "box"))
	require.NoError(t, err)
	r := New("toolshed", all, h, b, OpenClock(filepath.Join(dir, "clock")))
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		r.Run(ctx)
		close(done)
	}()
	t.Cleanup(func() {
		cancel()
		<-done
		assert.NoError(t, b.Close())
	})
	return r
}

func watching(name string) *declare.Trigger {
	return &declare.Trigger{Name: name, On: declare.Source{Kind: "documents", What: "loans", Service: declare.Word{Value: "reviews"}}}
}

func eventually(t *testing.T, what func() bool) {
	t.Helper()
	require.Eventually(t, what, testkit.Patience, time.Millisecond)
}

// A call is a CloudEvent in binary mode, whatever stands in its values.
func TestCalls(t *testing.T) {
	type got struct {
		header http.Header
		body   string
	}
	came := make(chan got, 10)
	app := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		came <- got{r.Header, string(b)}
	}))
	defer app.Close()
	tr := watching("reindex")
	tr.Call, tr.Headers = declare.Text{Value: app.URL}, map[string]declare.Text{"X-Shed": {Value: "yes"}}
	h := &host{}
	r := running(t, h, tr)
	at := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	h.source <- []outbox.Event{{Source: "7", Key: "a b", Type: "insert", Subject: "loans \"é\"\n", At: at, Data: json.RawMessage(`{"n":1}`)}}
	g := <-came
	assert.Equal(t, `{"n":1}`, g.body)
	for name, want := range map[string]string{"ce-specversion": "1.0", "ce-id": "reindex/7", "ce-source": "/toolshed/reviews/loans", "ce-type": "insert", "ce-subject": "loans%20%22%C3%A9%22%0A", "ce-time": "2026-11-26T12:00:00Z", "X-Shed": "yes", "Content-Type": "application/json"} {
		assert.Equal(t, want, g.header.Get(name), name)
	}
	assert.Regexp(t, `^event-\d+$`, g.header.Get("X-Request-Id"))
	// What isn't ready is not called; what happens meanwhile arrives.
	h.ready.Store(false)
	_, err := r.Box.Fire(t.Context(), "reindex", "me", outbox.Event{Key: "k", Type: "by hand", Data: json.RawMessage("{}")})
	require.NoError(t, err)
	g = <-came // it needs none of the project's services
	assert.Equal(t, "by%20hand", g.header.Get("ce-type"))
	require.Len(t, h.noted(), 0)
}

// Errands get an event in variables, queues as a message, and states of services are told.
func TestTargets(t *testing.T) {
	errand := &declare.Trigger{Name: "note", Errand: declare.Word{Value: "note"}, On: declare.Source{State: declare.Word{Value: "failed"}, Service: declare.Word{Value: "api"}}}
	message := watching("forward")
	message.Send = declare.Send{Kind: "rabbitmq", To: "jobs", Service: declare.Word{Value: "bus"}}
	abroad := &declare.Trigger{Name: "abroad", Call: declare.Text{Value: "https://api.example.org/"}, On: declare.Source{Every: time.Hour}}
	h := &host{}
	r := running(t, h, errand, message, abroad)
	_, err := r.Box.Fire(t.Context(), "abroad", "me", outbox.Event{Data: json.RawMessage("1")})
	require.NoError(t, err)
	eventually(t, func() bool {
		sum, err := r.Box.Summary("abroad")
		return err == nil && sum.Aside == 1
	})
	eventually(t, func() bool { return len(h.noted()) == 1 })
	assert.Contains(t, h.noted()[0], "put aside after 1 tries: that is outside")
	h.mu.Lock()
	h.notes = nil
	h.mu.Unlock()
	h.states <- "ready"
	h.states <- "failed"
	h.source <- []outbox.Event{{Source: "1", Key: "k", Type: "insert", Data: json.RawMessage(`{"n":2}`)}}
	eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.ran) == 1 && len(h.taken) == 1
	})
	assert.Equal(t, "failed", h.ran[0]["EVENT_TYPE"])
	assert.JSONEq(t, `{"service":"api","state":"failed"}`, h.ran[0]["EVENT_DATA"])
	assert.Equal(t, "trigger note", h.ran[0]["by"])
	assert.Equal(t, "bus jobs", h.taken[0].Subject)
	eventually(t, func() bool {
		cursor, err := r.Box.Cursor("forward")
		return err == nil && cursor == "1"
	})
	// A source that can't be followed is said once, and gone on from where it was; of one that
	// has forgotten, from now.
	for i, err := range []error{errors.New("connection refused"), fmt.Errorf("%w: too old", kind.ErrLost)} {
		h.mu.Lock()
		h.fails = err
		h.mu.Unlock()
		h.ready.Store(false)
		eventually(t, func() bool { return !r.Watched("forward") })
		h.ready.Store(true)
		eventually(t, func() bool { return len(h.noted()) > i })
	}
	eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return h.begins[len(h.begins)-1] == ""
	})
	assert.Contains(t, h.noted()[0], "forward: reviews › loans can't be watched: connection refused")
	assert.Equal(t, "1", h.begins[1])
}

// What causes its own events is stopped after a number; what others cause is not.
func TestChains(t *testing.T) {
	h := &host{}
	var calls atomic.Int32
	app := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		n := calls.Add(1)
		if r.Header.Get("ce-type") == "round" { // it does what makes it happen
			h.source <- []outbox.Event{{Source: fmt.Sprint("r", n), Key: "a", Type: "round", At: time.Now(), Data: json.RawMessage("{}")}}
		}
	}))
	defer app.Close()
	tr := watching("round")
	tr.Call, tr.Chain = declare.Text{Value: app.URL}, 10
	r := running(t, h, tr)
	for i := range 50 { // one after the other, and none caused by one before
		at := time.Now().Add(time.Second) // so that it is after the one before, whatever the clocks
		h.source <- []outbox.Event{{Source: fmt.Sprint(i), Key: "b", Type: "insert", At: at, Data: json.RawMessage("{}")}}
		eventually(t, func() bool { return int(calls.Load()) == i+1 })
	}
	calls.Store(0)
	h.source <- []outbox.Event{{Source: "first", Key: "a", Type: "round", At: time.Now(), Data: json.RawMessage("{}")}}
	eventually(t, func() bool {
		sum, err := r.Box.Summary("round")
		return err == nil && sum.Paused != ""
	})
	sum, err := r.Box.Summary("round")
	require.NoError(t, err)
	assert.Contains(t, sum.Paused, "10 times in a row its own doing made it happen again")
	assert.EqualValues(t, 10, calls.Load())
}

// Schedules go by the clock, which can be moved: what comes at that very time happens.
func TestClock(t *testing.T) {
	tr := &declare.Trigger{Name: "overdue", Errand: declare.Word{Value: "overdue"}, On: declare.Source{Cron: declare.Word{Value: "0 8 * * MON-FRI"}, Zone: "Europe/Oslo"}}
	h := &host{}
	r := running(t, h, tr)
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	ran := func() int {
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.ran)
	}
	monday := time.Date(2026, 11, 30, 8, 0, 0, 0, oslo)
	eventually(t, func() bool { return r.Watched("overdue") })
	for i := range 2 { // and again
		require.NoError(t, r.Clock.Set(monday))
		eventually(t, func() bool { return ran() == i+1 })
	}
	require.NoError(t, r.Clock.Set(monday.Add(-300*time.Millisecond)))
	eventually(t, func() bool { return ran() == 3 })
	tuesday := monday.AddDate(0, 0, 8)
	require.NoError(t, r.Clock.Set(monday.AddDate(0, 0, 5))) // a Saturday, when nothing comes
	require.NoError(t, r.Clock.Set(tuesday))
	eventually(t, func() bool { return ran() == 4 })
	h.mu.Lock()
	defer h.mu.Unlock()
	require.Len(t, h.ran, 4, "what lies between two times to which it is set does not happen")
	assert.Contains(t, h.ran[0]["EVENT_DATA"], `"at":"2026-11-30T08:00:00+01:00"`)
	assert.Contains(t, h.ran[3]["EVENT_DATA"], `"at":"2026-12-08T08:00:00+01:00"`)
	assert.InDelta(t, time.Until(tuesday).Hours(), OpenClock(r.Clock.file).Ahead().Hours(), 0.1, "it is kept")
	require.NoError(t, r.Clock.Set(time.Time{}))
	assert.Zero(t, OpenClock(r.Clock.file).Ahead())
	assert.Len(t, Next(tr, monday, 6), 6)
	assert.Empty(t, Next(watching("x"), monday, 6))
}
