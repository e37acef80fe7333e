package data

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/view/viewtest"
)

// ledger answers as a keeper whose loans lead to members; the member of loan N has
// the number 500 + N.
func ledger(t *testing.T) *api.Client {
	socket := filepath.Join(t.TempDir(), "k.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	field := func(name, value string) store.Field {
		return store.Field{Column: store.Column{Name: name}, Value: store.Value{Text: value, Is: store.Number}}
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Neighbour-Api", api.Version)
		q := r.URL.Query()
		var answer any
		switch path := r.URL.Path; {
		case strings.HasSuffix(path, "/data"):
			answer = loans().data
		case strings.HasSuffix(path, "/items"):
			var asked store.Query
			_ = json.NewDecoder(r.Body).Decode(&asked)
			first, n := 100, 30
			if asked.Collection == "t.members" {
				first = 600
			}
			if asked.Where != "" {
				first, n = first+10, 7
			}
			answer = store.Page{Columns: []store.Column{{Name: "id", Is: store.Number}}, Rows: rows(first, first+n)}
		case strings.HasSuffix(path, "/item"):
			it := store.Item{Collection: q.Get("collection"), Key: q.Get("key"), Fields: []store.Field{field("id", q.Get("key")), field("member", "")}}
			if n, _ := strconv.Atoi(it.Key); it.Collection == "t.loans" {
				it.Fields[1].To = &store.Link{Collection: "t.members", Key: strconv.Itoa(500 + n)}
			}
			answer = it
		case strings.HasSuffix(path, "/actions"):
			answer = []store.Action{{Name: store.Delete, Says: "delete it"}, {Name: store.Change, Says: "change it", Inputs: []store.Input{{Name: "id"}, {Name: "member"}}}}
		case strings.HasSuffix(path, "/plan"):
			var asked store.Act
			_ = json.NewDecoder(r.Body).Decode(&asked)
			answer = store.Plan{Statement: asked.Action + " " + asked.Collection + " " + asked.Key, Loses: "it"}
		case strings.HasSuffix(path, "/ask"):
			answer = keep.Answer{Page: store.Page{Columns: []store.Column{{Name: "id", Is: store.Number}}, Rows: rows(900, 910)}}
		default:
			answer = map[string]string{}
		}
		_ = json.NewEncoder(w).Encode(answer)
	})}
	go server.Serve(l)
	c := api.NewClient(socket)
	t.Cleanup(func() {
		c.Close()
		server.Close()
	})
	return c
}

var (
	markedRow = regexp.MustCompile(`▌ +(\d{3})\b`)
	itemTitle = regexp.MustCompile(`─ (loans|members) · (\d{3}) ─`)
)

// Whatever was pressed, and in whatever order the answers came, the row that has the
// mark, the item that is shown whole and the one that would be deleted are the same.
func TestWhatIsChosenIsActedOn(t *testing.T) {
	passing = 0
	client := ledger(t)
	compared := map[int]int{} // by level
	rapid.Check(t, func(r *rapid.T) {
		e, host := viewtest.Env(client, 142, 38)
		e.Overview.Holding = []string{"ledger"}
		e.Services = map[string]api.Status{"ledger": {Name: "ledger", State: supervise.Ready}}
		opened, cmd := open(e, nil)
		v := opened.(*screen)
		var waiting []tea.Cmd // what is asked, and isn't answered yet
		ask := func(c tea.Cmd) {
			if c != nil {
				waiting = append(waiting, c)
			}
		}
		answer := func(at int) {
			c := waiting[at]
			waiting = append(waiting[:at:at], waiting[at+1:]...)
			switch msg := c().(type) {
			case nil:
			case tea.BatchMsg:
				for _, one := range msg {
					ask(one)
				}
			case view.Later:
				ask(msg())
			case view.Answer:
				ask(v.Update(msg.Msg))
			default:
				ask(v.Update(msg))
			}
		}
		ask(cmd)
		for len(waiting) > 0 {
			answer(0)
		}
		keys := rapid.SliceOfN(rapid.SampledFrom([]string{"down", "down", "up", "enter", "enter", "esc", "esc", "tab", "pgdown", "end", "home", "x", "x", "filter", "ask", "answer", "answer", "tick"}), 5, 60).Draw(r, "keys")
		// One in four begins by deleting what is there at each level, which chance alone reaches seldom.
		begin := rapid.SampledFrom([][]string{nil, nil, {"enter", "settle", "x", "settle"}, {"enter", "enter", "settle", "x", "settle"}}).Draw(r, "begin")
		for _, key := range append(slices.Clone(begin), keys...) {
			v.Fit(142, 34)
			switch key {
			case "settle":
				for len(waiting) > 0 {
					answer(0)
				}
			case "answer":
				if len(waiting) > 0 {
					answer(rapid.IntRange(0, len(waiting)-1).Draw(r, "which"))
				}
			case "filter", "ask":
				if k := map[string]string{"filter": "/", "ask": ":"}[key]; !v.Typing() {
					if cmd, done := view.Press(v.Bindings(), viewtest.Key(k)); done && v.Typing() {
						ask(cmd)
						v.Update(tea.PasteMsg{Content: "12"})
						cmd, _ := view.Press(v.Bindings(), viewtest.Key("enter"))
						ask(cmd)
					}
				}
			case "tick":
				ask(v.Update(view.Tick{}))
			default:
				cmd, _ := view.Press(v.Bindings(), viewtest.Key(key))
				ask(cmd)
			}
			v.Fit(142, 34)
			screen := ansi.Strip(strings.Join(v.Render().Lines, "\n"))
			row, title := markedRow.FindStringSubmatch(screen), itemTitle.FindStringSubmatch(screen)
			if v.level == items && title != nil && (row == nil || row[1] != title[2]) {
				r.Fatalf("the mark is on %v and the item shown is %v:\n%s", row, title, screen)
			}
			q, asked := host.Panel.(*panel.Question)
			if !asked {
				continue
			}
			host.Panel = nil
			says := strings.Join(q.List, " ")
			want := ""
			switch {
			case !strings.HasPrefix(says, store.Delete):
			case v.level == item && title != nil:
				want = "delete t." + title[1] + " " + title[2]
			case v.level == items && row != nil:
				want = fmt.Sprintf("delete %s %s", v.place.collection, row[1])
			}
			compared[v.level]++
			if want != "" && says != want {
				r.Fatalf("%s would be done, and it is %s that is chosen:\n%s", says, want, screen)
			}
		}
	})
	assert.Greater(t, compared[items], 5)
	assert.Greater(t, compared[item], 5)
}
