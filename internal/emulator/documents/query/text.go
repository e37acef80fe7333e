package query

import (
	"slices"
	"strings"
	"unicode"

	"go.mongodb.org/mongo-driver/v2/bson"
	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"

	"neighbour/internal/emulator/documents/expression"
	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// parseText reads the operator $text: words of which one must be there, "phrases" that
// all must, and -words that must not. Words are compared whole and as they are written,
// but for the size of their letters and their accents.
func (p parser) parseText(v bson.RawValue) (node, error) {
	if v.Type != bson.TypeEmbeddedDocument {
		return nil, fault.BadValue("$text expects an object")
	}
	search := ""
	var problem error
	value.Elements(v.Value, func(name string, v bson.RawValue) bool {
		switch name {
		case "$search":
			text, ok := v.StringValueOK()
			if !ok {
				problem = fault.TypeMismatch("\"$search\" had the wrong type. Expected string, found %s", value.Name(v.Type))
			}
			search = text
		case "$language":
			if text, _ := v.StringValueOK(); text != "none" {
				problem = fault.NotImplemented("$text compares words as they are written: write the $language none, or leave it out")
			}
		default:
			if expression.Truth(v) {
				problem = fault.NotImplemented("%s of $text is not here", name)
			}
		}
		return problem == nil
	})
	switch {
	case problem != nil:
		return nil, problem
	case p.Text == nil:
		return nil, &fault.Error{Code: 27, Name: "IndexNotFound", Message: "text index required for $text query"}
	case p.level > 1:
		return nil, fault.NotImplemented("$text inside of other operators is not here")
	}
	return searched{p.Text, readSearch(search)}, nil
}

// search is what is looked for in texts.
type search struct {
	words, phrases, not []string
}

func readSearch(text string) (s search) {
	for text != "" {
		if text[0] == '"' {
			if phrase, rest, closed := strings.Cut(text[1:], `"`); closed {
				s.phrases = append(s.phrases, folded(phrase))
				s.words = append(s.words, wordsOf(folded(phrase))...)
				text = rest
				continue
			}
		}
		end := strings.IndexAny(text[1:], " \t\n\"") + 1
		if end == 0 {
			end = len(text)
		}
		part := strings.TrimSpace(text[:end])
		text = text[end:]
		if not, is := strings.CutPrefix(part, "-"); is {
			s.not = append(s.not, wordsOf(folded(not))...)
		} else {
			s.words = append(s.words, wordsOf(folded(part))...)
		}
	}
	return s
}

// folded is a text without accents and large letters.
func folded(text string) string {
	out, _, err := transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC), text)
	if err != nil {
		out = text
	}
	return strings.ToLower(out)
}

func wordsOf(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' })
}

// searched is met by documents with texts at the paths in which the search finds something.
type searched struct {
	paths  [][]string
	wanted search
}

func (s searched) matches(d bson.RawValue) bool {
	var texts []string
	add := func(v bson.RawValue) {
		if text, ok := v.StringValueOK(); ok {
			texts = append(texts, folded(text))
		}
	}
	for _, path := range s.paths {
		if len(path) == 1 && path[0] == "$**" {
			everyText(d, add)
			continue
		}
		Values(d.Value, path, add)
	}
	var words []string
	for _, text := range texts {
		words = append(words, wordsOf(text)...)
	}
	for _, w := range s.wanted.not {
		if slices.Contains(words, w) {
			return false
		}
	}
	for _, phrase := range s.wanted.phrases {
		if !slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(text, phrase) }) {
			return false
		}
	}
	return slices.ContainsFunc(s.wanted.words, func(w string) bool { return slices.Contains(words, w) })
}

func everyText(v bson.RawValue, do func(bson.RawValue)) {
	do(v)
	if v.Type == bson.TypeEmbeddedDocument || v.Type == bson.TypeArray {
		value.Elements(v.Value, func(_ string, e bson.RawValue) bool { everyText(e, do); return true })
	}
}
