package engine

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// alter changes what collections and indexes there are.
func (e *Engine) alter(ctx context.Context, do func(*file) error) error {
	if err := e.lock(ctx); err != nil {
		return err
	}
	defer func() { e.writing <- struct{}{} }()
	// Statements of tables that are gone would be in the way of the next.
	for text, s := range e.made {
		_ = s.Close()
		delete(e.made, text)
	}
	e.reads.forget()
	f := &file{e: e, latest: e.latest}
	return f.during(func() error { return do(f) })
}

// Create makes a collection, unless it is there, and reports whether it has.
func (e *Engine) Create(ctx context.Context, s Space) (made bool, err error) {
	err = e.alter(ctx, func(f *file) error {
		if made = f.find(s) == nil; !made {
			return nil
		}
		c, err := f.collection(ctx, s, true)
		if err != nil {
			return err
		}
		return f.note(c, nil, Change{Kind: "create"})
	})
	return made && err == nil, err
}

// Drop takes a collection away, and reports whether it was there, and with how many
// indexes.
func (e *Engine) Drop(ctx context.Context, s Space) (was bool, indexes int, err error) {
	err = e.alter(ctx, func(f *file) error {
		c := f.find(s)
		if was = c != nil; !was {
			return nil
		}
		indexes = len(c.indexes)
		return f.drop(c)
	})
	return was && err == nil, indexes, err
}

func (f *file) drop(c *collection) error {
	statements := []string{fmt.Sprintf("DELETE FROM collections WHERE id = %d", c.id), fmt.Sprintf("DELETE FROM indexes WHERE collection = %d", c.id), "DROP TABLE " + c.table()}
	for _, i := range c.indexes[1:] {
		statements = append(statements, "DROP TABLE "+i.table())
	}
	for _, text := range statements {
		if err := f.exec(text); err != nil {
			return err
		}
	}
	f.set(c.space, nil)
	return f.note(c, nil, Change{Kind: "drop"})
}

// Rename gives a collection another name. With replace the one that has it is dropped.
func (e *Engine) Rename(ctx context.Context, from, to Space, replace bool) error {
	if err := to.check(); err != nil {
		return err
	}
	return e.alter(ctx, func(f *file) error {
		c, other := f.find(from), f.find(to)
		switch {
		case c == nil:
			return &fault.Error{Code: 26, Name: "NamespaceNotFound", Message: "Source collection " + from.String() + " does not exist"}
		case from == to:
			return &fault.Error{Code: 20, Name: "IllegalOperation", Message: "Can't rename a collection to itself"}
		case other != nil && !replace:
			return &fault.Error{Code: 48, Name: "NamespaceExists", Message: "target namespace exists"}
		case other != nil:
			if err := f.drop(other); err != nil {
				return err
			}
		}
		if err := f.exec("UPDATE collections SET database = ?, name = ? WHERE id = ?", to.Database, to.Collection, c.id); err != nil {
			return err
		}
		f.set(from, nil)
		f.set(to, &collection{to, c.id, c.indexes})
		return f.note(c, nil, Change{Kind: "rename", To: to.String()})
	})
}

// Indexes lists the indexes of a collection as they were described, nil if it isn't there.
func (e *Engine) Indexes(s Space) (out []bson.Raw) {
	if c := e.find(s); c != nil {
		for _, i := range c.indexes {
			out = append(out, i.Spec)
		}
	}
	return out
}

// Index makes indexes, and their collection if it isn't there, and returns how many there
// were before and are now.
func (e *Engine) Index(ctx context.Context, s Space, specs []bson.Raw) (before, now int, made bool, err error) {
	var wanted []*Index
	for _, spec := range specs {
		i, err := ParseIndex(spec)
		if err != nil {
			return 0, 0, false, err
		}
		wanted = append(wanted, i)
	}
	err = e.alter(ctx, func(f *file) error {
		made = f.find(s) == nil
		c, err := f.collection(ctx, s, true)
		if err != nil {
			return err
		}
		before = len(c.indexes)
		for _, i := range wanted {
			if c, err = f.addIndex(ctx, c, i); err != nil {
				return err
			}
		}
		now = len(c.indexes)
		return nil
	})
	return before, now, made, err
}

// addIndex makes an index, unless there is the same.
func (f *file) addIndex(ctx context.Context, c *collection, i *Index) (*collection, error) {
	key, _ := value.Member(i.Spec, "key")
	for _, other := range c.indexes {
		otherKey, _ := value.Member(other.Spec, "key")
		same := key.Equal(otherKey) && i.collation.Same(other.collation) && bytes.Equal(i.partial, other.partial)
		switch {
		case other.id == 0 && same:
			return c, nil
		case same && other.Name == i.Name && bytes.Equal(other.Spec, i.Spec):
			return c, nil
		case other.Name == i.Name:
			return nil, &fault.Error{Code: 86, Name: "IndexKeySpecsConflict", Message: "An existing index has the same name as the requested index. When index names are not specified, they are auto generated and can cause conflicts. Requested index: " + i.Spec.String() + ", existing index: " + other.Spec.String()}
		case same || i.text != nil && other.text != nil:
			return nil, &fault.Error{Code: 85, Name: "IndexOptionsConflict", Message: "Index already exists with a different name: " + other.Name}
		}
	}
	if len(c.indexes) >= 64 {
		return nil, badIndex("add index fails, too many indexes for %s", c.space)
	}
	insert, err := f.e.statement("INSERT INTO indexes (collection, spec) VALUES (?, ?)")
	if err != nil {
		return nil, err
	}
	made, err := insert.Exec(c.id, []byte(i.Spec))
	if err != nil {
		return nil, err
	}
	if i.id, err = made.LastInsertId(); err != nil {
		return nil, err
	}
	if err := f.exec("CREATE TABLE " + i.table() + " (key BLOB NOT NULL, record INTEGER NOT NULL, PRIMARY KEY (key, record)) WITHOUT ROWID"); err != nil {
		return nil, err
	}
	next := &collection{c.space, c.id, append(slices.Clone(c.indexes), i)}
	f.set(c.space, next)
	return next, f.fill(ctx, next, i)
}

