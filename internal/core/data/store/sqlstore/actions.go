package sqlstore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/words"
)

// Actions lists what can be done with a table or a row.
func (s *Source) Actions(ctx context.Context, collection, key string) ([]store.Action, error) {
	var out []store.Action
	err := s.look(ctx, collection, func(_ context.Context, _ Conn, t *table) error {
		if t.View {
			return nil
		}
		var inputs []store.Input
		for _, c := range t.Columns {
			in := store.Input{Name: c.Name, Hint: c.Type}
			switch {
			case c.Made:
				in.Hint += "; left out, the server makes it"
			case !c.Must:
				in.Null = true
			}
			inputs = append(inputs, in)
		}
		if key == "" {
			out = []store.Action{{Name: store.Insert, Says: "add a row", Inputs: inputs}, {Name: store.Clear, Says: "delete all rows"}}
			return nil
		}
		if t.fixed() == "" {
			out = []store.Action{{Name: store.Change, Says: "change it", Inputs: inputs}, {Name: store.Delete, Says: "delete it"}}
		}
		return nil
	})
	return out, err
}

// Sweeps says that Act.Where is heeded.
func (s *Source) Sweeps() {}

// Plan says what statement an act would be.
func (s *Source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	var p store.Plan
	err := s.look(ctx, a.Collection, func(ctx context.Context, c Conn, t *table) (err error) {
		if p.Statement, err = s.statement(t, a); err != nil {
			return err
		}
		switch a.Action {
		case store.Delete:
			p.Loses = "the row " + inWords(a.Key)
		case store.Clear:
			where, _, err := s.where(t, a.Where)
			if err != nil {
				return err
			}
			if where != "" {
				where = " WHERE " + where
			}
			n, err := Rows(ctx, c, "SELECT count(*) FROM "+t.sql+where)
			if err != nil {
				return err
			}
			rows, _ := strconv.Atoi(n[0][0])
			p.Loses = words.Count(rows, "row") + " of " + strings.Join(t.name, ".")
		}
		return nil
	})
	return p, err
}

// inWords is a row's key as people read it.
func inWords(key string) string {
	var parts []string
	if json.Unmarshal([]byte(key), &parts) != nil {
		return key
	}
	return strings.Join(parts, ", ")
}

// statement makes the statement of an act.
func (s *Source) statement(t *table, a store.Act) (string, error) {
	d := s.server.Dialect()
	if t.View {
		return "", &store.FixedError{Why: "it is " + t.fixed()}
	}
	literal := func(name string, v *string) (string, error) {
		c := t.Named(name)
		switch {
		case c == nil:
			return "", &store.FixedError{Why: "there is no column " + name}
		case v == nil:
			return "NULL", nil
		case c.Is == store.Binary:
			if strings.Trim(strings.ToLower(*v), "0123456789abcdef") != "" || len(*v)%2 != 0 {
				return "", &store.FixedError{Why: name + " is binary: write it in hexadecimal digits, two for each byte"}
			}
			return d.Hex(*v), nil
		}
		if bare := strings.ToUpper(*v); (bare == "TRUE" || bare == "FALSE") && (c.Is == store.Truth || c.Is == store.Number) {
			return bare, nil // where truths are numbers, too
		}
		return d.Literal(*v), nil
	}
	switch a.Action {
	case store.Clear:
		where, _, err := s.where(t, a.Where)
		if err != nil || where != "" {
			return "DELETE FROM " + t.sql + " WHERE " + where, err
		}
		return d.Truncate(t.sql), nil
	case store.Insert:
		var names, values []string
		for _, c := range t.Columns { // in their order
			v, given := a.Values[c.Name]
			if !given {
				continue
			}
			text, err := literal(c.Name, v)
			if err != nil {
				return "", err
			}
			names, values = append(names, d.Quote(c.Name)), append(values, text)
		}
		for name := range a.Values {
			if t.Named(name) == nil {
				return "", &store.FixedError{Why: "there is no column " + name}
			}
		}
		if len(names) == 0 {
			return "INSERT INTO " + t.sql + " " + d.Default, nil
		}
		return "INSERT INTO " + t.sql + " (" + strings.Join(names, ", ") + ") VALUES (" + strings.Join(values, ", ") + ")", nil
	}
	if why := t.fixed(); why != "" {
		return "", &store.FixedError{Why: why}
	}
	same, err := s.equal(t, a.Key)
	if err != nil {
		return "", err
	}
	switch a.Action {
	case store.Delete:
		return "DELETE FROM " + t.sql + " WHERE " + same, nil
	case store.Change:
		var set []string
		for _, name := range slices.Sorted(maps.Keys(a.Values)) {
			text, err := literal(name, a.Values[name])
			if err != nil {
				return "", err
			}
			set = append(set, d.Quote(name)+" = "+text)
		}
		if len(set) == 0 {
			return "", &store.FixedError{Why: "nothing is to be changed"}
		}
		return "UPDATE " + t.sql + " SET " + strings.Join(set, ", ") + " WHERE " + same, nil
	}
	return "", store.ErrNoAction
}

// Do carries an act out. One about a row changes just one, or nothing.
func (s *Source) Do(ctx context.Context, a store.Act) (string, error) {
	database, name, err := s.place(ctx, a.Collection)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	var says string
	err = s.with(ctx, database, func(c Conn) error {
		return s.during(ctx, c, s.server.Dialect().Write, func() error {
			described, err := s.server.Table(ctx, c, database, name)
			if err != nil {
				return err
			}
			t := &table{Table: described, database: database, name: name, sql: s.qualified(name)}
			statement, err := s.statement(t, a)
			if err != nil {
				return err
			}
			n, err := c.Run(ctx, statement, nil, nil)
			switch {
			case err != nil:
				return err
			case a.Action == store.Clear && a.Where != "":
				says = words.Count(int(n), "row") + " deleted"
			case a.Action == store.Clear:
				says = strings.Join(t.name, ".") + " is empty"
			case a.Action == store.Insert:
				says = "1 row added"
			case n == 1 && a.Action == store.Delete:
				says = "1 row deleted"
			case n == 1:
				says = "1 row changed"
			case n == 0:
				return &store.GoneError{What: "the row " + inWords(a.Key)}
			default:
				return fmt.Errorf("%d rows would be changed, and not one; nothing was", n)
			}
			return nil
		})
	})
	if errors.Is(err, context.DeadlineExceeded) {
		return "", fmt.Errorf("the server did not answer in time; nothing was changed: %w", err)
	}
	return says, err
}
