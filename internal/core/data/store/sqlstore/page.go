package sqlstore

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/data/store"
)

// fixed says why a table's rows can't be changed, "" if they can.
func (t *table) fixed() string {
	switch {
	case t.View:
		return "a view; change the tables behind it"
	case t.Hidden || len(t.Key) == 0:
		return "without a primary key no row can be told from all others"
	}
	return ""
}

// widest is how many values a page has at most: tables with very many columns have
// fewer rows on a page.
const widest = 20_000

// Items returns a page of a table's rows.
func (s *Source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	began := time.Now()
	var p store.Page
	err := s.look(ctx, q.Collection, func(ctx context.Context, c Conn, t *table) (err error) {
		p, err = s.page(ctx, c, t, q)
		return err
	})
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

func (s *Source) page(ctx context.Context, c Conn, t *table, q store.Query) (store.Page, error) {
	d := s.server.Dialect()
	p := store.Page{Fixed: t.fixed(), Rows: []store.Row{}}
	for _, col := range t.Columns {
		p.Columns = append(p.Columns, col.Column)
	}
	if !t.View {
		p.Inserts = s.inserts(t)
	}
	q.Limit = min(q.Limit, max(10, widest/max(1, len(t.Columns))))
	if len(t.Key) == 0 {
		if q.After != "" || q.Back {
			return p, &store.FixedError{Why: "there is no key to go on from"}
		}
	}
	var conditions []string
	if where, words, err := s.where(t, q.Where); err != nil {
		return p, err
	} else if where != "" {
		conditions, p.Where = append(conditions, where), words
	}
	if q.After != "" {
		after, err := s.after(t, q.After, q.Back)
		if err != nil {
			return p, err
		}
		conditions = append(conditions, after)
	}
	statement := "SELECT " + s.columns(t, q.Wide) + " FROM " + t.sql
	if len(conditions) > 0 {
		statement += " WHERE " + strings.Join(conditions, " AND ")
	}
	if len(t.Key) > 0 && !(t.Hidden && d.Unordered && !q.Back) {
		var order []string
		for _, k := range t.Key {
			by := k.Name
			if !t.Hidden { // the column, and not what is selected under its name
				by = t.sql + "." + d.Quote(by)
			}
			if q.Back {
				by += " DESC"
			}
			order = append(order, by)
		}
		statement += " ORDER BY " + strings.Join(order, ", ")
	}
	if !t.Hidden && len(t.Key) > 0 {
		names := make([]string, len(t.Key))
		for i, k := range t.Key {
			names[i] = k.Name
		}
		p.Order = "by " + strings.Join(names, ", ")
	}
	statement += fmt.Sprintf(" LIMIT %d", q.Limit+1)
	_, err := c.Run(ctx, statement, nil, func(values [][]byte) bool {
		if p.More = len(p.Rows) == q.Limit; !p.More {
			p.Rows = append(p.Rows, t.row(c, values, q.Wide))
		}
		return true
	})
	if q.Back {
		slices.Reverse(p.Rows)
	}
	if n := len(p.Rows); n > 0 {
		p.Next = p.Rows[n-1].Key
		if !(t.Hidden && d.Unordered) {
			p.Prev = p.Rows[0].Key
		}
	}
	return p, err
}

// columns are the expressions for a row: its key and its values.
func (s *Source) columns(t *table, wide int) string {
	d := s.server.Dialect()
	var out []string
	for _, k := range t.Key {
		if t.Hidden {
			out = append(out, k.Name)
		} else {
			out = append(out, d.Key(k))
		}
	}
	for i := range t.Columns {
		out = append(out, s.expression(&t.Columns[i], wide))
	}
	return strings.Join(out, ", ")
}

func (s *Source) expression(c *Column, wide int) string {
	d := s.server.Dialect()
	if c.Long {
		return d.Cut(c, wide+2) // a byte has two digits
	}
	return d.Quote(c.Name)
}

// row makes a row of what the server answers.
func (t *table) row(c Conn, values [][]byte, wide int) store.Row {
	r := store.Row{}
	n := len(t.Key)
	if n > 0 {
		r.Key = keyOf(values[:n])
	}
	for i, v := range values[n:] {
		r.Values = append(r.Values, value(v, formIn(c, n+i, t.Columns[i].Is), wide))
	}
	return r
}

func keyOf(values [][]byte) string {
	parts := make([]string, len(values))
	for i, v := range values {
		parts[i] = string(v)
	}
	b, _ := json.Marshal(parts)
	return string(b)
}

// formIn tells of what sort a value is in a column of a form: with servers whose
// values have types of their own, it is a text in one of texts, and so on.
func formIn(c Conn, i int, column store.Form) store.Form {
	typed, ok := c.(Typed)
	if !ok {
		return column
	}
	switch is := typed.Forms()[i]; {
	case is == store.Number && column == store.Truth,
		is == store.Text && (column == store.JSON || column == store.Time):
		return column
	default:
		return is
	}
}

// value makes a value of what the server answers.
func value(v []byte, is store.Form, wide int) store.Value {
	if v == nil {
		return store.NullValue
	}
	out := store.Value{Is: is}
	if len(v) > wide {
		n, runes := 0, 0
		for n < len(v) && runes < wide {
			_, size := utf8.DecodeRune(v[n:])
			n += size
			runes++
		}
		if n < len(v) {
			out.Cut = true
			v = v[:n]
		}
	}
	out.Text = string(v)
	if !utf8.Valid(v) { // a text that is none
		out.Is, out.Text = store.Binary, hex.EncodeToString(v)
	}
	return out
}

// keyParts reads a row's key.
func (t *table) keyParts(key string) ([]string, error) {
	var parts []string
	if json.Unmarshal([]byte(key), &parts) != nil || len(parts) != len(t.Key) {
		var names []string
		for _, k := range t.Key {
			names = append(names, k.Name)
		}
		return nil, fmt.Errorf("%s is not a key here: write a JSON list of %s", key, strings.Join(names, ", "))
	}
	return parts, nil
}

// after is the condition that a row comes after a key, or before it.
func (s *Source) after(t *table, key string, back bool) (string, error) {
	parts, err := t.keyParts(key)
	if err != nil {
		return "", err
	}
	d := s.server.Dialect()
	than := ">"
	if back {
		than = "<"
	}
	var names, literals []string
	for i, k := range t.Key {
		name := k.Name
		if !t.Hidden {
			name = d.Quote(name)
		}
		names, literals = append(names, name), append(literals, d.KeyLiteral(k, parts[i]))
	}
	if len(names) == 1 {
		return names[0] + " " + than + " " + literals[0], nil
	}
	if !d.NoRowValues {
		return "(" + strings.Join(names, ", ") + ") " + than + " (" + strings.Join(literals, ", ") + ")", nil
	}
	// a >= 1 AND (a > 1 OR (b >= 2 AND (b > 2 OR c > 3)))
	last := len(names) - 1
	text := names[last] + " " + than + " " + literals[last]
	for i := last - 1; i >= 0; i-- {
		text = fmt.Sprintf("(%s %s= %s AND (%s %s %s OR %s))", names[i], than, literals[i], names[i], than, literals[i], text)
	}
	return text, nil
}

// equal is the condition that a row is the one of a key.
func (s *Source) equal(t *table, key string) (string, error) {
	parts, err := t.keyParts(key)
	if err != nil {
		return "", err
	}
	d := s.server.Dialect()
	var out []string
	for i, k := range t.Key {
		name := k.Name
		if !t.Hidden {
			name = d.Quote(name)
		}
		out = append(out, name+" = "+d.KeyLiteral(k, parts[i]))
	}
	return strings.Join(out, " AND "), nil
}

// where makes a condition of what somebody wrote: words without anything that makes
// a condition of them are looked for in all columns.
func (s *Source) where(t *table, text string) (condition, words string, err error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", "", nil
	}
	if isCondition(text) {
		if _, err := s.server.Dialect().single("SELECT 1 WHERE (" + text + "\n)"); err != nil {
			return "", "", err
		}
		return "(" + text + "\n)", "where " + text, nil
	}
	d := s.server.Dialect()
	var any []string
	for i := range t.Columns {
		if c := &t.Columns[i]; c.Is != store.Binary {
			any = append(any, d.Contains(c, text))
		}
	}
	if len(any) == 0 {
		return "", "", &store.FixedError{Why: "no column here has text; write a condition"}
	}
	return "(" + strings.Join(any, " OR ") + ")", fmt.Sprintf("with %q in them", text), nil
}

// isCondition reports whether a text is meant as a condition of SQL: it compares
// something.
func isCondition(text string) bool {
	if strings.ContainsAny(text, "=<>()") {
		return true
	}
	for _, w := range strings.Fields(strings.ToLower(text)) {
		if w == "is" || w == "like" || w == "ilike" || w == "in" || w == "between" || w == "not" || w == "true" || w == "false" || w == "regexp" {
			return strings.Contains(text, " ") || w == "true" || w == "false"
		}
	}
	return false
}

// inserts says how a table's rows are written as statements.
func (s *Source) inserts(t *table) *store.Inserts {
	d := s.server.Dialect()
	out := store.Inserts{Backslashes: d.Backslashes, Hex: d.Hex("%s")}
	var names []string
	overriding := ""
	for i := range t.Columns {
		c := &t.Columns[i]
		if c.Computed {
			continue
		}
		if c.Made {
			overriding = d.Overriding
		}
		out.Values = append(out.Values, i)
		names = append(names, d.Quote(c.Name))
	}
	out.Into = "INSERT INTO " + t.sql + " (" + strings.Join(names, ", ") + ")" + overriding + " VALUES"
	return &out
}
