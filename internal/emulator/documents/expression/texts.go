package expression

import (
	"regexp"
	"strings"
	"unicode/utf8"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

var textOperators = map[string]operator{
	"$concat": {0, -1, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		if someNull(a) {
			return value.Null, nil
		}
		var out strings.Builder
		for _, v := range a {
			text, ok := v.StringValueOK()
			if !ok {
				return v, &fault.Error{Code: 16702, Name: "Location16702", Message: "$concat only supports strings, not " + typeName(v)}
			}
			out.WriteString(text)
		}
		if out.Len() > value.MostBytes {
			return value.Null, fault.BadValue("the text that $concat makes is larger than %d bytes", value.MostBytes)
		}
		return value.Of(out.String()), nil
	}},
	"$toUpper": {1, 1, onText(func(text string) any { return strings.ToUpper(text) })}, "$toLower": {1, 1, onText(func(text string) any { return strings.ToLower(text) })},
	"$strLenCP": {1, 1, measured(utf8.RuneCountInString)}, "$strLenBytes": {1, 1, measured(func(text string) int { return len(text) })},
	"$substrCP": {3, 3, substring(true)}, "$substrBytes": {3, 3, substring(false)}, "$substr": {3, 3, substring(false)},
	"$split": {2, 2, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		texts, null, err := c.texts(a)
		if err != nil || null {
			return value.Null, err
		}
		if texts[1] == "" {
			return a[1], &fault.Error{Code: 40087, Name: "Location40087", Message: "$split requires a non-empty separator"}
		}
		var out []bson.RawValue
		for part := range strings.SplitSeq(texts[0], texts[1]) {
			out = append(out, value.Of(part))
		}
		return value.Array(out), nil
	}},
	"$strcasecmp": {2, 2, func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		x, errX := plainText(c, a[0])
		y, errY := plainText(c, a[1])
		if errX != nil || errY != nil {
			return value.Null, c.wrong(a[0], "texts")
		}
		return value.Of(int32(strings.Compare(strings.ToUpper(x), strings.ToUpper(y)))), nil
	}},
	"$indexOfCP":    {2, 4, func(c *call, a []bson.RawValue) (bson.RawValue, error) { return indexOf(c, a, true) }},
	"$indexOfBytes": {2, 4, func(c *call, a []bson.RawValue) (bson.RawValue, error) { return indexOf(c, a, false) }},
}

// named are operators whose arguments have names.
var named = map[string]struct {
	arguments []string
	do        func(*call, map[string]bson.RawValue) (bson.RawValue, error)
}{
	"$trim":       {[]string{"input", "chars?"}, trim(strings.Trim)},
	"$ltrim":      {[]string{"input", "chars?"}, trim(strings.TrimLeft)},
	"$rtrim":      {[]string{"input", "chars?"}, trim(strings.TrimRight)},
	"$replaceOne": {[]string{"input", "find", "replacement"}, replace(1)}, "$replaceAll": {[]string{"input", "find", "replacement"}, replace(-1)},
	"$regexMatch":   {[]string{"input", "regex", "options?"}, searched(func(found [][]int, _ string) bson.RawValue { return value.Of(len(found) > 0) })},
	"$regexFind":    {[]string{"input", "regex", "options?"}, searched(firstFound)},
	"$regexFindAll": {[]string{"input", "regex", "options?"}, searched(allFound)},
	"$dateToString": {[]string{"date", "format?", "timezone?", "onNull?"}, dateToText}, "$dateFromString": {[]string{"dateString", "format?", "timezone?", "onNull?", "onError?"}, dateFromText},
	"$dateAdd": {[]string{"startDate", "unit", "amount", "timezone?"}, dateAdd}, "$dateSubtract": {[]string{"startDate", "unit", "amount", "timezone?"}, dateAdd},
	"$dateDiff":      {[]string{"startDate", "endDate", "unit", "timezone?", "startOfWeek?"}, dateDiff},
	"$dateTrunc":     {[]string{"date", "unit", "binSize?", "timezone?", "startOfWeek?"}, dateTrunc},
	"$dateToParts":   {[]string{"date", "timezone?", "iso8601?"}, dateToParts},
	"$dateFromParts": {[]string{"year", "month?", "day?", "hour?", "minute?", "second?", "millisecond?", "timezone?"}, dateFromParts},
	"$convert":       {[]string{"input", "to", "onError?", "onNull?"}, convertWith},
}

func (p parser) named(name string, v bson.RawValue) (node, error) {
	op := named[name]
	o, err := p.options(name, v, op.arguments...)
	return func(s *scope) (bson.RawValue, error) {
		a := map[string]bson.RawValue{}
		for name, n := range o {
			v, err := n(s)
			if err != nil {
				return v, err
			}
			a[name] = v
		}
		return op.do(&call{name, p.collation}, a)
	}, err
}

// plainText is a text; null is the empty one, and numbers and dates are as they read.
func plainText(c *call, v bson.RawValue) (string, error) {
	if null(v) {
		return "", nil
	}
	if text, ok := v.StringValueOK(); ok {
		return text, nil
	}
	if value.IsNumber(v) || v.Type == bson.TypeDateTime {
		return textOf(v)
	}
	return "", c.wrong(v, "a text")
}

// texts makes sure that all arguments are texts; null is true if one is.
func (c *call) texts(a []bson.RawValue) (out []string, none bool, err error) {
	for _, v := range a {
		text, ok := v.StringValueOK()
		switch {
		case null(v):
			none = true
		case !ok:
			return nil, false, c.wrong(v, "texts")
		}
		out = append(out, text)
	}
	return out, none, nil
}

