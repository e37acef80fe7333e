package engine

import (
	"context"
	"slices"
	"strconv"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Change is a change that was made, for those who watch.
type Change struct {
	Number int64
	At     time.Time
	Space  Space
	// Kind is insert, update, replace, delete, create, drop, or rename.
	Kind string `bson:"kind"`
	// ID is of the document.
	ID bson.RawValue `bson:"id,omitempty"`
	// Document is it as the change made it, nil if it is gone.
	Document bson.Raw `bson:"document,omitempty"`
	// Before is it as it was, nil if it wasn't there.
	Before bson.Raw `bson:"before,omitempty"`
	// Database and Collection are where the change was made, whatever is there now.
	Database   string `bson:"database,omitempty"`
	Collection string `bson:"collection,omitempty"`
	// To is the new name of a collection.
	To string `bson:"to,omitempty"`
}

// mostChanges and mostChangesBytes are how much of the past is kept for those who go on
// watching.
const (
	mostChanges      = 100_000
	mostChangesBytes = 128 << 20
)

func changeOf(was, now bson.Raw, id bson.RawValue, replaced bool) Change {
	c := Change{Kind: "update", ID: id, Document: now, Before: was}
	switch {
	case was == nil:
		c.Kind = "insert"
	case now == nil:
		c.Kind = "delete"
	case replaced:
		c.Kind = "replace"
	}
	return c
}

// note writes a change down.
func (f *file) note(c *collection, key []byte, change Change) error {
	change.Database, change.Collection = c.space.Database, c.space.Collection
	d := value.Append(value.Begin(make([]byte, 0, len(change.Document)+len(change.Before)+128)), "kind", value.Of(change.Kind))
	for _, m := range []value.Named{{Name: "id", Value: change.ID}, {Name: "document", Value: value.OfDocument(change.Document)}, {Name: "before", Value: value.OfDocument(change.Before)}} {
		if len(m.Value.Value) > 0 || m.Name == "id" && m.Value.Type != 0 {
			d = value.Append(d, m.Name, m.Value)
		}
	}
	d = value.Append(d, "database", value.Of(change.Database))
	d = value.Append(d, "collection", value.Of(change.Collection))
	if change.To != "" {
		d = value.Append(d, "to", value.Of(change.To))
	}
	s, err := f.e.statement("INSERT INTO changes (at, collection, key, change) VALUES (?, ?, ?, ?)")
	if err != nil {
		return err
	}
	made, err := s.Exec(time.Now().UnixMilli(), c.id, key, value.Finish(d))
	if err != nil {
		return err
	}
	if f.latest, err = made.LastInsertId(); err != nil || f.latest%1000 != 0 {
		return err
	}
	return f.prune()
}

// prune forgets the oldest changes.
func (f *file) prune() error {
	if err := f.exec("DELETE FROM changes WHERE number <= ?", f.latest-mostChanges); err != nil {
		return err
	}
	var size, count int64
	s, err := f.e.statement("SELECT coalesce(sum(length(change)), 0), count(*) FROM changes")
	if err == nil {
		err = s.QueryRow().Scan(&size, &count)
	}
	if err != nil || size < mostChangesBytes {
		return err
	}
	return f.exec("DELETE FROM changes WHERE number <= ?", f.latest-count/2)
}

// Latest returns the number of the last change that was made, and a channel that is
// closed when there is a later one.
func (e *Engine) Latest() (int64, <-chan struct{}) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	return e.latest, e.news
}

// Changes returns changes after one, at most n of them. Its error is a *fault.Error if
// that one is not known any more.
func (e *Engine) Changes(ctx context.Context, after int64, n int) (out []Change, err error) {
	rows, err := e.db.QueryContext(ctx, "SELECT number, at, change FROM changes WHERE number > ? ORDER BY number LIMIT ?", after, n)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var c Change
		var at, number int64
		var b []byte
		if err := rows.Scan(&number, &at, &b); err != nil {
			return nil, err
		}
		if err := bson.Unmarshal(b, &c); err != nil {
			return nil, err
		}
		c.Number, c.At, c.Space = number, time.UnixMilli(at), Space{c.Database, c.Collection}
		out = append(out, c)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if latest, _ := e.Latest(); len(out) > 0 && out[0].Number != after+1 || len(out) == 0 && after > latest {
		return nil, &fault.Error{Code: 286, Name: "ChangeStreamHistoryLost", Message: "Resume of change stream was not possible, as the resume point may no longer be in the history: the last " + strconv.Itoa(mostChanges) + " changes are kept"}
	}
	return out, nil
}

// Since returns the number of the last change before a time.
func (e *Engine) Since(ctx context.Context, t time.Time) (n int64, err error) {
	err = e.db.QueryRowContext(ctx, "SELECT coalesce((SELECT number - 1 FROM changes WHERE at >= ? ORDER BY number LIMIT 1), (SELECT max(number) FROM changes), 0)", t.UnixMilli()).Scan(&n)
	return n, err
}

// Difference says how one document became another: the paths that were set, those that
// are gone, and the arrays that were shortened, with their new lengths.
type Difference struct {
	Set       []value.Named
	Removed   []string
	Shortened []value.Named
}

// DifferenceOf compares two documents.
func DifferenceOf(was, now bson.Raw) (d Difference) {
	d.documents("", was, now)
	return d
}

func (d *Difference) documents(before string, was, now []byte) {
	for _, m := range value.Members(was) {
		if _, ok := value.Member(now, m.Name); !ok {
			d.Removed = append(d.Removed, before+m.Name)
		}
	}
	for _, m := range value.Members(now) {
		old, ok := value.Member(was, m.Name)
		d.value(before+m.Name, old, m.Value, ok)
	}
}

func (d *Difference) value(path string, was, now bson.RawValue, there bool) {
	switch {
	case there && was.Equal(now):
	case there && was.Type == bson.TypeEmbeddedDocument && now.Type == bson.TypeEmbeddedDocument:
		d.documents(path+".", was.Value, now.Value)
	case there && was.Type == bson.TypeArray && now.Type == bson.TypeArray && !slices.Contains(d.Removed, path):
		old, all := value.Items(was), value.Items(now)
		changed := 0
		for i, v := range all {
			if i >= len(old) || !old[i].Equal(v) {
				changed++
			}
		}
		if changed > len(all)/2 && changed > 1 {
			d.Set = append(d.Set, value.Named{Name: path, Value: now})
			return
		}
		if len(all) < len(old) {
			d.Shortened = append(d.Shortened, value.Named{Name: path, Value: value.Of(int32(len(all)))})
		}
		for i, v := range all {
			if i >= len(old) {
				d.value(path+"."+strconv.Itoa(i), bson.RawValue{}, v, false)
			} else {
				d.value(path+"."+strconv.Itoa(i), old[i], v, true)
			}
		}
	default:
		d.Set = append(d.Set, value.Named{Name: path, Value: now})
	}
}
