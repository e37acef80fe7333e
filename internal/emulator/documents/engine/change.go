package engine

import (
	"bytes"
	"context"
	"database/sql"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/update"
	"neighbour/internal/emulator/documents/value"
)

// Update says which documents are to be changed, and how.
type Update struct {
	Filter  bson.Raw
	Update  bson.RawValue
	Filters []bson.Raw // of elements of arrays
	Many    bool       // all of them, not only the first
	Upsert  bool       // if there is none, one is made
}

// Updated says what an update did.
type Updated struct {
	Matched, Modified int
	// Upserted is the _id of the document that was made, of no type if none was.
	Upserted bson.RawValue
}

// Update changes documents: all that it means, or none if one can't be changed.
func (e *Engine) Update(ctx context.Context, s Space, u Update) (done Updated, err error) {
	change, err := update.Parse(u.Update, u.Filters)
	if err != nil {
		return done, err
	}
	if change.Replaces() && u.Many {
		return done, fault.FailedToParse("multi update is not supported for replacement-style update")
	}
	filter, err := query.Parse(u.Filter)
	if err != nil {
		return done, err
	}
	e.write.Lock()
	defer e.write.Unlock()
	if c := e.find(s); c != nil {
		if done, err = e.update(ctx, c, filter, change, u); err != nil {
			return Updated{}, err
		}
	}
	if done.Matched > 0 || !u.Upsert {
		return done, nil
	}
	done.Upserted, err = e.upsert(ctx, s, change, u)
	return done, err
}

func (e *Engine) update(ctx context.Context, c *collection, filter *query.Filter, change *update.Update, u Update) (done Updated, err error) {
	reader := &Cursor{engine: e, in: c, filter: filter, key: idOf(u.Filter)}
	err = e.during(ctx, func(tx *sql.Tx) error {
		return reader.scan(ctx, 0, func(d stored) (bool, error) {
			now, err := change.Apply(d.document, false)
			if err != nil {
				return false, err
			}
			done.Matched++
			if bytes.Equal(now, d.document) {
				return u.Many, nil
			}
			done.Modified++
			_, err = tx.ExecContext(ctx, "UPDATE "+c.table()+" SET document = ? WHERE record = ?", []byte(now), d.record)
			return u.Many, err
		})
	})
	return done, err
}

// upsert makes the document that a filter and an update describe.
func (e *Engine) upsert(ctx context.Context, s Space, change *update.Update, u Update) (id bson.RawValue, err error) {
	d, err := described(u.Filter, change.Replaces())
	if err != nil {
		return id, err
	}
	if d, err = change.Apply(d, true); err != nil {
		return id, err
	}
	d, id, problem := withID(d)
	if problem != nil {
		return id, problem
	}
	c, err := e.make(ctx, s)
	if err != nil {
		return id, err
	}
	made, err := e.db.ExecContext(ctx, "INSERT INTO "+c.table()+" (key, document) VALUES (?, ?) ON CONFLICT DO NOTHING", value.Key(id), []byte(d))
	if err != nil {
		return id, err
	}
	if n, err := made.RowsAffected(); err != nil || n == 0 {
		if err == nil {
			err = duplicate(s, id)
		}
		return id, err
	}
	return id, nil
}

func (w *WriteError) Error() string { return w.Err.Message }

// described makes a document of the values that a filter asks for.
func described(filter bson.Raw, onlyID bool) (bson.Raw, error) {
	set := bson.D{}
	var collect func(filter []byte)
	collect = func(filter []byte) {
		value.Elements(filter, func(name string, v bson.RawValue) bool {
			switch {
			case name == "$and" && v.Type == bson.TypeArray:
				value.Elements(v.Value, func(_ string, part bson.RawValue) bool {
					collect(part.Value)
					return true
				})
				return true
			case strings.HasPrefix(name, "$") || v.Type == bson.TypeRegex || onlyID && name != "_id":
				return true
			case v.Type == bson.TypeEmbeddedDocument:
				if eq, is := value.Member(v.Value, "$eq"); is {
					v = eq
				}
				first := ""
				if v.Type == bson.TypeEmbeddedDocument {
					value.Elements(v.Value, func(name string, _ bson.RawValue) bool { first = name; return false })
				}
				if strings.HasPrefix(first, "$") {
					return true
				}
			}
			set = append(set, bson.E{Key: name, Value: v})
			return true
		})
	}
	if len(filter) > 0 {
		collect(filter)
	}
	t, b, err := bson.MarshalValue(bson.D{{Key: "$set", Value: set}})
	if err != nil {
		return nil, err
	}
	u, err := update.Parse(bson.RawValue{Type: t, Value: b}, nil)
	if err != nil {
		return nil, err
	}
	return u.Apply(bson.Raw{5, 0, 0, 0, 0}, true)
}

// Delete takes documents away: all that a filter means, or the first, and returns how
// many those were.
func (e *Engine) Delete(ctx context.Context, s Space, filter bson.Raw, many bool) (deleted int, err error) {
	f, err := query.Parse(filter)
	if err != nil {
		return 0, err
	}
	e.write.Lock()
	defer e.write.Unlock()
	c := e.find(s)
	if c == nil {
		return 0, nil
	}
	reader := &Cursor{engine: e, in: c, filter: f, key: idOf(filter)}
	err = e.during(ctx, func(tx *sql.Tx) error {
		return reader.scan(ctx, 0, func(d stored) (bool, error) {
			deleted++
			_, err := tx.ExecContext(ctx, "DELETE FROM "+c.table()+" WHERE record = ?", d.record)
			return many, err
		})
	})
	if err != nil {
		return 0, err
	}
	return deleted, nil
}
