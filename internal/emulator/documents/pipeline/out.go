package pipeline

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// readOut reads $out or $merge.
func readOut(m value.Named, o Options) (*Out, error) {
	out := &Out{Merge: m.Name == "$merge", Matched: "merge", Unmatched: "insert", On: []string{"_id"}}
	place := m.Value
	if out.Merge && m.Value.Type == bson.TypeEmbeddedDocument {
		place = bson.RawValue{}
		o.inside = "$merge"
		for _, part := range value.Members(m.Value.Value) {
			if err := out.readPart(part, &place, o); err != nil {
				return nil, err
			}
		}
	}
	var ok bool
	switch place.Type {
	case bson.TypeString:
		out.Collection, ok = place.StringValueOK()
	case bson.TypeEmbeddedDocument:
		db, _ := value.Member(place.Value, "db")
		coll, _ := value.Member(place.Value, "coll")
		out.Database, _ = db.StringValueOK()
		out.Collection, ok = coll.StringValueOK()
	}
	if !ok || out.Collection == "" {
		return nil, &fault.Error{Code: 16990, Name: "Location16990", Message: m.Name + " needs the name of a collection, or db and coll"}
	}
	return out, nil
}

func (out *Out) readPart(part value.Named, place *bson.RawValue, o Options) error {
	text, isText := part.Value.StringValueOK()
	switch {
	case part.Name == "into":
		*place = part.Value
	case part.Name == "on" && isText:
		out.On = []string{text}
	case part.Name == "on" && part.Value.Type == bson.TypeArray:
		out.On = nil
		for _, v := range value.Items(part.Value) {
			text, ok := v.StringValueOK()
			if !ok {
				return fault.TypeMismatch("'on' of $merge must be names")
			}
			out.On = append(out.On, text)
		}
	case part.Name == "whenMatched" && isText && slices.Contains([]string{"replace", "merge", "keepExisting", "fail"}, text):
		out.Matched = text
	case part.Name == "whenMatched" && part.Value.Type == bson.TypeArray:
		return fault.NotImplemented("a pipeline as whenMatched of $merge is not here")
	case part.Name == "whenNotMatched" && isText && slices.Contains([]string{"insert", "discard", "fail"}, text):
		out.Unmatched = text
	default:
		return fault.BadValue("%s of $merge can't be %s", part.Name, value.String(part.Value))
	}
	return nil
}
