package update

import (
	"maps"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/query"
	"neighbour/internal/emulator/documents/value"
)

// operators read what stands behind an operator and a path. It is filled in when the
// package begins, since the readers are not constants.
var operators map[string]func(p *part, v bson.RawValue) error

func init() {
	operators = map[string]func(p *part, v bson.RawValue) error{
		"$set":         readSet,
		"$setOnInsert": func(p *part, v bson.RawValue) error { p.insert = true; return readSet(p, v) },
		"$unset":       readUnset,
		"$inc":         readArithmetic, "$mul": readArithmetic,
		"$min": readExtreme, "$max": readExtreme,
		"$rename":      readRename,
		"$currentDate": readCurrentDate,
		"$push":        readPush,
		"$addToSet":    readAddToSet,
		"$pop":         readPop,
		"$pull":        readPull,
		"$pullAll":     readPullAll,
		"$bit":         readBit,
	}
}

// Names lists the operators.
func Names() []string { return slices.Sorted(maps.Keys(operators)) }

// readBit reads $bit: and, or, or xor with a whole number.
func readBit(p *part, v bson.RawValue) error {
	if v.Type != bson.TypeEmbeddedDocument || len(value.Members(v.Value)) == 0 {
		return fault.BadValue("The $bit modifier is not compatible with a %s. You must pass in an embedded document: {$bit: {field: {and/or/xor: #}}", value.Name(v.Type))
	}
	all := value.Members(v.Value)
	for _, m := range all {
		if m.Value.Type != bson.TypeInt32 && m.Value.Type != bson.TypeInt64 || !slices.Contains([]string{"and", "or", "xor"}, m.Name) {
			return fault.BadValue("The $bit modifier takes and, or, and xor with whole numbers, not %s: %s", m.Name, value.String(m.Value))
		}
	}
	p.create = true
	p.do = func(old bson.RawValue, found bool) (bson.RawValue, bool, error) {
		if !found {
			old = value.Of(int32(0))
		}
		if old.Type != bson.TypeInt32 && old.Type != bson.TypeInt64 {
			return old, true, fault.BadValue("Cannot apply $bit to a value of non-integral type %s", value.Name(old.Type))
		}
		n, _ := value.Integer(old)
		wide := old.Type == bson.TypeInt64
		for _, m := range all {
			wide = wide || m.Value.Type == bson.TypeInt64
			by, _ := value.Integer(m.Value)
			switch m.Name {
			case "and":
				n &= by
			case "or":
				n |= by
			case "xor":
				n ^= by
			}
		}
		if wide {
			return value.Of(n), true, nil
		}
		return value.Of(int32(n)), true, nil
	}
	return nil
}

func readSet(p *part, v bson.RawValue) error {
	p.create = true
	p.do = func(bson.RawValue, bool) (bson.RawValue, bool, error) { return v, true, nil }
	return nil
}

func readUnset(p *part, _ bson.RawValue) error {
	p.do = func(bson.RawValue, bool) (bson.RawValue, bool, error) { return bson.RawValue{}, false, nil }
	return nil
}

func readArithmetic(p *part, v bson.RawValue) error {
	if !value.IsNumber(v) {
		verb := map[string]string{"$inc": "increment", "$mul": "multiply"}[p.operator]
		return fault.TypeMismatch("Cannot %s with non-numeric argument: {%s: %s}", verb, strings.Join(p.path, "."), value.String(v))
	}
	p.create = true
	p.do = func(old bson.RawValue, found bool) (bson.RawValue, bool, error) {
		switch {
		case !found && p.operator == "$inc":
			return v, true, nil
		case !found:
			zero, err := value.Combine("$mul", v, value.Of(int32(0)))
			return zero, true, err
		case !value.IsNumber(old):
			return old, true, fault.TypeMismatch("Cannot apply %s to a value of non-numeric type. The field '%s' is of non-numeric type %s", p.operator, p.path[len(p.path)-1], value.Name(old.Type))
		}
		now, err := value.Combine(p.operator, old, v)
		return now, true, err
	}
	return nil
}

