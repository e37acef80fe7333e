package documents

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
)

// selection is how long a look waits for the server.
const selection = 3 * time.Second

// Source looks into the documents.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	c, err := connect(in)
	return &source{c: c, own: database(in), rules: kind.MisbehaveFile(in)}, err
}

// source looks into a server, with a client of its protocol.
type source struct {
	c     *mongo.Client
	own   string // the database of the facts
	rules string // the file of the misbehaviour
}

func (s *source) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return s.c.Disconnect(ctx)
}

// explain says an error in the server's words, or why it can't be reached.
func explain(err error) error {
	var answer mongo.ServerError
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &answer):
		text := err.Error()
		if i := strings.Index(text, ") "); i > 0 && strings.HasPrefix(text, "(") {
			text = text[i+2:]
		}
		return &store.AnswerError{Message: text}
	case mongo.IsTimeout(err) || mongo.IsNetworkError(err):
		return errors.New(probe.Explain(err))
	}
	return err
}

// in returns the collection of an address.
func (s *source) in(address string) (*mongo.Collection, error) {
	parts, err := store.Split(address)
	if err != nil {
		return nil, err
	}
	switch len(parts) {
	case 1:
		return s.c.Database(s.own).Collection(parts[0]), nil
	case 2:
		return s.c.Database(parts[0]).Collection(parts[1]), nil
	}
	return nil, &store.GoneError{What: "a collection " + address + " (write DATABASE.COLLECTION)"}
}

// Collections lists the collections, those of the database of the facts first.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	names, err := s.c.ListDatabaseNames(ctx, bson.D{})
	if err != nil {
		return nil, explain(err)
	}
	slices.SortFunc(names, func(a, b string) int {
		if (a == s.own) != (b == s.own) {
			return map[bool]int{true: -1, false: 1}[a == s.own]
		}
		return strings.Compare(a, b)
	})
	var out []store.Collection
	for _, database := range names {
		all, err := s.c.Database(database).ListCollectionNames(ctx, bson.D{})
		if err != nil {
			return nil, explain(err)
		}
		sort.Strings(all)
		for _, name := range all {
			c := store.Collection{Name: store.Join(database, name), Group: database, Title: name, Is: "documents", Can: []string{store.Change, store.Insert, store.Delete, store.Clear}}
			var stats struct{ Count, Size int64 }
			if err := s.c.Database(database).RunCommand(ctx, bson.D{{Key: "collStats", Value: name}}).Decode(&stats); err != nil {
				return nil, explain(err)
			}
			c.Count, c.Bytes = stats.Count, stats.Size
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		// So that there is a place to add from, and to have it misbehave.
		out = append(out, store.Collection{Name: store.Join(s.own), Title: s.own, Is: "database"})
	}
	return out, nil
}

// bare reports whether a collection stands for the database of the facts, which
// has none yet.
func (s *source) bare(c *mongo.Collection) bool {
	return c.Name() == s.own && c.Database().Name() == s.own
}

// mostColumns is how many columns a list has; the other fields are in the document.
const mostColumns = 24

// Items returns documents in the order of their _ids.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	began := time.Now()
	page := store.Page{Rows: []store.Row{}, Order: "by _id"}
	c, err := s.in(q.Collection)
	if err != nil {
		return page, err
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	filter, says, err := s.filter(ctx, c, q.Where)
	if err != nil {
		return page, err
	}
	page.Where = says
	all, more, err := s.page(ctx, c, filter, q)
	if err != nil {
		return page, explain(err)
	}
	if len(all) == 0 && q.After == "" {
		if err := s.there(ctx, c); err != nil {
			return page, err
		}
	}
	page.Columns = columns(all)
	for _, d := range all {
		row := store.Row{Key: keyOf(d)}
		for _, column := range page.Columns {
			v, err := d.LookupErr(column.Name)
			if err != nil {
				row.Values = append(row.Values, store.Value{Is: store.Null})
				continue
			}
			row.Values = append(row.Values, valueOf(v, q.Wide))
		}
		if q.Wide >= store.ValueLimit {
			b, err := bson.MarshalExtJSON(d, false, false)
			if err != nil {
				return page, err
			}
			row.Whole = string(b)
		}
		page.Rows = append(page.Rows, row)
	}
	if n := len(page.Rows); n > 0 {
		page.More, page.Next, page.Prev = more, page.Rows[n-1].Key, page.Rows[0].Key
	}
	page.Took = float64(time.Since(began).Microseconds()) / 1000
	return page, nil
}

