package query

import (
	"math"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

func (p parser) parseIn(path []string, name string, v bson.RawValue) (node, error) {
	if v.Type != bson.TypeArray {
		return nil, fault.BadValue("%s needs an array", name)
	}
	var out any
	keys := map[string]bool{}
	null := false
	var problem error
	value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
		switch {
		case e.Type == bson.TypeRegex:
			pattern, options := e.Regex()
			var n node
			n, problem = p.parseRegex(path, pattern, options, e)
			out = append(out, n)
		case e.Type == bson.TypeEmbeddedDocument && operators(e.Value):
			problem = fault.BadValue("cannot nest $ under %s", name)
		case isNull(e):
			null = true
		default:
			keys[string(p.Collation.Key(e))] = true
		}
		return problem == nil
	})
	return append(out, field{path, func(v bson.RawValue, found bool) bool {
		if !found || isNull(v) {
			return null
		}
		return keys[string(p.Collation.Key(v))]
	}}), problem
}

func (p parser) parseNot(path []string, v bson.RawValue) (node, error) {
	switch {
	case v.Type == bson.TypeRegex:
		pattern, options := v.Regex()
		n, err := p.parseRegex(path, pattern, options, v)
		return none{n}, err
	case v.Type != bson.TypeEmbeddedDocument:
		return nil, fault.BadValue("$not needs a regex or a document")
	case !operators(v.Value):
		empty := true
		value.Elements(v.Value, func(string, bson.RawValue) bool { empty = false; return false })
		if empty {
			return nil, fault.BadValue("$not cannot be empty")
		}
		return nil, fault.BadValue("$not needs a document of operators")
	}
	n, err := p.parseOperators(path, v.Value)
	return none{n}, err
}

func (p parser) parseSize(path []string, v bson.RawValue) (node, error) {
	n, ok := value.Integer(v)
	switch {
	case !ok:
		return nil, fault.BadValue("Failed to parse $size. Expected an integer in: $size: %s", value.String(v))
	case n < 0:
		return nil, fault.BadValue("Failed to parse $size. Expected a non-negative number in: $size: %s", value.String(v))
	}
	return whole{path, func(v bson.RawValue, found bool) bool {
		if !found || v.Type != bson.TypeArray {
			return false
		}
		count := int64(0)
		value.Elements(v.Value, func(string, bson.RawValue) bool { count++; return count <= n })
		return count == n
	}}, nil
}

func (p parser) parseAll(path []string, v bson.RawValue) (node, error) {
	if v.Type != bson.TypeArray {
		return nil, fault.BadValue("$all needs an array")
	}
	var parts all
	var problem error
	elements := -1 // whether they are all $elemMatch: not known yet
	value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
		is := 0
		if e.Type == bson.TypeEmbeddedDocument {
			if _, ok := value.Member(e.Value, "$elemMatch"); ok {
				is = 1
			}
		}
		if elements >= 0 && elements != is {
			problem = fault.BadValue("$all/$elemMatch has to be consistent")
			return false
		}
		elements = is
		var n node
		switch {
		case is == 1:
			n, problem = p.parseOperators(path, e.Value)
		case e.Type == bson.TypeEmbeddedDocument && operators(e.Value):
			problem = fault.BadValue("no $ expressions in $all")
		default:
			n, problem = p.parseField(path, e)
		}
		parts = append(parts, n)
		return problem == nil
	})
	if problem == nil && len(parts) == 0 {
		return any{}, nil
	}
	return parts, problem
}

func (p parser) parseElemMatch(path []string, v bson.RawValue) (node, error) {
	if v.Type != bson.TypeEmbeddedDocument {
		return nil, fault.BadValue("$elemMatch needs an Object")
	}
	var n node
	var err error
	values := operators(v.Value)
	if first, _, _ := strings.Cut(firstName(v.Value), " "); first == "$and" || first == "$or" || first == "$nor" || first == "$where" || first == "$expr" {
		values = false
	}
	if values {
		// Of an element as such: the path to it has no part.
		n, err = p.parseOperators(nil, v.Value)
	} else {
		n, err = p.parse(v.Value)
	}
	if err != nil {
		return nil, err
	}
	return elements{path, n, values}, nil
}

// elements is met by an array of which one element meets all of a node; values says
// that the node is of an element as such, and not of a document's members.
type elements struct {
	path   []string
	is     node
	values bool
}

func (m elements) matches(d bson.RawValue) bool {
	return walk(d, m.path, func(v bson.RawValue, found bool) bool {
		return found && v.Type == bson.TypeArray && m.first(v) >= 0
	})
}

// first returns the number of the first element that meets the node, -1 for none.
func (m elements) first(array bson.RawValue) int {
	at, met := 0, -1
	value.Elements(array.Value, func(_ string, e bson.RawValue) bool {
		if (m.values || e.Type == bson.TypeEmbeddedDocument || e.Type == bson.TypeArray) && m.is.matches(e) {
			met = at
		}
		at++
		return met < 0
	})
	return met
}

func firstName(document []byte) (name string) {
	value.Elements(document, func(n string, _ bson.RawValue) bool { name = n; return false })
	return name
}

func (p parser) parseMod(path []string, v bson.RawValue) (node, error) {
	var numbers []int64
	var problem error
	if v.Type != bson.TypeArray {
		return nil, fault.BadValue("malformed mod, needs to be an array")
	}
	value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
		n, ok := truncated(e)
		if !ok {
			problem = fault.BadValue("malformed mod, %s is not a number that fits into 64 bits", value.String(e))
		}
		numbers = append(numbers, n)
		return problem == nil
	})
	switch {
	case problem != nil:
		return nil, problem
	case len(numbers) < 2:
		return nil, fault.BadValue("malformed mod, not enough elements")
	case len(numbers) > 2:
		return nil, fault.BadValue("malformed mod, too many elements")
	case numbers[0] == 0:
		return nil, fault.BadValue("divisor cannot be 0")
	}
	return field{path, func(v bson.RawValue, found bool) bool {
		if !found {
			return false
		}
		n, ok := truncated(v)
		return ok && (numbers[0] == -1 && numbers[1] == 0 || numbers[0] != -1 && n%numbers[0] == numbers[1])
	}}, nil
}

// truncated returns a number without what is behind its point.
func truncated(v bson.RawValue) (int64, bool) {
	if n, ok := value.Integer(v); ok {
		return n, true
	}
	f, ok := 0.0, false
	switch v.Type {
	case bson.TypeDouble:
		f, ok = v.Double(), true
	case bson.TypeDecimal128:
		digits, exponent, err := v.Decimal128().BigInt()
		if err != nil || exponent >= 0 {
			return 0, false
		}
		ten := new(bigInt).Exp(bigTen, new(bigInt).SetInt64(int64(-exponent)), nil)
		digits.Quo(digits, ten)
		return digits.Int64(), digits.IsInt64()
	}
	f = math.Trunc(f)
	return int64(f), ok && f >= -1<<63 && f < 1<<63
}
