package data

import (
	"context"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/browser"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/display"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
)

// move chooses another row of what is gone through.
func (v *screen) move(by int) tea.Cmd {
	switch {
	case v.reading:
		v.full.SetYOffset(v.full.YOffset() + by)
		return nil
	case v.level == collections:
		return v.pick(by)
	case v.level == item:
		v.place.field = min(max(0, v.place.field+by), max(0, len(v.whole().Fields)-1))
		return nil
	}
	rows := len(v.rows())
	v.place.row = min(max(0, v.place.row+by), max(0, rows-1))
	if v.answer != nil {
		return nil
	}
	return tea.Batch(v.more(), v.read())
}

// more has the page after those that are there come, or the one before, when one
// comes near.
func (v *screen) more() tea.Cmd {
	if v.asking || len(v.pages) == 0 {
		return nil
	}
	first, last := v.pages[0], v.pages[len(v.pages)-1]
	const near = 60
	switch {
	case v.place.row >= len(v.rows())-near && last.Next != "" && (last.More || last.back):
		if last.back && len(v.pages) == 1 && first.after == "" { // the very end
			if v.place.row < near {
				break
			}
			return nil
		}
		return v.fetch(v.query(last.Next, false), true, false)
	}
	if v.place.row < near && first.Prev != "" && (first.after != "" || first.back && first.More) {
		return v.fetch(v.query(first.Prev, true), true, false)
	}
	return nil
}

// pick chooses another collection.
func (v *screen) pick(by int) tea.Cmd {
	var all []entry
	at := 0
	for _, e := range v.entries() {
		if e.collection == nil {
			continue
		}
		if e.service == v.place.service && e.collection.Name == v.place.collection {
			at = len(all)
		}
		all = append(all, e)
	}
	if len(all) == 0 {
		return nil
	}
	e := all[min(max(0, at+by), len(all)-1)]
	if e.service == v.place.service && e.collection.Name == v.place.collection {
		return nil
	}
	return v.choose(e)
}

func (v *screen) choose(e entry) tea.Cmd {
	v.before = nil
	v.place = place{service: e.service, collection: e.collection.Name}
	v.State.Selected = e.service
	return v.load()
}

// deeper goes to the items, to one of them, and to what it leads to.
func (v *screen) deeper() tea.Cmd {
	switch {
	case v.reading:
		return nil
	case v.level == collections:
		if v.place.collection != "" {
			v.level = items
		}
	case v.level == items && v.answer == nil && v.key() != "":
		v.place.item, v.place.field, v.place.fieldTop = v.key(), 0, 0
		v.level = item
		if v.rows()[v.place.row].New {
			return v.see()
		}
	case v.level == item:
		return v.follow()
	}
	return nil
}

// see notes that the chosen item was seen.
func (v *screen) see() tea.Cmd {
	service, act := v.place.service, store.Act{Collection: v.place.collection, Key: v.key(), Action: store.See}
	return v.Ask(view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		_, err := c.Act(ctx, service, act)
		return seenMsg{err}
	})
}

// follow goes to what the chosen field leads to.
func (v *screen) follow() tea.Cmd {
	f, ok := v.chosen()
	if !ok {
		return nil
	}
	if f.To == nil || f.To.Key == "" {
		v.show()
		return nil
	}
	v.leave()
	v.place = place{service: v.place.service, collection: f.To.Collection, item: f.To.Key}
	return tea.Batch(v.load(), v.read())
}

// chosen returns the chosen field of the item that was gone into.
func (v *screen) chosen() (store.Field, bool) {
	if fields := v.whole().Fields; v.level == item && v.place.field < len(fields) {
		return fields[v.place.field], true
	}
	return store.Field{}, false
}

// leave keeps what is looked at, for return to come back to.
func (v *screen) leave() {
	v.before = append(v.before, left{v.place, v.level, v.pages, v.got})
}