// there makes sure that a collection is there.
func (s *source) there(ctx context.Context, c *mongo.Collection) error {
	names, err := c.Database().ListCollectionNames(ctx, bson.D{{Key: "name", Value: c.Name()}})
	if err == nil && len(names) == 0 && !s.bare(c) {
		return &store.GoneError{What: "a collection " + store.Join(c.Database().Name(), c.Name())}
	}
	return explain(err)
}

// page reads the documents after one, or before it.
func (s *source) page(ctx context.Context, c *mongo.Collection, filter bson.D, q store.Query) (all []bson.Raw, more bool, err error) {
	by, operator := 1, "$gt"
	if q.Back {
		by, operator = -1, "$lt"
	}
	find := func(filter bson.D, n int) error {
		cursor, err := c.Find(ctx, filter, options.Find().SetSort(bson.D{{Key: "_id", Value: by}}).SetLimit(int64(n)))
		if err != nil {
			return err
		}
		defer cursor.Close(ctx)
		for cursor.Next(ctx) {
			all = append(all, slices.Clone(cursor.Current))
		}
		return cursor.Err()
	}
	if q.After == "" {
		err = find(filter, q.Limit+1)
	} else {
		id, problem := idOf(q.After)
		if problem != nil {
			return nil, false, problem
		}
		// An index knows those of the same type; others come after them.
		err = find(bson.D{{Key: "$and", Value: bson.A{filter, bson.D{{Key: "_id", Value: bson.D{{Key: operator, Value: id}}}}}}}, q.Limit+1)
		if err == nil && len(all) <= q.Limit && s.mixed(ctx, c, id, by) {
			beyond := bson.D{{Key: "$expr", Value: bson.D{{Key: operator, Value: bson.A{"$_id", bson.D{{Key: "$literal", Value: id}}}}}}}
			same := bson.D{{Key: "_id", Value: bson.D{{Key: "$not", Value: bson.D{{Key: operator, Value: id}}}}}}
			err = find(bson.D{{Key: "$and", Value: bson.A{filter, beyond, same}}}, q.Limit+1-len(all))
		}
	}
	if more = len(all) > q.Limit; more {
		all = all[:q.Limit]
	}
	if q.Back {
		slices.Reverse(all)
	}
	return all, more, err
}

// mixed reports whether the last _id in a direction is of another type than one.
func (s *source) mixed(ctx context.Context, c *mongo.Collection, id bson.RawValue, by int) bool {
	last, err := c.FindOne(ctx, bson.D{}, options.FindOne().SetSort(bson.D{{Key: "_id", Value: -by}}).SetProjection(bson.D{{Key: "_id", Value: 1}})).Raw()
	return err == nil && last.Lookup("_id").Type != id.Type
}

// filter reads a condition: a filter in extended JSON, or words that a document's texts
// have.
func (s *source) filter(ctx context.Context, c *mongo.Collection, where string) (filter bson.D, says string, err error) {
	where = strings.TrimSpace(where)
	switch {
	case where == "":
		return bson.D{}, "", nil
	case strings.HasPrefix(where, "{"):
		if err := bson.UnmarshalExtJSON([]byte(where), false, &filter); err != nil {
			return nil, "", &store.AnswerError{Message: "the filter is no JSON: " + strings.TrimPrefix(err.Error(), "invalid JSON input: ")}
		}
		return filter, "that " + where + " means", nil
	}
	// The fields that texts have been seen in; the _id as it reads.
	cursor, err := c.Find(ctx, bson.D{}, options.Find().SetLimit(200))
	if err != nil {
		return nil, "", explain(err)
	}
	var all []bson.Raw
	if err := cursor.All(ctx, &all); err != nil {
		return nil, "", explain(err)
	}
	word := bson.Regex{Pattern: quoted(where), Options: "i"}
	some := bson.A{bson.D{{Key: "$expr", Value: bson.D{{Key: "$regexMatch", Value: bson.D{
		{Key: "input", Value: bson.D{{Key: "$convert", Value: bson.D{{Key: "input", Value: "$_id"}, {Key: "to", Value: "string"}, {Key: "onError", Value: ""}, {Key: "onNull", Value: ""}}}}},
		{Key: "regex", Value: word}}}}}}}
	for _, path := range textPaths(all) {
		some = append(some, bson.D{{Key: path, Value: word}})
	}
	return bson.D{{Key: "$or", Value: some}}, fmt.Sprintf("with %q in a text", where), nil
}

// quoted is an expression that means a text as it is.
func quoted(text string) string {
	var out strings.Builder
	for _, r := range text {
		if strings.ContainsRune(`\.+*?()|[]{}^$`, r) {
			out.WriteByte('\\')
		}
		out.WriteRune(r)
	}
	return out.String()
}

