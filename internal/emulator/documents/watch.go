package documents

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/engine"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/pipeline"
	"neighbour/internal/emulator/documents/value"
)

// watch gives the changes that are made.
type watch struct {
	s        *Server
	after    int64 // the last change that was looked at
	of       func(engine.Space) bool
	one      bool   // of one collection, at whose end it ends
	document string // fullDocument
	before   string // fullDocumentBeforeChange
	stages   []bson.Raw
	patience time.Duration
	ended    bool
	place    pipeline.Source
}

// token is where the watch can go on.
func (w *watch) token() bson.D { return tokenOf(w.after) }

func tokenOf(number int64) bson.D {
	return bson.D{{Key: "_data", Value: "4e" + hex.EncodeToString(binary.BigEndian.AppendUint64(nil, uint64(number)))}}
}

func readToken(v bson.RawValue) (int64, error) {
	if v.Type == bson.TypeEmbeddedDocument {
		data, _ := value.Member(v.Value, "_data")
		text, _ := data.StringValueOK()
		if b, err := hex.DecodeString(text); err == nil && len(b) == 9 && b[0] == 0x4e {
			return int64(binary.BigEndian.Uint64(b[1:])), nil
		}
	}
	return 0, &fault.Error{Code: 260, Name: "InvalidResumeToken", Message: "the resume token is none of this server's: " + value.String(v)}
}

// watch begins a cursor of changes.
func (s *Server) watch(ctx context.Context, c *command, space engine.Space, p *pipeline.Pipeline, all []bson.Raw, size int64) (bson.D, error) {
	if c.transaction != nil {
		return nil, &fault.Error{Code: 263, Name: "OperationNotSupportedInTransaction", Message: "$changeStream cannot run in a transaction"}
	}
	w := &watch{s: s, patience: 0, stages: all[1:], place: place{s, c, c.database}}
	if err := p.Only(all[1:], "$match", "$project", "$addFields", "$set", "$unset", "$replaceRoot", "$replaceWith"); err != nil {
		return nil, err
	}
	everything := false
	w.after, _ = s.engine.Latest()
	for _, m := range value.Members(p.Watch.Value) {
		var err error
		switch m.Name {
		case "fullDocument":
			w.document, _ = m.Value.StringValueOK()
		case "fullDocumentBeforeChange":
			w.before, _ = m.Value.StringValueOK()
		case "resumeAfter", "startAfter":
			w.after, err = readToken(m.Value)
		case "startAtOperationTime":
			if m.Value.Type != bson.TypeTimestamp {
				return nil, fault.TypeMismatch("startAtOperationTime must be a timestamp")
			}
			seconds, _ := m.Value.Timestamp()
			w.after, err = s.engine.Since(ctx, time.Unix(int64(seconds), 0))
		case "allChangesForCluster":
			everything = m.Value.Type == bson.TypeBoolean && m.Value.Value[0] != 0
		case "showExpandedEvents":
		default:
			err = &fault.Error{Code: 40415, Name: "Location40415", Message: "BSON field '$changeStream." + m.Name + "' is an unknown field."}
		}
		if err != nil {
			return nil, err
		}
	}
	if _, err := s.engine.Changes(ctx, w.after, 1); err != nil {
		return nil, err
	}
	switch {
	case everything:
		w.of = func(engine.Space) bool { return true }
	case space.Collection == "":
		w.of = func(o engine.Space) bool { return o.Database == space.Database }
		space.Collection = "$cmd.aggregate"
	default:
		w.one = true
		w.of = func(o engine.Space) bool { return o == space }
	}
	return s.firstOf(ctx, &openCursor{space: space, from: w.next, watch: w}, size, false)
}

// next waits a while for changes.
func (w *watch) next(ctx context.Context, n, _ int) (all []bson.Raw, more bool, err error) {
	timer := time.NewTimer(w.patience)
	defer timer.Stop()
	for {
		latest, news := w.s.engine.Latest()
		for w.after < latest && len(all) < n && !w.ended {
			changes, err := w.s.engine.Changes(ctx, w.after, min(n, 1000))
			if err != nil {
				return nil, false, err
			}
			for _, c := range changes {
				if len(all) == n || w.ended {
					break
				}
				w.after = c.Number
				if !w.of(c.Space) {
					continue
				}
				if all, err = w.add(ctx, all, c); err != nil {
					return nil, false, err
				}
			}
		}
		if len(all) > 0 || w.ended {
			return all, !w.ended, nil
		}
		select {
		case <-news:
		case <-timer.C:
			return nil, true, nil
		case <-ctx.Done():
			return nil, false, ctx.Err()
		}
	}
}

