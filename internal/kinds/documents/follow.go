package documents

import (
	"context"
	"encoding/base64"
	"errors"
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
)

// changes are the types of events.
var changes = []string{"insert", "update", "replace", "delete"}

// historyLost is the code of a server that does not know a place any more.
const historyLost = 286

// Follow tells of the changes of a collection.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	c, err := connect(in)
	if err != nil {
		return err
	}
	defer func() { _ = c.Disconnect(context.WithoutCancel(ctx)) }()
	o := options.ChangeStream().SetFullDocument(options.UpdateLookup).SetBatchSize(kind.EventsAtOnce)
	if cursor != "" {
		token, err := base64.StdEncoding.DecodeString(cursor)
		if err != nil {
			return errors.Join(kind.ErrLost, err)
		}
		o.SetResumeAfter(bson.Raw(token))
	}
	place := func(t bson.Raw) string { return base64.StdEncoding.EncodeToString(t) }
	stream, err := c.Database(database(in)).Collection(w.What).Watch(ctx, mongo.Pipeline{}, o)
	var answer mongo.CommandError
	switch {
	case errors.As(err, &answer) && answer.Code == historyLost:
		return errors.Join(kind.ErrLost, err)
	case err != nil:
		return err
	}
	defer stream.Close(context.WithoutCancel(ctx))
	if cursor == "" {
		cursor = place(stream.ResumeToken())
	}
	if err := emit(nil, cursor); err != nil {
		return err
	}
	var events []outbox.Event
	for stream.Next(ctx) {
		e, err := eventOf(w.What, stream.Current)
		if err != nil {
			return err
		}
		if slices.Contains(changes, e.Type) && w.Wants(e.Type) {
			events = append(events, e)
		}
		if stream.RemainingBatchLength() > 0 && len(events) < kind.EventsAtOnce {
			continue
		}
		if err := emit(events, place(stream.ResumeToken())); err != nil {
			return err
		}
		events = nil
	}
	return stream.Err()
}

// change is a change as the server tells it.
type change struct {
	ID        bson.Raw      `bson:"_id"`
	Operation string        `bson:"operationType"`
	Key       bson.Raw      `bson:"documentKey"`
	Document  bson.Raw      `bson:"fullDocument"`
	Update    bson.Raw      `bson:"updateDescription"`
	At        bson.DateTime `bson:"wallTime"`
}

func eventOf(collection string, raw bson.Raw) (outbox.Event, error) {
	var c change
	if err := bson.Unmarshal(raw, &c); err != nil {
		return outbox.Event{}, err
	}
	out := bson.D{{Key: "change", Value: c.Operation}, {Key: "collection", Value: collection}}
	for _, part := range []struct {
		name string
		raw  bson.Raw
	}{{"key", c.Key}, {"document", c.Document}, {"update", c.Update}} {
		if part.raw != nil {
			out = append(out, bson.E{Key: part.name, Value: part.raw})
		}
	}
	data, err := bson.MarshalExtJSON(out, false, false)
	if err != nil {
		return outbox.Event{}, err
	}
	key := ""
	if id, err := c.Key.LookupErr("_id"); err == nil {
		key = id.String()
		if text, ok := id.StringValueOK(); ok {
			key = text
		} else if o, ok := id.ObjectIDOK(); ok {
			key = o.Hex()
		}
	}
	e := outbox.Event{Source: c.ID.String(), Key: key, Type: c.Operation, Subject: collection + " " + key, Data: data}
	if c.At != 0 {
		e.At = c.At.Time()
		e.Source += " " + e.At.UTC().Format("2006-01-02T15:04:05.000")
	}
	return e, nil
}
