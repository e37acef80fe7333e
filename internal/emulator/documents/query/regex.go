package query

import (
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
	"regexp"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// parseRegexWith reads the operator, whose options may stand beside it.
func (p parser) parseRegexWith(path []string, v bson.RawValue, beside []byte) (node, error) {
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
	return p.parseRegex(path, pattern, options, bson.RawValue{})
}

// parseRegex is met by texts that an expression finds something in, and by the
// expression itself. Expressions are those of RE2, which has most of what is used.
func (p parser) parseRegex(path []string, pattern, options string, self bson.RawValue) (node, error) {
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