// readExtreme reads $min and $max, for which values of all types are in one order.
func readExtreme(p *part, v bson.RawValue) error {
	p.create = true
	p.do = func(old bson.RawValue, found bool) (bson.RawValue, bool, error) {
		if d := value.Compare(v, old); !found || p.operator == "$min" && d < 0 || p.operator == "$max" && d > 0 {
			return v, true, nil
		}
		return old, true, nil
	}
	return nil
}

func readRename(p *part, v bson.RawValue) error {
	if v.Type != bson.TypeString {
		return fault.BadValue("The 'to' field for $rename must be a string: %s: %s", strings.Join(p.path, "."), value.String(v))
	}
	p.to = strings.Split(v.StringValue(), ".")
	switch {
	case slices.Contains(p.to, ""):
		return &fault.Error{Code: 56, Name: "EmptyFieldName", Message: "The 'to' field for $rename has an empty part: " + v.StringValue()}
	case slices.ContainsFunc(append(slices.Clone(p.path), p.to...), func(part string) bool { return strings.HasPrefix(part, "$") }):
		return fault.BadValue("The fields of $rename may not be dynamic: %s", v.StringValue())
	}
	return nil
}

func readCurrentDate(p *part, v bson.RawValue) error {
	what := "date"
	switch v.Type {
	case bson.TypeBoolean:
	case bson.TypeEmbeddedDocument:
		t, _ := value.Member(v.Value, "$type")
		what, _ = t.StringValueOK()
	default:
		what = ""
	}
	if what != "date" && what != "timestamp" {
		return fault.BadValue("%s is not valid for $currentDate: write true, {$type: 'date'} or {$type: 'timestamp'}", value.String(v))
	}
	p.create = true
	p.do = func(bson.RawValue, bool) (bson.RawValue, bool, error) {
		if what == "timestamp" {
			return value.Of(bson.Timestamp{T: uint32(time.Now().Unix()), I: 1}), true, nil
		}
		return value.Of(bson.NewDateTimeFromTime(time.Now())), true, nil
	}
	return nil
}

// onArray makes an edit of the elements of an array. What isn't there is one without
// elements if missing is true, and stays so otherwise.
func (p *part) onArray(missing bool, do func(all []value.Named) ([]value.Named, error)) {
	p.create = missing
	p.do = func(old bson.RawValue, found bool) (bson.RawValue, bool, error) {
		var all []value.Named
		switch {
		case !found && !missing:
			return old, false, nil
		case found && old.Type != bson.TypeArray && p.operator == "$pop":
			return old, true, fault.TypeMismatch("Path '%s' contains an element of non-array type '%s'", strings.Join(p.path, "."), value.Name(old.Type))
		case found && old.Type != bson.TypeArray:
			return old, true, fault.BadValue("The field '%s' must be an array but is of type %s", strings.Join(p.path, "."), value.Name(old.Type))
		case found:
			all = value.Members(old.Value)
		}
		all, err := do(all)
		return value.Assemble(bson.TypeArray, all), true, err
	}
}

// each are the values of $each, or the one value that stands in its place.
func each(operator string, v bson.RawValue) (values []value.Named, modifiers []value.Named, err error) {
	if v.Type != bson.TypeEmbeddedDocument {
		return []value.Named{{Value: v}}, nil, nil
	}
	list, ok := value.Member(v.Value, "$each")
	if !ok {
		return []value.Named{{Value: v}}, nil, nil
	}
	if list.Type != bson.TypeArray {
		return nil, nil, fault.BadValue("The argument to $each in %s must be an array but it was of type %s", operator, value.Name(list.Type))
	}
	for _, m := range value.Members(v.Value) {
		if m.Name != "$each" {
			modifiers = append(modifiers, m)
		}
	}
	return value.Members(list.Value), modifiers, nil
}

