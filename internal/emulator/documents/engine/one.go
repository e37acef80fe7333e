package engine

import (
	"context"
	"database/sql"
	"fmt"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/update"
)

// Modified is what changing one document did.
type Modified struct {
	// Before and After are the document, nil where there was none, or is none now.
	Before, After bson.Raw
	// Upserted is the _id of a document that was made, of no type if none was.
	Upserted bson.RawValue
}

// Modify changes the first document that an update means, in the order of a sort, or
// takes it away if remove is true. What the document was and is belongs to that change:
// no other comes between.
func (e *Engine) Modify(ctx context.Context, s Space, u Update, sort bson.Raw, remove bool) (done Modified, err error) {
	var change *update.Update
	if !remove {
		if change, err = update.Parse(u.Update, u.Filters); err != nil {
			return done, err
		}
	}
	filter, err := query.Parse(u.Filter)
	if err != nil {
		return done, err
	}
	by, err := readSort(sort)
	if err != nil {
		return done, err
	}
	e.write.Lock()
	defer e.write.Unlock()
	c := e.find(s)
	if c != nil {
		d, err := first(ctx, &Cursor{engine: e, in: c, filter: filter, key: idOf(u.Filter)}, by)
		if err != nil {
			return done, err
		}
		if d.document != nil {
			done.Before = d.document
			return done, e.modify(ctx, c, d, change, &done)
		}
	}
	if remove || !u.Upsert {
		return done, nil
	}
	if done.Upserted, err = e.upsert(ctx, s, change, u); err != nil {
		return done, err
	}
	filtered, err := bson.Marshal(bson.D{{Key: "_id", Value: done.Upserted}})
	if err != nil {
		return done, err
	}
	made, err := e.Open(ctx, s, Find{Filter: filtered, Limit: 1})
	if err != nil {
		return done, err
	}
	all, _, err := made.Next(ctx, 1, 1)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("the document that was made in %s is not there", s)
	}
	if err == nil {
		done.After = all[0]
	}
	return done, err
}

// first returns the first document that a cursor means, in an order.
func first(ctx context.Context, c *Cursor, by []sortBy) (found stored, err error) {
	var least []byte
	err = c.scan(ctx, 0, func(d stored) (bool, error) {
		key := sortKey(d.document, by)
		if found.document == nil || string(key) < string(least) {
			found, least = d, key
		}
		return len(by) > 0, nil
	})
	return found, err
}

func (e *Engine) modify(ctx context.Context, c *collection, d stored, change *update.Update, done *Modified) error {
	return e.during(ctx, func(tx *sql.Tx) error {
		if change == nil {
			_, err := tx.ExecContext(ctx, "DELETE FROM "+c.table()+" WHERE record = ?", d.record)
			return err
		}
		var err error
		if done.After, err = change.Apply(d.document, false); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "UPDATE "+c.table()+" SET document = ? WHERE record = ?", []byte(done.After), d.record)
		return err
	})
}
