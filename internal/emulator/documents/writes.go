package documents

import (
	"context"
	"errors"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/projection"
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

// refuse notes that a write was refused, if that is what an error says.
func refuse(list []engine.WriteError, index int, err error) ([]engine.WriteError, error) {
	var w *engine.WriteError
	var f *fault.Error
	switch {
	case errors.As(err, &w):
		w.Index = index
		return append(list, *w), nil
	case errors.As(err, &f):
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
func inTurn(all []bson.Raw, ordered bool, write func(i int, d bson.Raw) error) (refused []engine.WriteError, err error) {
	for i, d := range all {
		if err := write(i, d); err != nil {
			if refused, err = refuse(refused, i, err); err != nil || ordered {
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
	n, refused, err := s.engine.Insert(ctx, space, all, ordered)
	return written(bson.D{{Key: "n", Value: int32(n)}}, refused), err
}

func change(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("updates")
	if err != nil {
		return nil, err
	}
	n, modified, upserted := 0, 0, bson.A{}
	refused, err := inTurn(all, ordered, func(i int, d bson.Raw) error {
		done, err := s.updateOne(ctx, space, sub("updates", d))
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
}

func (s *Server) updateOne(ctx context.Context, space engine.Space, c *command) (done engine.Updated, err error) {
	if err := c.only("q u multi upsert arrayFilters", "collation hint c sort"); err != nil {
		return done, err
	}
	var u engine.Update
	if u.Filter, err = c.part("q"); err != nil {
		return done, err
	}
	u.Update, _ = c.lookup("u")
	if u.Many, err = c.truth("multi", false); err != nil {
		return done, err
	}
	if u.Upsert, err = c.truth("upsert", false); err != nil {
		return done, err
	}
	if v, ok := c.lookup("arrayFilters"); ok && !empty(v) {
		if u.Filters, err = c.list("arrayFilters"); err != nil {
			return done, err
		}
	}
	return s.engine.Update(ctx, space, u)
}

func findAndModify(s *Server, ctx context.Context, c *command) (bson.D, error) {
	if err := c.only("query sort remove update new fields upsert arrayFilters bypassDocumentValidation", "collation hint"); err != nil {
		return nil, err
	}
	space, err := c.space()
	if err != nil {
		return nil, err
	}
	var u engine.Update
	var problems []error
	note := func(err error) { problems = append(problems, err) }
	u.Filter, err = c.part("query")
	note(err)
	sort, err := c.part("sort")
	note(err)
	fields, err := c.part("fields")
	note(err)
	gone, err := c.truth("remove", false)
	note(err)
	after, err := c.truth("new", false)
	note(err)
	u.Upsert, err = c.truth("upsert", false)
	note(err)
	if v, ok := c.lookup("arrayFilters"); ok && !empty(v) {
		u.Filters, err = c.list("arrayFilters")
		note(err)
	}
	if err := errors.Join(problems...); err != nil {
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
	shown, err := projection.Parse(fields)
	if err != nil {
		return nil, err
	}
	done, err := s.engine.Modify(ctx, space, u, sort, gone)
	if err != nil {
		return nil, err
	}
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
		answer = shown.Apply(document)
	}
	return bson.D{{Key: "lastErrorObject", Value: about}, {Key: "value", Value: answer}}, nil
}

func remove(s *Server, ctx context.Context, c *command) (bson.D, error) {
	space, all, ordered, err := c.writes("deletes")
	if err != nil {
		return nil, err
	}
	n := 0
	refused, err := inTurn(all, ordered, func(_ int, d bson.Raw) error {
		one := sub("deletes", d)
		if err := one.only("q limit", "collation hint"); err != nil {
			return err
		}
		filter, err := one.part("q")
		if err != nil {
			return err
		}
		limit, err := one.number("limit", 0)
		if err != nil {
			return err
		}
		deleted, err := s.engine.Delete(ctx, space, filter, limit == 0)
		n += deleted
		return err
	})
	return written(bson.D{{Key: "n", Value: int32(n)}}, refused), err
}
