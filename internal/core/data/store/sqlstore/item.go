package sqlstore

import (
	"context"
	"slices"
	"strings"

	"neighbour/internal/core/data/store"
)

// Item returns a row whole.
func (s *Source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	err := s.look(ctx, collection, func(ctx context.Context, c Conn, t *table) error {
		if len(t.Key) == 0 {
			return &store.FixedError{Why: t.fixed()}
		}
		same, err := s.equal(t, key)
		if err != nil {
			return err
		}
		found := false
		_, err = c.Run(ctx, "SELECT "+s.columns(t, store.ValueLimit)+" FROM "+t.sql+" WHERE "+same+" LIMIT 1", nil, func(values [][]byte) bool {
			found = true
			row := t.row(c, values, store.ValueLimit)
			for i, v := range row.Values {
				item.Fields = append(item.Fields, store.Field{Column: t.Columns[i].Column, Value: v})
			}
			return true
		})
		if err != nil {
			return err
		}
		if !found {
			return &store.GoneError{What: "the row " + key}
		}
		item.Fixed = t.fixed()
		if !t.Hidden {
			item.Says = keyFields(item.Fields)
		}
		s.follow(ctx, c, t, &item)
		return nil
	})
	return item, err
}

// keyFields are the values of the key, for people.
func keyFields(fields []store.Field) string {
	var out []string
	for _, f := range fields {
		if f.Column.Key {
			out = append(out, f.Value.Line(60))
		}
	}
	return strings.Join(out, ", ")
}

// follow finds what the fields of an item lead to. That a table can't be read is
// no reason not to show the item.
func (s *Source) follow(ctx context.Context, c Conn, t *table, item *store.Item) {
	for _, f := range t.Foreign {
		to := &store.Link{Collection: store.Join(f.To...)}
		var parts []string
		for i, name := range f.Columns {
			at := slices.IndexFunc(item.Fields, func(x store.Field) bool { return x.Column.Name == name })
			if at < 0 || item.Fields[at].Value.Is == store.Null || i >= len(f.Targets) {
				parts = nil
				break
			}
			parts = append(parts, item.Fields[at].Value.Text)
		}
		if parts == nil {
			continue
		}
		name := f.To
		if slices.Contains(s.server.Databases(), name[0]) && len(name) > 1 {
			name = name[1:]
		}
		target, err := s.server.Table(ctx, c, t.database, name)
		if err != nil || len(target.Key) == 0 || target.Hidden {
			continue
		}
		there := &table{Table: target, database: t.database, name: name, sql: s.qualified(name)}
		d := s.server.Dialect()
		var same []string
		for i, n := range f.Targets {
			col := target.Named(n)
			if col == nil {
				same = nil
				break
			}
			same = append(same, d.Quote(n)+" = "+d.KeyLiteral(col, parts[i]))
		}
		if same == nil {
			continue
		}
		_, err = c.Run(ctx, "SELECT "+s.columns(there, 60)+" FROM "+there.sql+" WHERE "+strings.Join(same, " AND ")+" LIMIT 1", nil, func(values [][]byte) bool {
			row := there.row(c, values, 60)
			to.Key = row.Key
			for i, v := range row.Values { // what it is called: its first text
				if target.Columns[i].Is == store.Text && v.Is == store.Text && v.Text != "" {
					to.Says = v.Line(60)
					break
				}
			}
			return true
		})
		if err != nil {
			return // a transaction that has failed reads nothing more
		}
		for i := range item.Fields {
			if item.Fields[i].Column.Name == f.Columns[0] {
				item.Fields[i].To = to
				if to.Key == "" {
					to.Says = "not there"
				}
			}
		}
	}
}
