// Package data is the view of what services hold: their collections on the left,
// the items of the chosen one beside them, and one item below or whole. It knows
// no kind of service; what can be looked at and done, the keeper says.
package data

import (
	"context"
	"slices"
	"time"

	"charm.land/bubbles/v2/textinput"
	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/tui/view"
)

// Spec describes the view. Its argument says what to look at.
var Spec = view.Spec{ID: "data", Title: "data", Key: "8", New: open, Commands: commands}

// Args are what to look at: a service, and a collection of it.
type Args struct{ Service, Collection string }

// holds are the words for what kinds of services hold.
var holds = map[string]string{
	"postgres": "database tables rows sql", "mariadb": "database tables rows sql", "mysql": "database tables rows sql", "sqlite": "database tables rows sql", "documents": "database collections",
	"redis": "cache keys", "memcached": "cache keys", "mail": "inbox mails messages email", "rabbitmq": "queue messages", "nats": "queue messages streams", "mqtt": "messages topics", "beanstalkd": "queue jobs",
	"objects": "files buckets storage", "identity": "accounts people sign in users", "functions": "calls", "stub": "requests routes",
}

func commands(e *view.Env) []view.Command {
	var out []view.Command
	for _, name := range e.Overview.Holding {
		out = append(out, view.Command{Says: "look into " + name, Also: holds[e.Services[name].Kind] + " data " + e.Services[name].Kind, Do: func() tea.Cmd { return e.Turn("data", Args{Service: name}) }})
	}
	return out
}

// The levels, from left to right.
const (
	collections = iota
	items
	item
)

// screen is the view.
type screen struct {
	*view.Env
	view.Still
	level int

	held   map[string]*held // by service
	place  place
	before []left // what was left to follow something, or to ask

	pages   []page         // those of the place that are there, in order
	asking  bool           // for a page
	got     store.Item     // the last item that came; see whole
	full    viewport.Model // one value whole
	reading bool           // it is shown

	filter   *textinput.Model // while it is typed
	ask      *textinput.Model // while a question is typed
	answer   *keep.Answer     // to the question; nil: the collection is shown
	asked    string           // the question of the answer
	history  []string         // of questions
	recalled int              // which of them is in the field, counted from the end; 0: none

	cancel  context.CancelFunc // ends what is asked for now
	since   time.Time          // when that began; zero: nothing is
	problem string             // what is wrong with what was asked for

	marks    map[string]time.Time // rows that are new or have changed, until then
	rhythm   time.Duration        // how often the page is asked for again
	refresh  time.Time            // when that is next
	watching bool
	number   int // of the newest request for items: answers to earlier ones are dropped
}

// held is what a service holds.
type held struct {
	data    keep.Data
	loaded  bool
	asking  bool
	problem string
	at      time.Time
}

// place is what is looked at.
type place struct {
	service, collection string
	where               string
	row                 int    // the chosen one, of those that are there
	top                 int    // the first that is shown
	left                int    // the first column that is shown
	item                string // the key of the one that was gone into
	field               int    // of the item
	fieldTop            int
}

// left is a place that was left, as it was, to come back to.
type left struct {
	place place
	level int
	pages []page
	got   store.Item
}

// page is some items with the query that they answer.
type page struct {
	store.Page
	after string
	back  bool
}

const (
	pageRows  = 200
	keptPages = 10
	// refreshing is how often what is looked at is asked for again, at first and at
	// most seldom.
	quickest, slowest = time.Second, 10 * time.Second
	markFor           = 2 * time.Second
	listEvery         = 5 * time.Second
)

// passing is how long an item is chosen before it is asked for: whoever runs through a
// list wants none of what is passed. A variable for the tests.
var passing = 40 * time.Millisecond

func open(e *view.Env, args any) (view.View, tea.Cmd) {
	v := &screen{Env: e, held: map[string]*held{}, marks: map[string]time.Time{}, rhythm: quickest, watching: true, full: viewport.New()}
	a, _ := args.(Args)
	if a.Service == "" && slices.Contains(e.Overview.Holding, e.Selected) {
		a.Service = e.Selected
	}
	v.place.service, v.place.collection = a.Service, a.Collection
	cmds := []tea.Cmd{v.list()}
	if a.Collection != "" {
		v.level = items
		cmds = append(cmds, v.load())
	}
	return v, tea.Batch(cmds...)
}

type (
	heldMsg struct {
		service string
		data    keep.Data
		err     error
	}
	pageMsg struct {
		number  int
		query   store.Query
		page    store.Page
		err     error
		add     bool // beside those that are there
		refresh bool
	}
	itemMsg struct {
		service, collection, key string
		item                     store.Item
		err                      error
	}
	seenMsg   struct{ err error }
	filledMsg struct {
		rows int
		err  error
	}
	answerMsg struct {
		question string
		answer   keep.Answer
		err      error
		write    bool
	}
)

// list asks for what the services that run hold. Which those are may not have been
// known when the view was opened.
func (v *screen) list() tea.Cmd {
	var cmds []tea.Cmd
	if v.place.service == "" && len(v.Overview.Holding) > 0 {
		v.place.service = v.Overview.Holding[0]
	}
	for _, name := range v.Overview.Holding {
		h := v.held[name]
		if h == nil {
			h = &held{}
			v.held[name] = h
		}
		state := v.Services[name].State
		if h.asking || state != supervise.Ready && state != supervise.Ailing {
			continue
		}
		h.asking, h.at = true, time.Now()
		cmds = append(cmds, v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
			d, err := c.Data(ctx, name)
			return heldMsg{name, d, err}
		}))
	}
	return tea.Batch(cmds...)
}