// fill writes all documents into an index.
func (f *file) fill(ctx context.Context, c *collection, i *Index) error {
	all, err := query.Parse(nil)
	if err != nil {
		return err
	}
	s := scan{in: c, filter: all}
	return s.each(ctx, f, &position{}, func(d stored) (bool, error) {
		keys, several, err := i.keys(d.document)
		if err != nil {
			return false, err
		}
		if i.unique {
			for _, key := range keys {
				rows, err := f.QueryContext(ctx, "SELECT 1 FROM "+i.table()+" WHERE key = ? AND record <> ?", key, d.record)
				if err != nil {
					return false, err
				}
				taken := rows.Next()
				if err := rows.Close(); err != nil {
					return false, err
				}
				if taken {
					return false, i.duplicate(c.space, d.document).Err
				}
			}
		}
		return true, f.index(indexing{index: i, added: keys, several: several}, d.record)
	})
}

// DropIndexes takes indexes away, by their names or keys; * is all but that of the _id. It
// returns how many there were.
func (e *Engine) DropIndexes(ctx context.Context, s Space, which bson.RawValue) (was int, err error) {
	err = e.alter(ctx, func(f *file) error {
		c := f.find(s)
		if c == nil {
			return &fault.Error{Code: 26, Name: "NamespaceNotFound", Message: "ns not found " + s.String()}
		}
		was = len(c.indexes)
		gone, err := chosen(c, which)
		if err != nil {
			return err
		}
		next := &collection{space: c.space, id: c.id}
		for _, i := range c.indexes {
			if !slices.Contains(gone, i) {
				next.indexes = append(next.indexes, i)
				continue
			}
			if err := f.exec("DELETE FROM indexes WHERE id = ?", i.id); err != nil {
				return err
			}
			if err := f.exec("DROP TABLE " + i.table()); err != nil {
				return err
			}
		}
		f.set(s, next)
		return nil
	})
	return was, err
}

// chosen returns the indexes that a value names.
func chosen(c *collection, which bson.RawValue) (out []*Index, err error) {
	if which.Type == bson.TypeArray {
		for _, one := range value.Items(which) {
			more, err := chosen(c, one)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
		}
		return out, nil
	}
	name, isText := which.StringValueOK()
	if isText && name == "*" {
		return c.indexes[1:], nil
	}
	for _, i := range c.indexes {
		key, _ := value.Member(i.Spec, "key")
		if isText && i.Name == name || which.Type == bson.TypeEmbeddedDocument && value.Equal(key, which) {
			if i.id == 0 {
				return nil, &fault.Error{Code: 72, Name: "InvalidOptions", Message: "cannot drop _id index"}
			}
			return []*Index{i}, nil
		}
	}
	return nil, &fault.Error{Code: 27, Name: "IndexNotFound", Message: "index not found with name or key [" + strings.Trim(value.String(which), `"`) + "]"}
}

// HintOf returns the name of the index that a client's hint means: a name, or a key.
func (e *Engine) HintOf(s Space, hint bson.RawValue) (string, error) {
	if text, ok := hint.StringValueOK(); ok {
		return text, nil
	}
	if hint.Type != bson.TypeEmbeddedDocument || len(hint.Value) == 5 {
		return "", nil
	}
	if _, natural := value.Member(hint.Value, "$natural"); natural {
		return "$natural", nil
	}
	c := e.find(s)
	if c == nil {
		return "", nil
	}
	for _, i := range c.indexes {
		if key, _ := value.Member(i.Spec, "key"); value.Equal(key, hint) {
			return i.Name, nil
		}
	}
	return "", fault.BadValue("error processing query: hint provided does not correspond to an existing index")
}

// Expire takes away the documents whose time in an index that expires has come, and
// returns how many those were.
func (e *Engine) Expire(ctx context.Context, now time.Time) (n int, err error) {
	e.mu.RLock()
	var all []*collection
	for _, c := range e.named {
		if slices.ContainsFunc(c.indexes, func(i *Index) bool { return i.expires >= 0 }) {
			all = append(all, c)
		}
	}
	e.mu.RUnlock()
	for _, c := range all {
		for _, i := range c.indexes {
			if i.expires < 0 {
				continue
			}
			before := value.Of(now.Add(-time.Duration(i.expires) * time.Second))
			filter := bson.D{{Key: strings.Join(i.fields[0].Path, "."), Value: bson.D{{Key: "$lt", Value: before}}}}
			if i.partial != nil {
				filter = bson.D{{Key: "$and", Value: bson.A{filter, i.partial}}}
			}
			f, err := bson.Marshal(filter)
			if err != nil {
				return n, err
			}
			_, err = e.Write(ctx, Retry{}, func(w *Writer) (bson.D, error) {
				removed, _, err := w.Remove(ctx, c.space, Find{Filter: f, Hint: i.Name}, true)
				n += removed
				return bson.D{}, err
			})
			if err != nil {
				return n, err
			}
		}
	}
	return n, nil
}
