package data

import (
	"context"
	"regexp"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/browser"
	"neighbour/internal/core/store"
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
		v.place.field = min(max(0, v.place.field+by), max(0, len(v.whole.Fields)-1))
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
		v.level, v.place.field, v.place.fieldTop = item, 0, 0
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
	if v.place.field >= len(v.whole.Fields) {
		return nil
	}
	f := v.whole.Fields[v.place.field]
	if f.To == nil || f.To.Key == "" {
		v.show()
		return nil
	}
	v.before = append(v.before, v.place)
	v.place = place{service: v.place.service, collection: f.To.Collection, key: f.To.Key, alone: true}
	load := v.load()
	return tea.Batch(load, v.read())
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
	case v.answer != nil:
		v.answer, v.problem = nil, ""
		v.place.row, v.place.top, v.place.left = 0, 0, 0
		if len(v.pages) == 0 {
			return v.load()
		}
	case v.level == item && len(v.before) > 0:
		v.place = v.before[len(v.before)-1]
		v.before = v.before[:len(v.before)-1]
		kept := v.place
		load := v.load()
		v.place.key, v.place.alone = kept.key, true
		return tea.Batch(load, v.read())
	case v.level == item:
		v.level = items
		v.place.alone = false
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
	if v.place.field >= len(v.whole.Fields) || v.level != item {
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
	case v.level == item && v.place.key != "":
		out = append(out, quoted(v.place.key))
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

var webAddress = regexp.MustCompile(`https?://[^\s<>"'\x60]+`)

// links are the addresses of pages in the chosen value.
func (v *screen) links() []string {
	if v.level != item || v.place.field >= len(v.whole.Fields) {
		return nil
	}
	value := v.whole.Fields[v.place.field].Value
	return webAddress.FindAllString(value.Text[:min(len(value.Text), 64<<10)], 50)
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
	if v.level == item && v.place.field < len(v.whole.Fields) {
		text, what = v.whole.Fields[v.place.field].Value.Text, "the value of "+v.whole.Fields[v.place.field].Column.Name
	}
	v.Say("copied: "+what, false)
	return tea.SetClipboard(text)
}