// textPaths are where documents have texts, two levels deep.
func textPaths(all []bson.Raw) []string {
	seen := map[string]bool{}
	var look func(before string, d bson.Raw, level int)
	look = func(before string, d bson.Raw, level int) {
		elements, _ := d.Elements()
		for _, e := range elements {
			name, v := before+e.Key(), e.Value()
			if strings.Contains(e.Key(), ".") || strings.HasPrefix(e.Key(), "$") {
				continue
			}
			switch {
			case v.Type == bson.TypeString:
				seen[name] = true
			case v.Type == bson.TypeArray:
				values, _ := v.Array().Values()
				for _, in := range values {
					if in.Type == bson.TypeString {
						seen[name] = true
					} else if in.Type == bson.TypeEmbeddedDocument && level < 2 {
						look(name+".", in.Document(), level+1)
					}
				}
			case v.Type == bson.TypeEmbeddedDocument && level < 2:
				look(name+".", v.Document(), level+1)
			}
		}
	}
	for _, d := range all {
		look("", d, 0)
	}
	out := make([]string, 0, len(seen))
	for path := range seen {
		out = append(out, path)
	}
	sort.Strings(out)
	return out
}

// columns are the fields that documents have, the _id first, in the order in which they
// are seen.
func columns(all []bson.Raw) []store.Column {
	out := []store.Column{{Name: "_id", Type: "key", Is: store.Text, Key: true, Must: true}}
	types := map[string]map[string]bool{}
	for _, d := range all {
		elements, _ := d.Elements()
		for _, e := range elements {
			name := e.Key()
			if types[name] == nil {
				types[name] = map[string]bool{}
				if name != "_id" {
					out = append(out, store.Column{Name: name, Is: formOf(e.Value())})
				}
			}
			types[name][typeName(e.Value())] = true
		}
	}
	for i := range out {
		var names []string
		for name := range types[out[i].Name] {
			names = append(names, name)
		}
		sort.Strings(names)
		out[i].Type = strings.Join(names, ", ")
	}
	return out[:min(len(out), mostColumns)]
}

// Item returns a document whole, a field for each of its members.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key, Says: inWords(key)}
	c, err := s.in(collection)
	if err != nil {
		return item, err
	}
	d, err := s.document(ctx, c, key)
	if err != nil {
		return item, err
	}
	elements, err := d.Elements()
	if err != nil {
		return item, err
	}
	for _, e := range elements {
		item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: e.Key(), Type: typeName(e.Value()), Is: formOf(e.Value()), Key: e.Key() == "_id"}, Value: valueOf(e.Value(), store.ValueLimit)})
	}
	return item, nil
}

func (s *source) document(ctx context.Context, c *mongo.Collection, key string) (bson.Raw, error) {
	id, err := idOf(key)
	if err != nil {
		return nil, err
	}
	d, err := c.FindOne(ctx, byID(id)).Raw()
	if errors.Is(err, mongo.ErrNoDocuments) {
		return nil, &store.GoneError{What: "the document " + inWords(key)}
	}
	return d, explain(err)
}

func byID(id bson.RawValue) bson.D {
	return bson.D{{Key: "_id", Value: bson.D{{Key: "$eq", Value: id}}}}
}

// Describe lists the indexes of a collection.
func (s *source) Describe(ctx context.Context, collection string) (store.Page, error) {
	began := time.Now()
	p := store.Page{Rows: []store.Row{}, Columns: []store.Column{{Name: "part", Is: store.Text}, {Name: "name", Is: store.Text}, {Name: "is", Is: store.Text}, {Name: "more", Is: store.Text}}}
	c, err := s.in(collection)
	if err != nil {
		return p, err
	}
	if err := s.there(ctx, c); err != nil {
		return p, err
	}
	cursor, err := c.Indexes().List(ctx)
	if err != nil {
		return p, explain(err)
	}
	var all []bson.Raw
	if err := cursor.All(ctx, &all); err != nil {
		return p, explain(err)
	}
	for _, spec := range all {
		is, more := "index of "+text(spec.Lookup("key")), []string{}
		elements, _ := spec.Elements()
		for _, e := range elements {
			switch e.Key() {
			case "v", "key", "name":
			default:
				more = append(more, e.Key()+": "+text(e.Value()))
			}
		}
		var row store.Row
		for _, t := range []string{"index", spec.Lookup("name").StringValue(), is, strings.Join(more, ", ")} {
			row.Values = append(row.Values, store.Value{Text: t, Is: store.Text})
		}
		p.Rows = append(p.Rows, row)
	}
	p.Says = fmt.Sprintf("%d indexes", len(all))
	if len(all) == 1 {
		p.Says = "1 index"
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, nil
}
