package documents

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/words"
)

// drop takes a collection away, with its indexes.
const drop = "drop"

// Actions lists what can be done with a collection or a document.
func (s *source) Actions(ctx context.Context, collection, key string) ([]store.Action, error) {
	if key == "" {
		rules, err := misbehave.Action(s.rules)
		if c, problem := s.in(collection); problem == nil && s.bare(c) {
			return []store.Action{{Name: store.Insert, Says: "add a document", Inputs: []store.Input{{Name: "collection", Hint: "where to, which makes it: reviews"}, {Name: "document", Hint: "JSON; without an _id it gets one", Value: "{}"}}}, rules}, err
		}
		return []store.Action{{Name: store.Insert, Says: "add a document", Inputs: []store.Input{{Name: "document", Hint: "JSON; without an _id it gets one", Value: "{}"}}},
			{Name: store.Clear, Says: "delete all documents"}, {Name: drop, Says: "drop the collection, with its indexes"}, rules}, err
	}
	c, err := s.in(collection)
	if err != nil {
		return nil, err
	}
	d, err := s.document(ctx, c, key)
	if err != nil {
		return nil, err
	}
	change := store.Action{Name: store.Change, Says: "change it"}
	elements, err := d.Elements()
	for _, e := range elements {
		if e.Key() == "_id" || strings.ContainsAny(e.Key(), ".$") {
			continue
		}
		v := valueOf(e.Value(), store.ValueLimit)
		change.Inputs = append(change.Inputs, store.Input{Name: e.Key(), Hint: typeName(e.Value()), Value: v.Text, Null: true})
	}
	return []store.Action{change, {Name: store.Delete, Says: "delete it"}}, err
}

// command is what an act is in the server's language.
func (s *source) command(ctx context.Context, c *mongo.Collection, a store.Act) (bson.D, error) {
	switch a.Action {
	case store.Insert:
		d, err := document(a.Given("document", "{}"))
		return bson.D{{Key: "insert", Value: a.Given("collection", c.Name())}, {Key: "documents", Value: bson.A{d}}}, err
	case store.Clear:
		return bson.D{{Key: "delete", Value: c.Name()}, {Key: "deletes", Value: bson.A{bson.D{{Key: "q", Value: bson.D{}}, {Key: "limit", Value: 0}}}}}, nil
	case drop:
		return bson.D{{Key: "drop", Value: c.Name()}}, nil
	case store.Delete:
		id, err := idOf(a.Key)
		return bson.D{{Key: "delete", Value: c.Name()}, {Key: "deletes", Value: bson.A{bson.D{{Key: "q", Value: byID(id)}, {Key: "limit", Value: 1}}}}}, err
	case store.Change:
		d, err := s.document(ctx, c, a.Key)
		if err != nil {
			return nil, err
		}
		id, err := idOf(a.Key)
		if err != nil {
			return nil, err
		}
		set := bson.D{}
		for name, typed := range a.Values {
			was, _ := d.LookupErr(name)
			var now any
			if typed != nil {
				if now, err = written(*typed, was); err != nil {
					return nil, err
				}
			}
			set = append(set, bson.E{Key: name, Value: now})
		}
		slices.SortFunc(set, func(a, b bson.E) int { return strings.Compare(a.Key, b.Key) })
		return bson.D{{Key: "update", Value: c.Name()}, {Key: "updates", Value: bson.A{bson.D{{Key: "q", Value: byID(id)}, {Key: "u", Value: bson.D{{Key: "$set", Value: set}}}}}}}, nil
	}
	return nil, store.ErrNoAction
}

// Plan says what command an act would be.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	if a.Action == misbehave.ActionName {
		r, err := misbehave.FromAct(s.rules, a)
		if err != nil {
			return store.Plan{}, err
		}
		return store.Plan{Statement: misbehave.Plan(r)}, nil
	}
	c, err := s.in(a.Collection)
	if err != nil {
		return store.Plan{}, err
	}
	command, err := s.command(ctx, c, a)
	if err != nil {
		return store.Plan{}, err
	}
	b, err := bson.MarshalExtJSON(command, false, false)
	p := store.Plan{Statement: string(b)}
	switch a.Action {
	case store.Delete:
		p.Loses = "the document " + inWords(a.Key)
	case store.Clear, drop:
		n, problem := c.EstimatedDocumentCount(ctx)
		if problem != nil {
			return p, explain(problem)
		}
		p.Loses = words.Count(int(n), "document") + " of " + store.Join(c.Database().Name(), c.Name())
	}
	return p, err
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	if a.Action == misbehave.ActionName {
		return misbehave.Do(s.rules, a)
	}
	c, err := s.in(a.Collection)
	if err != nil {
		return "", err
	}
	command, err := s.command(ctx, c, a)
	if err != nil {
		return "", err
	}
	var done struct {
		N           int
		WriteErrors []struct{ Errmsg string }
	}
	if err := c.Database().RunCommand(ctx, command).Decode(&done); err != nil {
		return "", explain(err)
	}
	switch {
	case len(done.WriteErrors) > 0:
		return "", &store.AnswerError{Message: done.WriteErrors[0].Errmsg}
	case a.Action == drop:
		return store.Join(c.Database().Name(), c.Name()) + " is gone", nil
	case a.Action == store.Clear:
		return words.Count(done.N, "document") + " deleted", nil
	case done.N == 0:
		return "", &store.GoneError{What: "the document " + inWords(a.Key)}
	}
	return map[string]string{store.Insert: "1 document added", store.Delete: "1 document deleted", store.Change: "1 document changed"}[a.Action], nil
}

// Language is what one asks in.
func (*source) Language() string { return "commands in JSON" }

