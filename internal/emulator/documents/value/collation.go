package value

import (
	"bytes"
	"sync"

	"go.mongodb.org/mongo-driver/v2/bson"
	"golang.org/x/text/collate"
	"golang.org/x/text/language"

	"neighbour/internal/emulator/documents/fault"
)

// Collation compares texts as a language does. A nil one compares their bytes, as
// Compare and Key do. It may be used at the same time.
type Collation struct {
	spec bson.Raw

	mu       sync.Mutex
	collator *collate.Collator
	buffer   collate.Buffer
}

// ParseCollation reads a collation, nil for none. Its errors are of the type
// *fault.Error.
func ParseCollation(spec bson.Raw) (*Collation, error) {
	if len(spec) == 0 || len(spec) == 5 {
		return nil, nil
	}
	if err := Validate(spec); err != nil {
		return nil, fault.FailedToParse("the collation is no valid document: %v", err)
	}
	locale := ""
	var options []collate.Option
	var problem error
	Elements(spec, func(name string, v bson.RawValue) bool {
		n, _ := Integer(v)
		yes := v.Type == bson.TypeBoolean && v.Value[0] != 0
		switch name {
		case "locale":
			locale, _ = v.StringValueOK()
		case "strength":
			switch n {
			case 1:
				options = append(options, collate.IgnoreCase, collate.IgnoreDiacritics)
			case 2:
				options = append(options, collate.IgnoreCase)
			case 3:
			default:
				problem = fault.NotImplemented("the strength %s of a collation is not here; 1, 2 and 3 are", String(v))
			}
		case "numericOrdering":
			if yes {
				options = append(options, collate.Numeric)
			}
		case "caseLevel", "backwards", "normalization":
			if yes {
				problem = fault.NotImplemented("%s of a collation is not here", name)
			}
		case "caseFirst":
			if text, _ := v.StringValueOK(); text != "off" {
				problem = fault.NotImplemented("%s of a collation is not here", name)
			}
		case "alternate", "maxVariable", "version":
			if text, _ := v.StringValueOK(); text == "shifted" {
				problem = fault.NotImplemented("%s of a collation is not here", name)
			}
		default:
			problem = &fault.Error{Code: 40415, Name: "Location40415", Message: "BSON field 'collation." + name + "' is an unknown field."}
		}
		return problem == nil
	})
	switch {
	case problem != nil:
		return nil, problem
	case locale == "":
		return nil, &fault.Error{Code: 40414, Name: "Location40414", Message: "BSON field 'collation.locale' is missing but a required field"}
	case locale == "simple":
		return nil, nil
	}
	tag, err := language.Parse(locale)
	if err != nil {
		return nil, fault.BadValue("Field 'locale' is invalid in: { locale: %q }", locale)
	}
	return &Collation{spec: spec, collator: collate.New(tag, options...)}, nil
}

// Spec returns what the collation was read from, nil for none.
func (c *Collation) Spec() bson.Raw {
	if c == nil {
		return nil
	}
	return c.spec
}

// Same reports whether two collations compare alike.
func (c *Collation) Same(o *Collation) bool { return bytes.Equal(c.Spec(), o.Spec()) }

// text returns bytes in the order of texts.
func (c *Collation) text(b []byte) []byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.buffer.Reset()
	return bytes.Clone(c.collator.Key(&c.buffer, b))
}

// Compare is the function Compare with this collation's order of texts.
func (c *Collation) Compare(a, b bson.RawValue) int {
	if c == nil {
		return Compare(a, b)
	}
	return bytes.Compare(c.Key(a), c.Key(b))
}

// Equal reports whether two values are equal.
func (c *Collation) Equal(a, b bson.RawValue) bool { return c.Compare(a, b) == 0 }

// Key is the function Key with this collation's order of texts.
func (c *Collation) Key(v bson.RawValue) []byte { return c.AppendKey(nil, v) }
