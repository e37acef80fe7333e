package sqlstore

import (
	"context"
	"fmt"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/words"
)

// Describe lists the columns, indexes and foreign keys of a table.
func (s *Source) Describe(ctx context.Context, collection string) (store.Page, error) {
	p := store.Page{Rows: []store.Row{}, Columns: []store.Column{{Name: "part", Is: store.Text}, {Name: "name", Is: store.Text}, {Name: "is", Is: store.Text}, {Name: "more", Is: store.Text}}}
	add := func(texts ...string) {
		var r store.Row
		for _, t := range texts {
			r.Values = append(r.Values, store.Value{Text: t, Is: store.Text})
		}
		p.Rows = append(p.Rows, r)
	}
	began := time.Now()
	err := s.look(ctx, collection, func(_ context.Context, _ Conn, t *table) error {
		for i := range t.Columns {
			c := &t.Columns[i]
			add("column", c.Name, c.Type, c.more())
		}
		for _, x := range t.Indexes {
			is := "index"
			if x.Unique {
				is = "unique index"
			}
			add("index", x.Name, is, x.On)
		}
		for _, f := range t.Foreign {
			to := store.Join(f.To...)
			if targets := strings.Join(f.Targets, ", "); targets != "" {
				to += " (" + targets + ")"
			}
			add("foreign key", strings.Join(f.Columns, ", "), "leads to", to)
		}
		p.Says = fmt.Sprintf("%s, %s, %s", words.Count(len(t.Columns), "column"), plural(len(t.Indexes), "index", "indexes"), words.Count(len(t.Foreign), "foreign key"))
		return nil
	})
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// more is what there is to say of a column beside its type.
func (c *Column) more() string {
	var out []string
	if c.Key {
		out = append(out, "key")
	}
	if c.Must {
		out = append(out, "always has a value")
	}
	switch {
	case c.Computed:
		out = append(out, "computed by the server")
	case c.Made:
		out = append(out, "given by the server")
	case c.Default != "":
		out = append(out, "else "+c.Default)
	}
	return strings.Join(out, " · ")
}
