package documents

import (
	"context"
	"errors"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/projection"
	"neighbour/internal/emulator/documents/value"
)

// written is the answer to writes of which some may have been refused.
func written(answer bson.D, refused []engine.WriteError) bson.D {
	if len(refused) == 0 {
		return answer
	}
	list := bson.A{}
	for _, w := range refused {
		e := bson.D{{Key: "index", Value: int32(w.Index)}, {Key: "code", Value: w.Err.Code}, {Key: "errmsg", Value: w.Err.Message}}
		if w.Pattern != nil {
			e = append(e, bson.E{Key: "keyPattern", Value: w.Pattern}, bson.E{Key: "keyValue", Value: w.Value})
		}
		list = append(list, e)
	}
	return append(answer, bson.E{Key: "writeErrors", Value: list})
}

// refuse notes that a write was refused, if that is what an error says. In a transaction
// the error is that of the whole command.
func (c *command) refuse(list []engine.WriteError, index int, err error) ([]engine.WriteError, error) {
	var w *engine.WriteError
	var f *fault.Error
	switch {
	case errors.As(err, &w):
		w.Index = index
		return append(list, *w), nil
	case errors.As(err, &f) && !(c.transaction != nil && transient(f)):
		return append(list, engine.WriteError{Index: index, Err: f}), nil
	}
	return list, err
}

// writes reads what commands that write several times have in common: where, what, and
// whether the first that is refused is the last that is tried.
func (c *command) writes(name string) (space engine.Space, all []bson.Raw, ordered bool, err error) {
	if err = c.only(name+" ordered bypassDocumentValidation", ""); err != nil {
		return space, nil, false, err
	}
	if space, err = c.space(); err != nil {
		return space, nil, false, err
	}
	if all, err = c.list(name); err != nil {
		return space, nil, false, err
	}
	ordered, err = c.truth("ordered", true)
	return space, all, ordered, err
}

// inTurn makes writes one after another, and returns those that were refused.
func (c *command) inTurn(all []bson.Raw, ordered bool, write func(i int, d bson.Raw) error) (refused []engine.WriteError, err error) {
	for i, d := range all {
		if err := write(i, d); err != nil {
			if refused, err = c.refuse(refused, i, err); err != nil || ordered || c.transaction != nil {
				return refused, err
			}
		}
	}
	return refused, nil
}

func insert(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("documents")
	if err != nil {
		return nil, err
	}
	return s.write(ctx, c, func(w *engine.Writer) (bson.D, error) {
		n := 0
		refused, err := c.inTurn(all, ordered, func(_ int, d bson.Raw) error {
			err := w.Insert(ctx, space, d)
			if err == nil {
				n++
			}
			return err
		})
		return written(bson.D{{Key: "n", Value: int32(n)}}, refused), err
	})
}

func change(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("updates")
	if err != nil {
		return nil, err
	}
	variables, err := s.variables(c)
	if err != nil {
		return nil, err
	}
	return s.write(ctx, c, func(w *engine.Writer) (bson.D, error) {
		n, modified, upserted := 0, 0, bson.A{}
		refused, err := c.inTurn(all, ordered, func(i int, d bson.Raw) error {
			u, err := s.updateOf(space, sub("updates", d))
			if err != nil {
				return err
			}
			u.Variables = variables
			done, err := w.Update(ctx, space, u)
			if err != nil {
				return err
			}
			n, modified = n+done.Matched, modified+done.Modified
			if done.Upserted.Type != 0 {
				n++
				upserted = append(upserted, bson.D{{Key: "index", Value: int32(i)}, {Key: "_id", Value: done.Upserted}})
			}
			return nil
		})
		answer := bson.D{{Key: "n", Value: int32(n)}, {Key: "nModified", Value: int32(modified)}}
		if len(upserted) > 0 {
			answer = append(answer, bson.E{Key: "upserted", Value: upserted})
		}
		return written(answer, refused), err
	})
}

// updateOf reads one of a command's updates.
func (s *Server) updateOf(space engine.Space, c *command) (u engine.Update, err error) {
	if err := c.only("q u multi upsert arrayFilters collation hint sort", "c"); err != nil {
		return u, err
	}
	var r reader
	u.Filter = r.part(c, "q")
	u.Sort = r.part(c, "sort")
	u.Many = r.truth(c, "multi")
	u.Upsert = r.truth(c, "upsert")
	u.Collation, u.Hint = r.collation(c), r.hint(s, c, space)
	u.Filters = r.filters(c)
	u.Update, _ = c.lookup("u")
	return u, r.err
}

