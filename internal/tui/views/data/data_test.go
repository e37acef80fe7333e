package data

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/display"
	"neighbour/internal/tui/act"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/view/viewtest"
)

// opened returns the view on a ledger that holds loans and members.
func opened(t *testing.T, args any) (*screen, *viewtest.Host) {
	e, host := viewtest.Env(api.NewClient(filepath.Join(t.TempDir(), "none")), 142, 38)
	e.Overview.Holding, e.Overview.Project = []string{"ledger", "shelf"}, "toolshed"
	e.Services = map[string]api.Status{"ledger": {Name: "ledger", State: supervise.Ready}, "shelf": {Name: "shelf", State: supervise.Stopped}}
	v, _ := open(e, args)
	s := v.(*screen)
	s.Fit(142, 34)
	return s, host
}

var can = []string{store.Change, store.Insert, store.Delete, store.Clear}

func loans() heldMsg {
	return heldMsg{service: "ledger", data: keep.Data{Service: "ledger", Language: "SQL", Changes: true, Collections: []store.Collection{
		{Name: "t.loans", Group: "t", Title: "loans", Is: "table", Count: 1000, Bytes: 1, Can: can}, {Name: "t.members", Group: "t", Title: "members", Is: "table", Count: 2, Bytes: -1, Can: can}}}}
}

// rows makes rows whose keys are numbers.
func rows(from, to int) []store.Row {
	var out []store.Row
	for i := from; i < to; i++ {
		out = append(out, store.Row{Key: strconv.Itoa(i), Values: []store.Value{{Text: strconv.Itoa(i), Is: store.Number}}})
	}
	return out
}

// give answers what the view asked last with some rows.
func (v *screen) give(from, to int, more bool, add, back bool) {
	q := v.query("", back)
	if add {
		q.After = strconv.Itoa(from - 1)
		if back {
			q.After = strconv.Itoa(to)
		}
	}
	all := rows(from, to)
	v.Update(pageMsg{number: v.number, query: q, add: add, page: store.Page{Columns: []store.Column{{Name: "id", Is: store.Number}}, Rows: all, More: more, Next: all[len(all)-1].Key, Prev: all[0].Key}})
}

func text(v *screen) string {
	v.Fit(v.Columns, v.Rows)
	return ansi.Strip(strings.Join(v.Render().Lines, "\n"))
}

func press(v *screen, keys ...string) {
	for _, k := range keys {
		if _, done := view.Press(v.Bindings(), viewtest.Key(k)); !done {
			v.Update(viewtest.Key(k))
		}
		v.Fit(v.Columns, v.Rows)
	}
}

