package store

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Line is a value as a line of at most so many characters has it: no value is ∅,
// line ends are shown as ⏎, and what is cut ends in an ellipsis.
func (v Value) Line(most int) string {
	if v.Is == Null {
		return "∅"
	}
	text := v.Text
	if v.Is == Binary {
		text = "0x" + text
	}
	text = strings.NewReplacer("\r\n", "⏎", "\n", "⏎", "\t", " ").Replace(text)
	cut := v.Cut
	if utf8.RuneCountInString(text) > most {
		text = string([]rune(text)[:most])
		cut = true
	}
	text = clean(text)
	if cut {
		text += "…"
	}
	return text
}

// clean takes away what a terminal would act on.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == utf8.RuneError {
			return '�'
		}
		return r
	}, text)
}

// Object writes a row as a JSON object (RFC 8259), its names in the order of the
// columns: numbers and truths as such where JSON has them, JSON as it is.
func Object(columns []Column, values []Value) ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, c := range columns {
		if i > 0 {
			b.WriteByte(',')
		}
		name, err := json.Marshal(c.Name)
		if err != nil {
			return nil, err
		}
		b.Write(name)
		b.WriteByte(':')
		b.Write(values[i].json())
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

func (v Value) json() []byte {
	switch {
	case v.Is == Null:
		return []byte("null")
	case (v.Is == Number || v.Is == JSON) && !v.Cut && json.Valid([]byte(v.Text)):
		var b bytes.Buffer
		if json.Compact(&b, []byte(v.Text)) == nil {
			return b.Bytes()
		}
	case v.Is == Truth:
		switch strings.ToLower(v.Text) {
		case "t", "true", "1":
			return []byte("true")
		case "f", "false", "0":
			return []byte("false")
		}
	}
	out, _ := json.Marshal(v.Text)
	return out
}

// KeyOf makes a key of what somebody wrote: a JSON list is one already, and a
// single text stands for a list of itself.
func KeyOf(text string) string {
	var parts []string
	if json.Unmarshal([]byte(text), &parts) == nil {
		return text
	}
	b, _ := json.Marshal([]string{text})
	return string(b)
}

// Indent writes JSON with an entry in a line; what is no JSON stays as it is.
func Indent(text string) string {
	var b bytes.Buffer
	if json.Indent(&b, []byte(text), "", "  ") != nil {
		return text
	}
	return b.String()
}

// TextOf makes a value of bytes that a server holds, cut to so many characters:
// JSON is told as such, and what is no UTF-8 is shown in hexadecimal. Bytes that may
// end in the midst of a character must be at least as many as the characters.
func TextOf(text string, wide int) Value {
	v := Value{Text: strings.ToValidUTF8(text, ""), Is: Text}
	if !utf8.ValidString(text) && (len(text) < wide || !validBeginning(text)) {
		v = Value{Text: hex.EncodeToString([]byte(text)), Is: Binary}
	} else if len(text) > 1 && (text[0] == '{' || text[0] == '[') && json.Valid([]byte(text)) {
		v.Is = JSON
	}
	if r := []rune(v.Text); len(r) > wide {
		v.Text, v.Cut = string(r[:wide]), true
	}
	return v
}

// validBeginning reports whether bytes are UTF-8, but for a character that may be
// cut at the end.
func validBeginning(text string) bool {
	for i := range min(4, len(text)+1) {
		if utf8.ValidString(text[:len(text)-i]) {
			return true
		}
	}
	return false
}

// KeyFor makes the key of an item that a server knows by one text, which need not be
// UTF-8: a list of the text, or of "hex" and its bytes.
func KeyFor(text string) string {
	parts := []string{text}
	if !utf8.ValidString(text) {
		parts = []string{"hex", hex.EncodeToString([]byte(text))}
	}
	b, _ := json.Marshal(parts)
	return string(b)
}

// TextOfKey is KeyFor's inverse.
func TextOfKey(key string) (string, error) {
	var parts []string
	if json.Unmarshal([]byte(key), &parts) == nil {
		if len(parts) == 1 {
			return parts[0], nil
		}
		if len(parts) == 2 && parts[0] == "hex" {
			if b, err := hex.DecodeString(parts[1]); err == nil {
				return string(b), nil
			}
		}
	}
	return "", fmt.Errorf("%s is not a key here: write a JSON list of the key", key)
}

// Given returns an input of an act, or what it is without.
func (a Act) Given(name, or string) string {
	if v, given := a.Values[name]; given && v != nil {
		return *v
	}
	return or
}