// reading are the commands that change nothing.
var reading = []string{"find", "aggregate", "count", "distinct", "explain", "listCollections", "listIndexes", "listDatabases", "collStats", "dbStats", "buildInfo", "serverStatus", "ping", "hello"}

// Ask has the server carry out a command: {"find": "tools", "filter": {…}}.
func (s *source) Ask(ctx context.Context, q store.Question) (store.Page, error) {
	began := time.Now()
	q = q.Bounded()
	page := store.Page{Rows: []store.Row{}, Fixed: "it is the answer to a question"}
	var command bson.D
	if err := bson.UnmarshalExtJSON([]byte(q.Statement), false, &command); err != nil || len(command) == 0 {
		return page, &store.AnswerError{Message: `a command in JSON is expected: {"find": "tools", "filter": {"price": {"$gt": 100}}}`}
	}
	name := command[0].Key
	if !q.Write && (!slices.Contains(reading, name) || name == "aggregate" && strings.Contains(q.Statement, `"$out"`) || name == "aggregate" && strings.Contains(q.Statement, `"$merge"`)) {
		return page, &store.WritesError{Statement: q.Statement}
	}
	database := s.own
	if i := slices.IndexFunc(command, func(e bson.E) bool { return e.Key == "$db" }); i >= 0 {
		database, _ = command[i].Value.(string)
		command = slices.Delete(command, i, i+1)
	}
	if name == "aggregate" && !slices.ContainsFunc(command, func(e bson.E) bool { return e.Key == "cursor" }) {
		command = append(command, bson.E{Key: "cursor", Value: bson.D{{Key: "batchSize", Value: q.Limit}}})
	}
	answer, err := s.c.Database(database).RunCommand(ctx, command).Raw()
	if err != nil {
		return page, explain(err)
	}
	all, more := rowsOf(answer, q.Limit)
	page.More = more
	page.Columns = columns(all)
	if len(all) > 0 {
		if _, err := all[0].LookupErr("_id"); err != nil {
			page.Columns = page.Columns[1:]
		}
	}
	for _, d := range all {
		var row store.Row
		for _, column := range page.Columns {
			v, err := d.LookupErr(column.Name)
			if err != nil {
				v = bson.RawValue{Type: bson.TypeNull}
			}
			row.Values = append(row.Values, valueOf(v, q.Wide))
		}
		page.Rows = append(page.Rows, row)
	}
	page.Says = words.Count(len(all), "document")
	if more {
		page.Says = fmt.Sprintf("the first %s", words.Count(len(all), "document"))
	}
	page.Took = float64(time.Since(began).Microseconds()) / 1000
	return page, nil
}

// rowsOf are the documents of an answer: those of its cursor, the values of a list, or it
// itself.
func rowsOf(answer bson.Raw, limit int) (all []bson.Raw, more bool) {
	if batch, err := answer.LookupErr("cursor", "firstBatch"); err == nil {
		values, _ := batch.Array().Values()
		for _, v := range values {
			all = append(all, bson.Raw(v.Value))
		}
		id, _ := answer.Lookup("cursor", "id").AsInt64OK()
		return all[:min(len(all), limit)], id != 0 || len(all) > limit
	}
	if values, err := answer.LookupErr("values"); err == nil && values.Type == bson.TypeArray {
		list, _ := values.Array().Values()
		for _, v := range list {
			b, err := bson.Marshal(bson.D{{Key: "value", Value: v}})
			if err == nil {
				all = append(all, b)
			}
		}
		return all[:min(len(all), limit)], len(all) > limit
	}
	var d bson.D
	elements, _ := answer.Elements()
	for _, e := range elements {
		if !slices.Contains([]string{"ok", "$clusterTime", "operationTime"}, e.Key()) {
			d = append(d, bson.E{Key: e.Key(), Value: e.Value()})
		}
	}
	b, err := bson.Marshal(d)
	if err != nil || len(d) == 0 {
		return nil, false
	}
	return []bson.Raw{b}, false
}

// Fill adds the documents of a file, all of them or none.
func (s *source) Fill(ctx context.Context, collection string, rows []store.Filling, dry bool) (done store.Filled, err error) {
	c, err := s.in(collection)
	if err != nil {
		return done, err
	}
	var all []any
	for _, row := range rows {
		d, problem := filled(row)
		if problem != nil {
			if done.Wrong++; len(done.Problems) < 20 {
				done.Problems = append(done.Problems, store.FillProblem{Line: row.Line, Says: problem.Error()})
			}
			continue
		}
		all = append(all, d)
		done.Rows++
	}
	if dry || done.Wrong > 0 || len(all) == 0 {
		return done, nil
	}
	session, err := s.c.StartSession()
	if err != nil {
		return done, explain(err)
	}
	defer session.EndSession(context.WithoutCancel(ctx))
	_, err = session.WithTransaction(ctx, func(ctx context.Context) (any, error) {
		return c.InsertMany(ctx, all)
	})
	if err != nil {
		done.Rows = 0
	}
	return done, explain(err)
}

// filled is the document of a row: what it says in extended JSON, or its values as they
// read.
func filled(row store.Filling) (any, error) {
	if row.JSON != "" {
		return document(row.JSON)
	}
	d := bson.D{}
	for name, v := range row.Values {
		var is any
		if v != nil {
			is = *v
			if n, err := strconv.ParseInt(*v, 10, 64); err == nil && strconv.FormatInt(n, 10) == *v {
				is = n
			}
		}
		d = append(d, bson.E{Key: name, Value: is})
	}
	slices.SortFunc(d, func(a, b bson.E) int { return strings.Compare(a.Key, b.Key) })
	return d, nil
}
