package data

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/tui/act"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
)

// out offers to write what is shown.
func (v *screen) out() tea.Cmd {
	var choices []panel.Choice
	add := func(text string, then func() tea.Cmd) {
		choices = append(choices, panel.Choice{Text: text, Then: func() tea.Cmd {
			v.Show(nil)
			return then()
		}})
	}
	for _, form := range []string{"CSV", "JSON", "SQL"} {
		switch {
		case form == "SQL" && (v.answer != nil || len(v.pages) == 0 || v.pages[0].Inserts == nil):
		case v.answer != nil && v.asked == "":
			// The structure is soon read again.
		case v.answer != nil:
			add("the answer as "+form+", to a file", func() tea.Cmd { return v.save(form, v.asAsked) })
		default:
			what := "the whole collection"
			if v.place.where != "" {
				what = "all of these items"
			}
			add(what+" as "+form+", to a file", func() tea.Cmd { return v.save(form, v.all) })
		}
	}
	shown := store.Page{Columns: v.columns(), Rows: v.rows()}
	if v.answer == nil && len(v.pages) > 0 {
		shown.Inserts = v.pages[0].Inserts
	}
	for _, form := range []string{"CSV", "JSON", "SQL"} {
		if form != "SQL" || shown.Inserts != nil {
			add("copy the rows that are here as "+form, func() tea.Cmd { return v.copyRows(form, shown) })
		}
	}
	v.Show(&panel.Menu{Env: v.Env, Title: "Write what is shown", Choices: func() []panel.Choice { return choices }})
	return nil
}

// copyRows copies rows as they are here, their long values cut.
func (v *screen) copyRows(form string, p store.Page) tea.Cmd {
	var b strings.Builder
	if err := write(&b, form, p, false); err != nil {
		v.Say(err.Error(), true)
		return nil
	}
	says := words.Count(len(p.Rows), "row") + " copied"
	if n := store.CutValues(p.Rows); n > 0 {
		says += "; " + words.Count(n, "value") + " cut, as the list has them"
	}
	v.Say(says, false)
	return tea.SetClipboard(b.String())
}

// write writes a page in a form; bare leaves the columns' names out.
func write(w io.Writer, form string, p store.Page, bare bool) error {
	switch form {
	case "CSV":
		return store.CSV{Bare: bare}.Write(w, p.Columns, p.Rows)
	case "SQL":
		return store.WriteInserts(w, p)
	}
	return store.WriteObjects(w, p.Columns, p.Rows)
}

// all returns what gives all items of the place, some at a time.
func (v *screen) all() func(context.Context, *api.Client, func(store.Page) error) error {
	service, q := v.place.service, v.query("", false)
	q.Limit, q.Wide = store.PageLimit, store.ValueLimit
	return func(ctx context.Context, c *api.Client, take func(store.Page) error) error {
		for {
			p, err := c.Items(ctx, service, q)
			if err != nil {
				return err
			}
			if err := take(p); err != nil {
				return err
			}
			if !p.More {
				return nil
			}
			if p.Next == "" {
				return errors.New("there are more, and no key to go on from; neighbour dump writes all")
			}
			q.After = p.Next
		}
	}
}

// asAsked returns what asks the question once more, for whole values.
func (v *screen) asAsked() func(context.Context, *api.Client, func(store.Page) error) error {
	service, text := v.place.service, v.asked
	return func(ctx context.Context, c *api.Client, take func(store.Page) error) error {
		a, err := c.AskService(ctx, service, store.Question{Statement: text, Limit: store.PageLimit, Wide: store.ValueLimit})
		switch {
		case err != nil:
			return err
		case a.Writes || a.Refused != "":
			return errors.New("it can't be asked again: it changes data, or is refused now")
		}
		if err := take(a.Page); err != nil {
			return err
		}
		if a.More {
			return fmt.Errorf("only the first %s are in the file", words.Count(len(a.Rows), "row"))
		}
		return nil
	}
}

// save writes rows into a new file in the folder that the screen was started in, and
// says where it went.
func (v *screen) save(form string, rows func() func(context.Context, *api.Client, func(store.Page) error) error) tea.Cmd {
	name := v.Overview.Project + "-" + v.place.service
	if c := v.current(); c != nil && v.answer == nil {
		name += "-" + c.Title
	}
	name = strings.Map(func(r rune) rune {
		if strings.ContainsRune("/\\:*?\"<>| ", r) || r < ' ' {
			return '_'
		}
		return r
	}, name) + "." + strings.ToLower(form)
	each, client, ctx := rows(), v.Client(), v.Context()
	v.Say("writing "+name, false)
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, view.StopLimit)
		defer cancel()
		n, cut := 0, 0
		path, err := act.WriteNew(name, 0o600, func(w io.Writer) error {
			return each(ctx, client, func(p store.Page) error {
				first := n == 0
				n, cut = n+len(p.Rows), cut+store.CutValues(p.Rows)
				return write(w, form, p, !first)
			})
		})
		return view.Later(func() tea.Cmd {
			says := fmt.Sprintf("%s in %s", words.Count(n, "row"), path)
			if cut > 0 {
				says += "; " + words.Count(cut, "value") + " cut at " + words.Bytes(store.ValueLimit)
			}
			if err != nil {
				says += ": " + err.Error()
			}
			v.Say(says, err != nil)
			return nil
		})
	}
}