func readPush(p *part, v bson.RawValue) error {
	values, modifiers, err := each("$push", v)
	if err != nil {
		return err
	}
	position, slice := int64(1)<<40, int64(1)<<40
	var by *order
	for _, m := range modifiers {
		n, whole := value.Integer(m.Value)
		switch m.Name {
		case "$position", "$slice":
			if !whole {
				return fault.BadValue("The value for %s must be an integer value, not %s", m.Name, value.String(m.Value))
			}
			if m.Name == "$position" {
				position = n
			} else {
				slice = n
			}
		case "$sort":
			if by, err = readOrder(m.Value); err != nil {
				return err
			}
		default:
			return fault.BadValue("Unrecognized clause in $push: %s", m.Name)
		}
	}
	p.onArray(true, func(all []value.Named) ([]value.Named, error) {
		at := position
		if at < 0 {
			at += int64(len(all))
		}
		at = max(0, min(at, int64(len(all))))
		all = slices.Insert(all, int(at), values...)
		if by != nil {
			slices.SortStableFunc(all, func(a, b value.Named) int { return by.compare(a.Value, b.Value) })
		}
		switch n := int64(len(all)); {
		case slice >= 0:
			all = all[:min(slice, n)]
		default:
			all = all[max(0, n+slice):]
		}
		return all, nil
	})
	return nil
}

// order is that of $sort in $push: of the elements, or of members of theirs.
type order struct {
	down bool
	by   []struct {
		path []string
		down bool
	}
}

func readOrder(v bson.RawValue) (*order, error) {
	direction := func(v bson.RawValue) (bool, error) {
		if n, ok := value.Integer(v); ok && (n == 1 || n == -1) {
			return n < 0, nil
		}
		return false, fault.BadValue("The $sort element value must be either 1 or -1, not %s", value.String(v))
	}
	o := &order{}
	var err error
	if v.Type != bson.TypeEmbeddedDocument {
		o.down, err = direction(v)
		return o, err
	}
	for _, m := range value.Members(v.Value) {
		down, err := direction(m.Value)
		if err != nil {
			return nil, err
		}
		o.by = append(o.by, struct {
			path []string
			down bool
		}{strings.Split(m.Name, "."), down})
	}
	if len(o.by) == 0 {
		return nil, fault.BadValue("The $sort pattern is empty when it should be a set of fields.")
	}
	return o, nil
}

func (o *order) compare(a, b bson.RawValue) int {
	if o.by == nil {
		if o.down {
			a, b = b, a
		}
		return value.Compare(a, b)
	}
	for _, by := range o.by {
		x, okX := value.Lookup(a, by.path)
		y, okY := value.Lookup(b, by.path)
		if !okX {
			x = value.Null
		}
		if !okY {
			y = value.Null
		}
		if d := value.Compare(x, y); d != 0 {
			if by.down {
				return -d
			}
			return d
		}
	}
	return 0
}

func readAddToSet(p *part, v bson.RawValue) error {
	values, modifiers, err := each("$addToSet", v)
	switch {
	case err != nil:
		return err
	case len(modifiers) > 0:
		return fault.BadValue("Found unexpected fields after $each in $addToSet: %s", modifiers[0].Name)
	}
	p.onArray(true, func(all []value.Named) ([]value.Named, error) {
		for _, v := range values {
			if !slices.ContainsFunc(all, func(m value.Named) bool { return value.Equal(m.Value, v.Value) }) {
				all = append(all, v)
			}
		}
		return all, nil
	})
	return nil
}

func readPop(p *part, v bson.RawValue) error {
	n, ok := value.Integer(v)
	if !ok || n != 1 && n != -1 {
		return fault.FailedToParse("$pop expects 1 or -1, found: %s", value.String(v))
	}
	p.onArray(false, func(all []value.Named) ([]value.Named, error) {
		switch {
		case len(all) == 0:
			return all, nil
		case n == 1:
			return all[:len(all)-1], nil
		}
		return all[1:], nil
	})
	return nil
}

func readPull(p *part, v bson.RawValue) error {
	meant, err := query.ParseElement(v)
	if err != nil {
		return err
	}
	p.onArray(false, func(all []value.Named) ([]value.Named, error) {
		return slices.DeleteFunc(all, func(m value.Named) bool { return meant.Matches(m.Value) }), nil
	})
	return nil
}

func readPullAll(p *part, v bson.RawValue) error {
	if v.Type != bson.TypeArray {
		return fault.BadValue("$pullAll requires an array argument but was given a %s", value.Name(v.Type))
	}
	values := value.Members(v.Value)
	p.onArray(false, func(all []value.Named) ([]value.Named, error) {
		return slices.DeleteFunc(all, func(m value.Named) bool {
			return slices.ContainsFunc(values, func(v value.Named) bool { return value.Equal(m.Value, v.Value) })
		}), nil
	})
	return nil
}