func onText(do func(string) any) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		text, err := plainText(c, a[0])
		if err != nil {
			return a[0], err
		}
		return value.Of(do(text)), nil
	}
}

func measured(size func(string) int) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		text, ok := a[0].StringValueOK()
		if !ok {
			return a[0], &fault.Error{Code: 34471, Name: "Location34471", Message: c.name + " requires a string argument, found: " + typeName(a[0])}
		}
		return value.Of(int32(size(text))), nil
	}
}

func substring(runes bool) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		text, err := plainText(c, a[0])
		from, okFrom := value.Integer(a[1])
		count, okCount := value.Integer(a[2])
		switch {
		case err != nil:
			return a[0], err
		case !okFrom || !okCount || from < 0 || runes && count < 0:
			return a[1], &fault.Error{Code: 34452, Name: "Location34452", Message: c.name + " needs whole numbers that are not negative"}
		}
		size := int64(len(text))
		letters := []rune(text)
		if runes {
			size = int64(len(letters))
		}
		from = min(from, size)
		if count < 0 || count > size-from {
			count = size - from
		}
		if runes {
			return value.Of(string(letters[from : from+count])), nil
		}
		if part := text[from : from+count]; utf8.ValidString(part) {
			return value.Of(part), nil
		}
		return a[0], &fault.Error{Code: 28656, Name: "Location28656", Message: c.name + ": the range begins or ends in the midst of a UTF-8 character"}
	}
}

func indexOf(c *call, a []bson.RawValue, runes bool) (bson.RawValue, error) {
	if null(a[0]) {
		return value.Null, nil
	}
	texts, none, err := c.texts(a[:2])
	if err != nil || none {
		return value.Null, c.wrong(a[1], "texts")
	}
	units := func(text string) int {
		if runes {
			return utf8.RuneCountInString(text)
		}
		return len(text)
	}
	bounds := []int64{0, int64(units(texts[0]))}
	for i, v := range a[2:] {
		n, ok := value.Integer(v)
		if !ok || n < 0 {
			return v, c.wrong(v, "whole numbers that are not negative")
		}
		bounds[i] = min(n, int64(units(texts[0])))
	}
	for at := 0; ; {
		i := strings.Index(texts[0][at:], texts[1])
		if i < 0 {
			return value.Of(int32(-1)), nil
		}
		at += i
		begins := int64(units(texts[0][:at]))
		switch {
		case begins+int64(units(texts[1])) > bounds[1]:
			return value.Of(int32(-1)), nil
		case begins >= bounds[0]:
			return value.Of(int32(begins)), nil
		}
		at++
	}
}

func trim(do func(text, chars string) string) func(*call, map[string]bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
		text, ok := a["input"].StringValueOK()
		chars, given := a["chars"]
		switch {
		case null(a["input"]) || given && null(chars):
			return value.Null, nil
		case !ok:
			return a["input"], c.wrong(a["input"], "a text")
		}
		cut := "\x00\t\n\v\f\r \u00a0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a"
		if given {
			if cut, ok = chars.StringValueOK(); !ok {
				return chars, c.wrong(chars, "a text of characters")
			}
		}
		return value.Of(do(text, cut)), nil
	}
}

func replace(n int) func(*call, map[string]bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
		texts, none, err := c.texts([]bson.RawValue{a["input"], a["find"], a["replacement"]})
		if err != nil || none {
			return value.Null, err
		}
		return value.Of(strings.Replace(texts[0], texts[1], texts[2], n)), nil
	}
}

// searched looks for a regular expression of RE2 in a text.
func searched(do func(found [][]int, in string) bson.RawValue) func(*call, map[string]bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
		if null(a["input"]) || null(a["regex"]) {
			return do(nil, ""), nil
		}
		text, ok := a["input"].StringValueOK()
		if !ok {
			return a["input"], c.wrong(a["input"], "a text")
		}
		pattern, options := "", ""
		switch a["regex"].Type {
		case bson.TypeRegex:
			pattern, options = a["regex"].Regex()
		case bson.TypeString:
			pattern = a["regex"].StringValue()
		default:
			return a["regex"], c.wrong(a["regex"], "a regular expression")
		}
		if o, ok := a["options"].StringValueOK(); ok {
			options += o
		}
		for _, o := range options {
			if !strings.ContainsRune("ims", o) {
				return Missing, fault.NotImplemented("the option %c of regular expressions is not here", o)
			}
		}
		if options != "" {
			pattern = "(?" + options + ")" + pattern
		}
		re, err := regexp.Compile(pattern)
		if err != nil {
			return Missing, &fault.Error{Code: 51111, Name: "Location51111", Message: "Regular expression is invalid, or has what is not here: " + err.Error()}
		}
		return do(re.FindAllStringSubmatchIndex(text, -1), text), nil
	}
}

func foundAt(at []int, in string) bson.RawValue {
	var groups []bson.RawValue
	for i := 2; i < len(at); i += 2 {
		v := value.Null
		if at[i] >= 0 {
			v = value.Of(in[at[i]:at[i+1]])
		}
		groups = append(groups, v)
	}
	return value.OfDocument(value.Document(value.Named{Name: "match", Value: value.Of(in[at[0]:at[1]])}, value.Named{Name: "idx", Value: value.Of(int32(utf8.RuneCountInString(in[:at[0]])))},
		value.Named{Name: "captures", Value: value.Array(groups)}))
}

func firstFound(found [][]int, in string) bson.RawValue {
	if len(found) == 0 {
		return value.Null
	}
	return foundAt(found[0], in)
}

func allFound(found [][]int, in string) bson.RawValue {
	var out []bson.RawValue
	for _, at := range found {
		out = append(out, foundAt(at, in))
	}
	return value.Array(out)
}