func findAndModify(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("query sort remove update new fields upsert arrayFilters bypassDocumentValidation collation hint", ""); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	var u engine.Update
	var r reader
	u.Filter = r.part(c, "query")
	u.Sort = r.part(c, "sort")
	fields := r.part(c, "fields")
	gone := r.truth(c, "remove")
	after := r.truth(c, "new")
	u.Upsert = r.truth(c, "upsert")
	u.Collation, u.Hint, u.Filters = r.collation(c), r.hint(s, c, space), r.filters(c)
	if r.err != nil {
		return nil, r.err
	}
	if u.Variables, err = s.variables(c); err != nil {
		return nil, err
	}
	var given bool
	u.Update, given = c.lookup("update")
	switch {
	case gone == given:
		return nil, fault.FailedToParse("Either an update or remove=true must be specified")
	case gone && (after || u.Upsert):
		return nil, fault.FailedToParse("Cannot specify both remove=true and new or upsert; 'remove' always returns the deleted document")
	}
	shown, err := projection.Parse(fields, projection.Options{Collation: u.Collation})
	if err != nil {
		return nil, err
	}
	return s.write(ctx, c, func(w *engine.Writer) (bson.D, error) {
		var done engine.Updated
		var err error
		if gone {
			_, done.Before, err = w.Remove(ctx, space, u.Find, false)
		} else {
			done, err = w.Update(ctx, space, u)
		}
		if err != nil {
			return nil, err
		}
		return modified(done, gone, after, shown, u)
	})
}

// modified is the answer to findAndModify.
func modified(done engine.Updated, gone, after bool, shown *projection.Projection, u engine.Update) (bson.D, error) {
	n := int32(0)
	if done.Before != nil || done.Upserted.Type != 0 {
		n = 1
	}
	about := bson.D{{Key: "n", Value: n}}
	if !gone {
		about = append(about, bson.E{Key: "updatedExisting", Value: done.Before != nil})
	}
	if done.Upserted.Type != 0 {
		about = append(about, bson.E{Key: "upserted", Value: done.Upserted})
	}
	document := done.Before
	if after {
		document = done.After
	}
	var answer any
	if document != nil {
		seen, err := shown.Apply(document, u.Variables)
		if err != nil {
			return nil, err
		}
		answer = seen
	}
	return bson.D{{Key: "lastErrorObject", Value: about}, {Key: "value", Value: answer}}, nil
}

func remove(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("deletes")
	if err != nil {
		return nil, err
	}
	variables, err := s.variables(c)
	if err != nil {
		return nil, err
	}
	return s.write(ctx, c, func(w *engine.Writer) (bson.D, error) {
		n := 0
		refused, err := c.inTurn(all, ordered, func(_ int, d bson.Raw) error {
			one := sub("deletes", d)
			if err := one.only("q limit collation hint", ""); err != nil {
				return err
			}
			var r reader
			f := engine.Find{Filter: r.part(one, "q"), Collation: r.collation(one), Hint: r.hint(s, one, space), Variables: variables}
			limit := r.number(one, "limit", 0)
			if r.err != nil {
				return r.err
			}
			deleted, _, err := w.Remove(ctx, space, f, limit == 0)
			n += deleted
			return err
		})
		return written(bson.D{{Key: "n", Value: int32(n)}}, refused), err
	})
}

// reader reads parts of a command; the first error stays.
type reader struct{ err error }

func (r *reader) note(err error) {
	if r.err == nil {
		r.err = err
	}
}

func (r *reader) part(c *command, name string) bson.Raw {
	d, err := c.part(name)
	r.note(err)
	return d
}

func (r *reader) truth(c *command, name string) bool {
	is, err := c.truth(name, false)
	r.note(err)
	return is
}

func (r *reader) number(c *command, name string, or int64) int64 {
	n, err := c.number(name, or)
	r.note(err)
	return n
}

func (r *reader) collation(c *command) *value.Collation {
	collation, err := value.ParseCollation(r.part(c, "collation"))
	r.note(err)
	return collation
}

func (r *reader) hint(s *Server, c *command, space engine.Space) string {
	v, _ := c.lookup("hint")
	hint, err := s.engine.HintOf(space, v)
	r.note(err)
	return hint
}

func (r *reader) filters(c *command) []bson.Raw {
	if v, ok := c.lookup("arrayFilters"); !ok || empty(v) {
		return nil
	}
	all, err := c.list("arrayFilters")
	r.note(err)
	return all
}

// variables are those that a command defines for its expressions.
func (s *Server) variables(c *command) (map[string]bson.RawValue, error) {
	out := map[string]bson.RawValue{"NOW": value.Of(s.now().Truncate(time.Millisecond))}
	let, err := c.part("let")
	if err != nil || let == nil {
		return out, err
	}
	for _, m := range value.Members(let) {
		v, err := constantOf(m.Value)
		if err != nil {
			return nil, err
		}
		out[m.Name] = v
	}
	return out, nil
}