// comeBack goes to what was left last.
func (v *screen) comeBack() tea.Cmd {
	last := len(v.before) - 1
	was := v.before[last]
	v.before = v.before[:last]
	v.place, v.level, v.answer, v.problem = was.place, was.level, nil, ""
	if was.pages == nil {
		return tea.Batch(v.load(), v.read())
	}
	v.quiet()
	v.number++ // what was asked for is of another place
	v.pages, v.got, v.refresh = was.pages, was.got, time.Now()
	return v.read()
}

// back goes out of what was gone into.
func (v *screen) back() tea.Cmd {
	switch {
	case !v.since.IsZero() && (v.asking || v.cancel != nil):
		v.number++
		v.quiet()
		v.Say("taken back; the server was told", false)
	case v.reading:
		v.reading = false
	case v.answer != nil, v.level == item && len(v.before) > 0:
		return v.comeBack()
	case v.level == item:
		// The mark goes to the row that was gone into, if that is there still.
		v.level = items
		if at := slices.IndexFunc(v.rows(), func(r store.Row) bool { return r.Key == v.place.item }); at >= 0 {
			v.place.row = at
		}
		return v.read()
	case v.place.where != "":
		v.place.where = ""
		v.place.row, v.place.top = 0, 0
		return v.load()
	case v.level == items:
		v.level = collections
	}
	return nil
}

// show shows the chosen value whole.
func (v *screen) show() {
	if _, ok := v.chosen(); !ok {
		return
	}
	v.reading = true
	v.full.SetYOffset(0)
}

// jump goes to the beginning or the end of the collection.
func (v *screen) jump(end bool) tea.Cmd {
	switch {
	case v.reading && end:
		v.full.GotoBottom()
	case v.reading:
		v.full.GotoTop()
	case v.level != items || v.answer != nil:
		by := -1 << 20
		if end {
			by = 1 << 20
		}
		return v.move(by)
	case !end:
		if len(v.pages) > 0 && v.pages[0].after == "" && !v.pages[0].back {
			return v.move(-1 << 20)
		}
		return v.fetch(v.query("", false), false, false)
	case len(v.pages) > 0 && v.pages[len(v.pages)-1].More && v.pages[0].Prev != "":
		return v.fetch(v.query("", true), false, false)
	default:
		return v.move(1 << 20)
	}
	return nil
}

// address is where one is, as the command "neighbour data" takes it.
func (v *screen) address() string {
	out := []string{"neighbour data", v.place.service}
	if v.place.collection != "" {
		out = append(out, quoted(v.place.collection))
	}
	switch {
	case v.level == item:
		out = append(out, quoted(v.key()))
	case v.place.where != "":
		out = append(out, "--where", quoted(v.place.where))
	}
	return strings.Join(out, " ")
}

// quoted quotes a word for a shell, where that is needed.
func quoted(word string) string {
	if word != "" && strings.Trim(word, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-/:") == "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

var webAddress = lazyregexp.New(`https?://[^\s<>"'\x60]+`)

// links are the addresses of pages in the chosen value.
func (v *screen) links() []string {
	f, _ := v.chosen()
	return webAddress.FindAllString(f.Value.Text[:min(len(f.Value.Text), 64<<10)], 50)
}

// openLink opens the address in the chosen value, or one of several.
func (v *screen) openLink() tea.Cmd {
	open := func(address string) tea.Cmd {
		v.Show(nil)
		return v.Call(view.CallLimit, func(context.Context, *api.Client) error { return browser.Open(address) })
	}
	all := v.links()
	if len(all) == 1 {
		return open(all[0])
	}
	v.Show(&panel.Menu{Env: v.Env, Title: "Open in the browser", Choices: func() []panel.Choice {
		var out []panel.Choice
		for _, l := range all {
			out = append(out, panel.Choice{Text: display.Truncate(display.Plain(l), 70), Then: func() tea.Cmd { return open(l) }})
		}
		return out
	}})
	return nil
}

func (v *screen) copy() tea.Cmd {
	text, what := v.address(), "the address of what is shown, for a shell"
	if f, ok := v.chosen(); ok {
		text, what = f.Value.Text, "the value of "+f.Column.Name
	}
	v.Say("copied: "+what, false)
	return tea.SetClipboard(text)
}
