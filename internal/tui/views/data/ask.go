package data

import (
	"context"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
)

// field returns a line to type into.
func field(value string) (*textinput.Model, tea.Cmd) {
	in := textinput.New()
	in.Prompt = ""
	in.SetValue(value)
	in.CursorEnd()
	cmd := in.Focus()
	return &in, cmd
}

// typeFilter begins to type a filter.
func (v *screen) typeFilter() tea.Cmd {
	in, cmd := field(v.place.where)
	v.filter = in
	return cmd
}

// takeFilter has the server look for what was typed.
func (v *screen) takeFilter() tea.Cmd {
	where := strings.TrimSpace(v.filter.Value())
	v.filter = nil
	if where == v.place.where && len(v.pages) > 0 {
		return nil
	}
	v.place.where, v.place.row, v.place.top = where, 0, 0
	v.level = items
	return v.load()
}

// typeQuestion begins to type a question.
func (v *screen) typeQuestion() tea.Cmd {
	in, cmd := field(v.asked)
	v.ask, v.recalled = in, 0
	if h := v.held[v.place.service]; h != nil {
		v.history = h.data.Asked
	}
	return cmd
}

// recall puts an earlier question into the field, or a later one.
func (v *screen) recall(by int) {
	v.recalled = min(max(0, v.recalled+by), len(v.history))
	text := ""
	if v.recalled > 0 {
		text = v.history[len(v.history)-v.recalled]
	}
	v.ask.SetValue(text)
	v.ask.CursorEnd()
}

// complete completes the word before the cursor with the names of collections and
// columns.
func (v *screen) complete() {
	text := []rune(v.ask.Value())
	at := v.ask.Position()
	from := at
	for from > 0 && !strings.ContainsRune(" (),=<>.\"`", text[from-1]) {
		from--
	}
	begun := strings.ToLower(string(text[from:at]))
	if begun == "" {
		return
	}
	var names []string
	if h := v.held[v.place.service]; h != nil {
		for _, c := range h.data.Collections {
			names = append(names, c.Title)
		}
	}
	if v.answer == nil {
		for _, c := range v.columns() {
			names = append(names, c.Name)
		}
	}
	var fit []string
	for _, n := range names {
		if strings.HasPrefix(strings.ToLower(n), begun) && !slices.Contains(fit, n) {
			fit = append(fit, n)
		}
	}
	if len(fit) == 0 {
		return
	}
	common := fit[0]
	for _, n := range fit[1:] {
		for !strings.HasPrefix(strings.ToLower(n), strings.ToLower(common)) {
			common = common[:len(common)-1]
		}
	}
	if len(fit) > 1 && len(common) == len(begun) {
		v.Say(strings.Join(fit, "   "), false)
		return
	}
	v.ask.SetValue(string(text[:from]) + common + string(text[at:]))
	v.ask.SetCursor(from + len([]rune(common)))
}

// takeQuestion has the service asked.
func (v *screen) takeQuestion() tea.Cmd {
	text := strings.TrimSpace(v.ask.Value())
	v.ask = nil
	if text == "" {
		return nil
	}
	v.asked = text
	if h := v.held[v.place.service]; h != nil {
		h.data.Asked = append(slices.DeleteFunc(slices.Clone(h.data.Asked), func(old string) bool { return old == text }), text)
	}
	return v.put(text, false)
}

// put asks a question.
func (v *screen) put(text string, write bool) tea.Cmd {
	service := v.place.service
	v.number++
	v.asking = true
	return v.cancellable(true, 10*time.Minute, func(ctx context.Context, c *api.Client) tea.Msg {
		a, err := c.AskService(ctx, service, store.Question{Statement: text, Write: write, Limit: 500})
		return answerMsg{text, a, err, write}
	})
}

// structure has the columns, indexes and foreign keys of the collection shown.
func (v *screen) structure() tea.Cmd {
	service, collection := v.place.service, v.place.collection
	v.asked = ""
	v.number++
	v.asking = true
	return v.cancellable(true, view.CallLimit, func(ctx context.Context, c *api.Client) tea.Msg {
		p, err := c.Structure(ctx, service, collection)
		return answerMsg{answer: keep.Answer{Page: p}, err: err}
	})
}

func (v *screen) answered(msg answerMsg) tea.Cmd {
	if msg.question != v.asked || v.since.IsZero() {
		return nil
	}
	v.quiet()
	switch {
	case msg.err != nil:
		v.problem = msg.err.Error()
	case msg.answer.Writes:
		v.Show(&panel.Question{Env: v.Env, Title: "Change data?", Text: "This may change what " + v.place.service + " holds:", List: strings.Split(msg.question, "\n"),
			Yes: "carry it out", Then: func() tea.Cmd { return v.put(msg.question, true) }})
		return nil
	case msg.answer.Refused != "":
		v.problem = msg.answer.Refused
		if r := []rune(msg.question); msg.answer.At > 0 && msg.answer.At <= len(r) {
			v.problem += ", at: " + string(r[msg.answer.At-1:])
		}
	default:
		if v.answer == nil {
			v.leave()
		}
		v.answer, v.problem, v.level = &msg.answer, "", items
		v.place = place{service: v.place.service, collection: v.place.collection}
		if msg.write { // what is there may be another
			for i := range v.before {
				v.before[i].pages = nil
			}
		}
		return nil
	}
	if v.answer == nil {
		return nil
	}
	problem := v.problem
	cmd := v.comeBack()
	v.problem = problem
	return cmd
}
