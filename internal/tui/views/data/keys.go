package data

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/data/store"
	"neighbour/internal/tui/view"
)

// Bindings are the keys of the view.
func (v *screen) Bindings() []view.Binding {
	switch {
	case v.filter != nil:
		return []view.Binding{
			view.Bind("", "words, or a condition in the server's language", nil).Shown("type"),
			view.Act("enter", "find", v.takeFilter),
			view.Act("esc", "leave it", func() tea.Cmd { v.filter = nil; return nil }),
		}
	case v.ask != nil:
		return []view.Binding{
			view.Bind("", "a statement", nil).Shown("type"),
			view.Act("enter", "ask", v.takeQuestion),
			view.Bind("up down", "earlier ones", func(pressed string) tea.Cmd {
				v.recall(map[string]int{"up": 1, "down": -1}[pressed])
				return nil
			}).Shown("↑ ↓").If(len(v.history) > 0),
			view.Act("tab", "complete", func() tea.Cmd { v.complete(); return nil }),
			view.Act("esc", "leave it", func() tea.Cmd { v.ask = nil; return nil }),
		}
	}
	rows := v.rows()
	some := len(rows) > 0 && v.answer == nil
	onItem := some && v.key() != "" && v.level != collections
	h := v.held[v.place.service]
	asks := h != nil && h.data.Language != ""
	can := func(action string) bool {
		c := v.current()
		return v.changes() && c != nil && slices.Contains(c.Can, action)
	}
	whole := v.whole()
	f, _ := v.chosen()
	follows := f.To != nil && f.To.Key != ""
	enter := map[bool]string{true: "follow", false: "open"}[follows]
	if v.level == item && !follows {
		enter = "whole value"
	}
	inner := v.level > collections || v.answer != nil || v.reading || !v.since.IsZero()
	return []view.Binding{
		view.Bind("up down", "choose", func(pressed string) tea.Cmd {
			return v.move(map[string]int{"up": -1, "down": 1}[pressed])
		}).Shown("↑ ↓"),
		view.Act("enter", enter, v.deeper).If(!v.reading && (v.answer == nil || v.level == collections) && (v.level < item || len(whole.Fields) > 0)).Helps("go deeper: to the items, to one whole, to what a value leads to"),
		view.Act("esc", "back", v.back).If(inner || v.place.where != ""),
		view.Act("tab", "other half", func() tea.Cmd {
			v.level = map[bool]int{true: items, false: collections}[v.level == collections]
			if v.reading = false; v.answer == nil { // else it is what was asked from
				v.before = nil
			}
			return v.read()
		}).Spare(4).Hushed().Helps("between the collections and their items"),
		view.Bind("left right", "columns", func(pressed string) tea.Cmd {
			v.place.left = min(max(0, v.place.left+map[string]int{"left": -1, "right": 1}[pressed]), max(0, len(v.columns())-1))
			return nil
		}).Shown("← →").If(v.level == items && len(v.columns()) > 1).Spare(3).Helps("other columns"),
		view.Bind("pgup pgdown", "page", func(pressed string) tea.Cmd {
			n := v.tableRows()
			if v.level == item {
				n = v.fieldRows()
			}
			return v.move(map[string]int{"pgup": -n, "pgdown": n}[pressed])
		}).Hushed().Helps("a page up or down"),
		view.Bind("home end", "first, last", func(pressed string) tea.Cmd { return v.jump(pressed == "end") }).Hushed().Helps("the beginning and the end of the collection"),
		view.Act("/", "only", v.typeFilter).If(v.place.collection != "" && v.answer == nil && v.level != item).Helps("only some: words that they contain, or a condition in the server's language"),
		view.Act("s", "structure", v.structure).If(v.place.collection != "" && v.answer == nil && h != nil && h.data.Describes && v.level != item).Spare(2).Helps("the columns, indexes and foreign keys of the table"),
		view.Act(":", "ask", v.typeQuestion).If(asks).Helps("ask in the server's own language"),
		view.Act("e", "change", func() tea.Cmd { return v.begin(store.Change, v.target(false)) }).If(can(store.Change) && v.level == item && len(whole.Fields) > 0 && whole.Fixed == "").Helps("change the chosen value"),
		view.Act("n", "new", func() tea.Cmd { return v.begin(store.Insert, v.target(true)) }).If(can(store.Insert)).Spare(1).Helps("add an item"),
		view.Act("x", "delete", func() tea.Cmd { return v.begin(store.Delete, v.target(false)) }).If(can(store.Delete) && onItem && whole.Fixed == "").Spare(1).Helps("delete the item"),
		view.Act("X", "delete all", v.clear).If(can(store.Clear) && v.level != item).Spare(2).Helps("delete all items of the collection, or all that the filter leaves"),
		view.Act("a", "more", func() tea.Cmd { return v.others(v.target(v.level == collections)) }).If(v.changes()).Spare(2).Helps("what else can be done"),
		view.Act("o", "out", v.out).If(v.place.collection != "" && v.level != item && len(rows) > 0).Spare(3).Helps("write what is shown to a file or the clipboard"),
		view.Act("i", "in", v.in).If(can(store.Insert) && asks && v.level != item).Spare(3).Helps("add the rows of a file, of CSV or JSON"),
		view.Act("O", "open link", v.openLink).If(len(v.links()) > 0).Helps("open a link, or an attachment, in the browser"),
		view.Act("v", "whole value", func() tea.Cmd { v.show(); return nil }).If(v.level == item && !v.reading && follows).Spare(2).Helps("the chosen value, whole"),
		view.Act("w", map[bool]string{true: "hold still", false: "watch"}[v.watching], func() tea.Cmd {
			v.watching, v.rhythm = !v.watching, quickest
			return nil
		}).If(v.answer == nil && some).Spare(3).Helps("whether what changes is shown as it does"),
		view.Act("S", "snapshots", func() tea.Cmd { return v.Turn("snapshots", nil) }).If(v.answer == nil).Spare(2).Helps("the data that was saved: save it, put it back"),
		view.Act("c", "copy", v.copy).If(v.place.collection != "").Spare(3).Helps("copy the value, or the address of what is shown"),
	}
}