// query is that for a page of the place.
func (v *screen) query(after string, back bool) store.Query {
	return store.Query{Collection: v.place.collection, Where: v.place.where, After: after, Back: back, Limit: pageRows}
}

// load has the first page of the place come, in place of what is there.
func (v *screen) load() tea.Cmd {
	if n := len(v.before); v.answer != nil && n > 0 { // nobody comes back from the answer
		v.before = v.before[:n-1]
	}
	v.pages, v.problem, v.answer, v.got = nil, "", nil, store.Item{}
	return v.fetch(v.query("", false), false, false)
}

// fetch asks for a page. A look that takes long can be cancelled.
func (v *screen) fetch(q store.Query, add, refresh bool) tea.Cmd {
	if q.Collection == "" {
		return nil
	}
	v.number++
	number, service := v.number, v.place.service
	v.asking = true
	v.rhythmFor(refresh)
	return v.cancellable(!refresh, time.Minute, func(ctx context.Context, c *api.Client) tea.Msg {
		p, err := c.Items(ctx, service, q)
		return pageMsg{number, q, p, err, add, refresh}
	})
}

func (v *screen) rhythmFor(refresh bool) {
	if !refresh {
		v.rhythm = quickest
	}
	v.refresh = time.Now().Add(v.rhythm)
}

// cancellable asks the keeper for something that escape takes back.
func (v *screen) cancellable(seen bool, limit time.Duration, ask func(context.Context, *api.Client) tea.Msg) tea.Cmd {
	if v.cancel != nil {
		v.cancel()
	}
	mine, cancel := context.WithCancel(v.Context())
	v.cancel = cancel
	if seen {
		v.since = time.Now()
	}
	return v.Ask(limit, func(ctx context.Context, c *api.Client) tea.Msg {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		defer context.AfterFunc(mine, stop)()
		return ask(ctx, c)
	})
}

// quiet says that nothing is asked for any more.
func (v *screen) quiet() {
	if v.cancel != nil {
		v.cancel()
	}
	v.cancel, v.since, v.asking = nil, time.Time{}, false
}

// Close ends what is asked for.
func (v *screen) Close() { v.quiet() }

// Typing reports whether a filter or a question is typed.
func (v *screen) Typing() bool { return v.filter != nil || v.ask != nil }

// Update takes a message.
func (v *screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case heldMsg:
		return v.holds(msg)
	case pageMsg:
		return v.took(msg)
	case itemMsg:
		v.tookItem(msg)
	case answerMsg:
		return v.answered(msg)
	case filledMsg:
		if msg.err != nil {
			v.Say(msg.err.Error(), true)
			return nil
		}
		v.Say(words.Count(msg.rows, "row")+" added", false)
		return tea.Batch(v.list(), v.load())
	case seenMsg:
		if msg.err != nil {
			v.Say(msg.err.Error(), true)
		}
		v.refresh = time.Now()
		return v.list()
	case view.Changed:
		if msg.Fresh || msg.Moved {
			return v.list()
		}
	case view.Tick:
		return v.tick()
	case tea.KeyPressMsg, tea.PasteMsg:
		return v.typed(msg)
	}
	if by := view.Wheel(msg); by != 0 {
		return v.move(3 * by)
	}
	return nil
}

func (v *screen) typed(msg tea.Msg) tea.Cmd {
	for _, in := range []*textinput.Model{v.filter, v.ask} {
		if in == nil {
			continue
		}
		changed, cmd := in.Update(msg)
		*in = changed
		return cmd
	}
	return nil
}

func (v *screen) holds(msg heldMsg) tea.Cmd {
	h := v.held[msg.service]
	if h == nil {
		return nil
	}
	h.asking = false
	if msg.err != nil {
		h.problem = msg.err.Error()
		return nil
	}
	h.data, h.loaded, h.problem = msg.data, true, ""
	// The first collection is looked at without being asked for.
	if v.place.service == msg.service && v.place.collection == "" && len(h.data.Collections) > 0 {
		v.place.collection = h.data.Collections[0].Name
		return v.load()
	}
	return nil
}

func (v *screen) tick() tea.Cmd {
	now := time.Now()
	for key, until := range v.marks {
		if now.After(until) {
			delete(v.marks, key)
		}
	}
	var cmds []tea.Cmd
	for _, h := range v.held {
		if !h.asking && now.Sub(h.at) > listEvery {
			cmds = append(cmds, v.list())
			break
		}
	}
	changing := len(v.pages) > 0 && !v.pages[0].Still
	failed := len(v.pages) == 0 && v.problem != "" // its cause may be gone
	if v.watching && !v.asking && v.answer == nil && (changing || failed) && now.After(v.refresh) && v.Shown() == nil && !v.Typing() {
		cmds = append(cmds, v.again())
	}
	return tea.Batch(cmds...)
}

// again requests the page that the mark is in once more, the first if none has come.
func (v *screen) again() tea.Cmd {
	if len(v.pages) == 0 {
		return v.fetch(v.query("", false), false, true)
	}
	at := 0
	for row := v.place.row; at < len(v.pages)-1 && row >= len(v.pages[at].Rows); at++ {
		row -= len(v.pages[at].Rows)
	}
	return v.fetch(v.query(v.pages[at].after, v.pages[at].back), false, true)
}

var _ view.View = (*screen)(nil)
