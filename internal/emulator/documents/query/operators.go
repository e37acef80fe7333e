package query

import (
	"math"
	"regexp"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

func parseIn(path []string, name string, v bson.RawValue) (node, error) {
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
			n, problem = parseRegex(path, pattern, options, e)
			out = append(out, n)
		case e.Type == bson.TypeEmbeddedDocument && operators(e.Value):
			problem = fault.BadValue("cannot nest $ under %s", name)
		case isNull(e):
			null = true
		default:
			keys[string(value.Key(e))] = true
		}
		return problem == nil
	})
	return append(out, field{path, func(v bson.RawValue, found bool) bool {
		if !found || isNull(v) {
			return null
		}
		return keys[string(value.Key(v))]
	}}), problem
}

func parseNot(path []string, v bson.RawValue, level int) (node, error) {
	switch {
	case v.Type == bson.TypeRegex:
		pattern, options := v.Regex()
		n, err := parseRegex(path, pattern, options, v)
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
	n, err := parseOperators(path, v.Value, level+1)
	return none{n}, err
}

func parseSize(path []string, v bson.RawValue) (node, error) {
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

func parseAll(path []string, v bson.RawValue, level int) (node, error) {
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
			n, problem = parseOperators(path, e.Value, level+1)
		case e.Type == bson.TypeEmbeddedDocument && operators(e.Value):
			problem = fault.BadValue("no $ expressions in $all")
		default:
			n, problem = parseField(path, e, level+1)
		}
		parts = append(parts, n)
		return problem == nil
	})
	if problem == nil && len(parts) == 0 {
		return any{}, nil
	}
	return parts, problem
}

func parseElemMatch(path []string, v bson.RawValue, level int) (node, error) {
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
		n, err = parseOperators(nil, v.Value, level+1)
	} else {
		n, err = parse(v.Value, level+1)
	}
	if err != nil {
		return nil, err
	}
	return whole{path, func(v bson.RawValue, found bool) bool {
		if !found || v.Type != bson.TypeArray {
			return false
		}
		met := false
		value.Elements(v.Value, func(_ string, e bson.RawValue) bool {
			if !values && e.Type != bson.TypeEmbeddedDocument && e.Type != bson.TypeArray {
				return true
			}
			met = n.matches(e)
			return !met
		})
		return met
	}}, nil
}

func firstName(document []byte) (name string) {
	value.Elements(document, func(n string, _ bson.RawValue) bool { name = n; return false })
	return name
}

func parseMod(path []string, v bson.RawValue) (node, error) {
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

// parseRegexWith reads the operator, whose options may stand beside it.
func parseRegexWith(path []string, v bson.RawValue, beside []byte) (node, error) {
	pattern, options := "", ""
	switch v.Type {
	case bson.TypeString:
		pattern = v.StringValue()
	case bson.TypeRegex:
		pattern, options = v.Regex()
	default:
		return nil, fault.BadValue("$regex has to be a string")
	}
	if o, ok := value.Member(beside, "$options"); ok {
		if o.Type != bson.TypeString {
			return nil, fault.BadValue("$options has to be a string")
		}
		if options != "" && o.StringValue() != "" {
			return nil, &fault.Error{Code: 51074, Name: "Location51074", Message: "options set in both $regex and $options"}
		}
		options += o.StringValue()
	}
	return parseRegex(path, pattern, options, bson.RawValue{})
}

// parseRegex is met by texts that an expression finds something in, and by the
// expression itself. Expressions are those of RE2, which has most of what is used.
func parseRegex(path []string, pattern, options string, self bson.RawValue) (node, error) {
	flags := ""
	for _, o := range options {
		switch o {
		case 'i', 'm', 's':
			flags += string(o)
		case 'u': // texts are UTF-8
		case 'x':
			return nil, fault.NotImplemented("the option x of regular expressions is not here")
		default:
			return nil, &fault.Error{Code: 51108, Name: "Location51108", Message: "invalid flag in regex options: " + string(o)}
		}
	}
	if flags != "" {
		flags = "(?" + flags + ")"
	}
	re, err := regexp.Compile(flags + pattern)
	if err != nil {
		return nil, &fault.Error{Code: 51091, Name: "Location51091", Message: "Regular expression is invalid, or has what is not here: " + err.Error()}
	}
	return field{path, func(v bson.RawValue, found bool) bool {
		switch {
		case !found:
			return false
		case v.Type == bson.TypeString, v.Type == bson.TypeSymbol:
			return re.Match(v.Value[4 : len(v.Value)-1])
		}
		return v.Type == bson.TypeRegex && self.Type == bson.TypeRegex && value.Equal(v, self)
	}}, nil
}