// add adds the events that a change is.
func (w *watch) add(ctx context.Context, all []bson.Raw, c engine.Change) ([]bson.Raw, error) {
	event, err := w.event(ctx, c)
	if err != nil || event == nil {
		return all, err
	}
	events := []bson.Raw{event}
	if w.one && (c.Kind == "drop" || c.Kind == "rename") {
		w.ended = true
		b, err := bson.Marshal(bson.D{{Key: "_id", Value: tokenOf(c.Number)}, {Key: "operationType", Value: "invalidate"}, {Key: "clusterTime", Value: clusterTime(c)}, {Key: "wallTime", Value: c.At}})
		if err != nil {
			return nil, err
		}
		events = append(events, b)
	}
	p, err := pipeline.Parse(w.stages, pipeline.Options{})
	if err != nil {
		return nil, err
	}
	next, err := p.Whole(pipeline.From(events), w.place)
	if err != nil {
		return nil, err
	}
	for {
		d, err := next(ctx)
		if err != nil || d == nil {
			return all, err
		}
		if _, ok := value.Member(d, "_id"); !ok {
			return nil, &fault.Error{Code: 280, Name: "ChangeStreamFatalError", Message: "the pipeline removed the _id of a change, which is its resume token"}
		}
		all = append(all, d)
	}
}

func clusterTime(c engine.Change) bson.Timestamp {
	return bson.Timestamp{T: uint32(c.At.Unix()), I: uint32(c.Number)}
}

// event is a change as the protocol tells it; nil if it isn't told.
func (w *watch) event(ctx context.Context, c engine.Change) (bson.Raw, error) {
	if c.Kind == "create" {
		return nil, nil // which is told on demand only, and nobody asks here
	}
	event := bson.D{{Key: "_id", Value: tokenOf(c.Number)}, {Key: "operationType", Value: c.Kind}, {Key: "clusterTime", Value: clusterTime(c)}, {Key: "wallTime", Value: c.At}}
	document := c.Document
	if c.Kind == "update" {
		var err error
		if document, err = w.current(ctx, c); err != nil {
			return nil, err
		}
	}
	if document != nil || c.Kind == "update" && w.document == "updateLookup" {
		var full any
		if document != nil {
			full = document
		}
		event = append(event, bson.E{Key: "fullDocument", Value: full})
	}
	event = append(event, bson.E{Key: "ns", Value: bson.D{{Key: "db", Value: c.Space.Database}, {Key: "coll", Value: c.Space.Collection}}})
	if c.To != "" {
		database, collection, _ := cutSpace(c.To)
		event = append(event, bson.E{Key: "to", Value: bson.D{{Key: "db", Value: database}, {Key: "coll", Value: collection}}})
	}
	if c.ID.Type != 0 {
		event = append(event, bson.E{Key: "documentKey", Value: bson.D{{Key: "_id", Value: c.ID}}})
	}
	if c.Kind == "update" {
		d := engine.DifferenceOf(c.Before, c.Document)
		set, removed, shortened := bson.D{}, d.Removed, bson.A{}
		for _, m := range d.Set {
			set = append(set, bson.E{Key: m.Name, Value: m.Value})
		}
		for _, m := range d.Shortened {
			shortened = append(shortened, bson.D{{Key: "field", Value: m.Name}, {Key: "newSize", Value: m.Value}})
		}
		if removed == nil {
			removed = []string{}
		}
		event = append(event, bson.E{Key: "updateDescription", Value: bson.D{{Key: "updatedFields", Value: set}, {Key: "removedFields", Value: removed}, {Key: "truncatedArrays", Value: shortened}}})
	}
	if (w.before == "whenAvailable" || w.before == "required") && c.Before != nil {
		event = append(event, bson.E{Key: "fullDocumentBeforeChange", Value: c.Before})
	}
	return bson.Marshal(event)
}

// current is what an update shows of its document.
func (w *watch) current(ctx context.Context, c engine.Change) (bson.Raw, error) {
	switch w.document {
	case "whenAvailable", "required":
		return c.Document, nil
	case "updateLookup":
		filter, err := bson.Marshal(bson.D{{Key: "_id", Value: bson.D{{Key: "$eq", Value: c.ID}}}})
		if err != nil {
			return nil, err
		}
		cursor, err := w.s.engine.Open(ctx, c.Space, engine.Find{Filter: filter, Limit: 1})
		if err != nil {
			return nil, err
		}
		all, _, err := cursor.Next(ctx, 1, 1)
		var f *fault.Error
		if errors.As(err, &f) || len(all) == 0 {
			return nil, nil
		}
		return all[0], err
	}
	return nil, nil
}