// Whatever services hold, the view draws what fits, and nothing that would act on
// the terminal.
func TestAnythingFits(t *testing.T) {
	forms := []store.Form{store.Text, store.Null, store.Number, store.JSON, store.Binary, store.Time, "odd"}
	odd := func(r *rapid.T, name string) string {
		return rapid.SampledFrom([]string{"", "loans", "a b", "宽宽宽", "\x1b[2J\x07", strings.Repeat("long ", 60), "line\nline", `{"a":[1,2]}`, "\x00\xff"}).Draw(r, name)
	}
	v, host := opened(t, nil)
	rapid.Check(t, func(r *rapid.T) {
		msg := heldMsg{service: "ledger", data: keep.Data{Service: "ledger", Language: odd(r, "language"), Changes: rapid.Bool().Draw(r, "changes")}}
		for i := range rapid.IntRange(0, 50).Draw(r, "collections") {
			msg.data.Collections = append(msg.data.Collections, store.Collection{Name: fmt.Sprint("c", i), Group: odd(r, "group"), Title: odd(r, "title"), Is: odd(r, "is"), Count: rapid.Int64Range(-1, 1e12).Draw(r, "count"), About: rapid.Bool().Draw(r, "about"), Bytes: rapid.Int64Range(-1, 1e12).Draw(r, "bytes"), New: rapid.IntRange(0, 3).Draw(r, "new"), Note: odd(r, "note"), Can: can})
		}
		v.place, v.level, v.pages, v.got, v.answer, v.filter, v.ask, v.reading, v.before = place{service: "ledger"}, collections, nil, store.Item{}, nil, nil, nil, false, nil
		v.Update(msg)
		p := store.Page{Order: odd(r, "order"), Where: odd(r, "where"), Fixed: odd(r, "fixed")}
		for range rapid.IntRange(0, 40).Draw(r, "columns") {
			p.Columns = append(p.Columns, store.Column{Name: odd(r, "column"), Type: odd(r, "type"), Is: rapid.SampledFrom(forms).Draw(r, "form"), Key: rapid.Bool().Draw(r, "key")})
		}
		for i := range rapid.IntRange(0, 60).Draw(r, "rows") {
			row := store.Row{Key: fmt.Sprint(i), New: rapid.Bool().Draw(r, "new")}
			for range p.Columns {
				row.Values = append(row.Values, store.Value{Text: odd(r, "value"), Is: rapid.SampledFrom(forms).Draw(r, "is"), Cut: rapid.Bool().Draw(r, "cut")})
			}
			p.Rows = append(p.Rows, row)
		}
		v.Update(pageMsg{number: v.number, query: v.query("", false), page: p})
		it := store.Item{Collection: v.place.collection, Key: v.key(), Says: odd(r, "says"), Notes: []string{odd(r, "note")}}
		if len(p.Rows) > 0 {
			for i, c := range p.Columns {
				f := store.Field{Column: c, Value: p.Rows[0].Values[i]}
				if rapid.Bool().Draw(r, "leads") {
					f.To = &store.Link{Collection: "x." + odd(r, "to"), Key: odd(r, "to key"), Says: odd(r, "to says")}
				}
				it.Fields = append(it.Fields, f)
			}
		}
		v.Update(itemMsg{service: "ledger", collection: it.Collection, key: it.Key, item: it})
		width, height := rapid.IntRange(20, 200).Draw(r, "width"), rapid.IntRange(3, 60).Draw(r, "height")
		for _, key := range []string{"", "down", "enter", "down", "right", "end", "enter", "down", "v", "down", "esc", "/", "x", "esc", ":", "x", "tab", "esc", "tab", "up", "esc", "esc"} {
			v.Fit(width, height)
			if key != "" {
				press(v, key)
			}
			host.Panel = nil
			v.Fit(width, height)
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

// A long collection is gone through by pages; those far behind are given up and come
// again when one goes back.
func TestThroughALongCollection(t *testing.T) {
	v, _ := opened(t, nil)
	v.Update(loans())
	assert.Equal(t, "t.loans", v.place.collection, "the first is looked at unasked")
	v.give(0, pageRows, true, false, false)
	press(v, "enter")
	end := pageRows
	for range keptPages + 3 {
		press(v, "end")
		for v.place.row < len(v.rows())-1 && !v.asking {
			press(v, "pgdown")
		}
		v.asking = false
		v.number++
		v.give(end, end+pageRows, true, true, false)
		end += pageRows
		v.place.row = len(v.rows()) - 10
	}
	assert.LessOrEqual(t, len(v.rows()), keptPages*pageRows)
	assert.NotEqual(t, "0", v.rows()[0].Key, "the first were given up")
	first := v.rows()[0].Key
	v.place.row = 5
	assert.NotNil(t, v.more(), "and are asked for again")
	n, _ := strconv.Atoi(first)
	key := v.key()
	v.give(n-pageRows, n, true, true, true)
	assert.Equal(t, key, v.key(), "what was chosen stays chosen")
	assert.Equal(t, strconv.Itoa(n-pageRows), v.rows()[0].Key)
}

// What changes while it is looked at is marked, and the chosen row stays.
func TestWatched(t *testing.T) {
	v, _ := opened(t, nil)
	v.Update(loans())
	v.give(0, 5, false, false, false)
	press(v, "enter", "down", "down")
	assert.Equal(t, "2", v.key())
	renewed := rows(-1, 5)
	renewed[5].Values[0].Text = "changed"
	v.Update(pageMsg{number: v.number, query: v.query("", false), refresh: true, page: store.Page{Columns: []store.Column{{Name: "id"}}, Rows: renewed}})
	assert.Equal(t, "2", v.key())
	assert.Len(t, v.marks, 2)
	assert.Contains(t, text(v), "+ -1")
	v.Now = time.Now().Add(time.Minute)
	assert.NotContains(t, text(v), "+ -1", "for a moment")
	rhythm := v.rhythm
	for range 10 {
		v.Update(pageMsg{number: v.number, query: v.query("", false), refresh: true, page: store.Page{Rows: renewed}})
	}
	assert.Greater(t, v.rhythm, rhythm, "the less changes, the more seldom")
	assert.LessOrEqual(t, v.rhythm, slowest)
	// An answer to what was asked before something else was chosen is dropped.
	old := v.number
	press(v, "esc", "down")
	v.Update(pageMsg{number: old, page: store.Page{Rows: rows(0, 9)}})
	assert.Empty(t, v.rows())
}

// A first page that did not come is asked for again, in a while.
func TestFirstPageAgain(t *testing.T) {
	v, _ := opened(t, nil)
	v.Update(loans())
	v.Update(pageMsg{number: v.number, query: v.query("", false), err: errors.New("the server does not answer")})
	v.Update(view.Tick{})
	assert.Contains(t, text(v), "the server does not answer", "not at once")
	v.refresh = time.Now()
	v.Update(view.Tick{})
	assert.True(t, v.asking)
	assert.Contains(t, text(v), "the server does not answer", "until it does")
	v.Update(pageMsg{number: v.number, query: v.query("", false), refresh: true, page: store.Page{Columns: []store.Column{{Name: "id", Is: store.Number}}, Rows: rows(0, 3)}})
	assert.NotContains(t, text(v), "does not answer")
	assert.Len(t, v.rows(), 3)
	v.Update(pageMsg{number: v.number, query: v.query("", false), refresh: true, err: errors.New("no answer")})
	assert.False(t, v.asking)
	v.refresh = time.Now()
	v.Update(view.Tick{})
	assert.True(t, v.asking, "also of what is there")
}

// A foreign key is followed, and escape leads back to where it was.
func TestFollows(t *testing.T) {
	v, _ := opened(t, Args{Service: "ledger", Collection: "t.loans"})
	v.Update(loans())
	v.give(0, 9, false, false, false)
	press(v, "down", "down", "enter")
	v.Update(itemMsg{service: "ledger", collection: "t.loans", key: "2", item: store.Item{Collection: "t.loans", Key: "2", Fields: []store.Field{{Column: store.Column{Name: "member"}, Value: store.Value{Text: "12", Is: store.Number}, To: &store.Link{Collection: "t.members", Key: "12", Says: "Ines Brandt"}}}}})
	assert.Contains(t, text(v), "→ members · Ines Brandt")
	press(v, "enter")
	assert.Equal(t, "t.members", v.place.collection)
	assert.Equal(t, "12", v.key())
	assert.Equal(t, "neighbour data ledger t.members 12", v.address())
	v.Update(itemMsg{service: "ledger", collection: "t.members", key: "12", err: errors.New("the row 12 is not there")})
	assert.Contains(t, text(v), "the row 12 is not there")
	v.give(0, 2, false, false, false)
	press(v, "esc")
	assert.Equal(t, "t.loans", v.place.collection)
	assert.Equal(t, "2", v.key())
	v.give(0, 9, false, false, false)
	press(v, "esc", "esc")
	assert.Equal(t, collections, v.level)
}

// Questions: earlier ones, completion, what would write, what is refused.
func TestQuestions(t *testing.T) {
	v, host := opened(t, nil)
	msg := loans()
	msg.data.Asked = []string{"select 1", "select 2"}
	v.Update(msg)
	v.give(0, 3, false, false, false)
	press(v, ":", "up", "up")
	assert.Equal(t, "select 1", v.ask.Value())
	press(v, "down", "down")
	v.Update(tea.PasteMsg{Content: "select * from mem"})
	press(v, "tab")
	assert.Equal(t, "select * from members", v.ask.Value())
	press(v, "enter")
	assert.False(t, v.Typing())
	v.Update(answerMsg{question: "select * from members", answer: keep.Answer{Page: store.Page{Columns: []store.Column{{Name: "n"}}, Rows: rows(0, 2), Took: 3}}})
	assert.Contains(t, text(v), "2 rows")
	press(v, "esc")
	assert.Nil(t, v.answer)

	v.asked = "delete from loans"
	v.put(v.asked, false)
	v.Update(answerMsg{question: v.asked, answer: keep.Answer{Writes: true}})
	require.IsType(t, &panel.Question{}, host.Panel)
	v.put("selec 1", false)
	v.asked = "selec 1"
	v.Update(answerMsg{question: v.asked, answer: keep.Answer{Refused: "syntax error", At: 1}})
	assert.Contains(t, text(v), "✖ syntax error, at: selec 1")
	// One that was taken back says nothing more.
	v.put("select pg_sleep(9)", false)
	v.asked = "select pg_sleep(9)"
	press(v, "esc")
	v.Update(answerMsg{question: v.asked, answer: keep.Answer{Page: store.Page{Rows: rows(0, 1)}}})
	assert.Nil(t, v.answer)
}

// Files are new ones, and what goes wrong half-way is said.
func TestWriteNew(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("a.csv", []byte("mine"), 0o600))
	path, err := act.WriteNew("a.csv", 0o600, func(w io.Writer) error {
		return store.CSV{}.Write(w, []store.Column{{Name: "id"}}, rows(0, 3))
	})
	require.NoError(t, err)
	assert.Equal(t, "a-2.csv", filepath.Base(path))
	b, _ := os.ReadFile("a.csv")
	assert.Equal(t, "mine", string(b))
	b, _ = os.ReadFile("a-2.csv")
	assert.Equal(t, "id\n0\n1\n2\n", string(b))
}
