package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Filler is implemented by sources that take items from files.
type Filler interface {
	// Fill adds items, all of them or none. With dry none is added, and all that is
	// wrong with them is told all the same.
	Fill(ctx context.Context, collection string, rows []Filling, dry bool) (Filled, error)
}

// Filling is an item that is to be added.
type Filling struct {
	Line   int // of the file, counted from 1
	Values map[string]*string
	// JSON is the item as the file has it, "" if that isn't JSON.
	JSON string
}

// Filled is what became of a filling.
type Filled struct {
	Rows int `json:"rows"` // that fit
	// Problems are what is wrong with the others, the first of them.
	Problems []FillProblem `json:"problems"`
	// Wrong is how many don't fit.
	Wrong int `json:"wrong"`
}

// FillProblem is what is wrong with a row.
type FillProblem struct {
	Line int    `json:"line"`
	Says string `json:"says"`
}

// mostFilled bounds a file of items, in bytes.
const mostFilled = 256 << 20

// ReadRows reads items of a file: objects of JSON, in a list or one after another, or
// CSV (RFC 4180) with the names in its first line, in which a field that is empty and
// not in quotes is no value. Its errors tell the line.
func ReadRows(r io.Reader) ([]Filling, error) {
	b, err := io.ReadAll(io.LimitReader(r, mostFilled+1))
	switch {
	case err != nil:
		return nil, err
	case len(b) > mostFilled:
		return nil, fmt.Errorf("it is longer than %d MB; load takes dumps of any length", mostFilled>>20)
	}
	b = bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(b) {
		at := 0
		for at < len(b) {
			c, n := utf8.DecodeRune(b[at:])
			if c == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		return nil, fmt.Errorf("line %d: it is not UTF-8", 1+bytes.Count(b[:at], []byte{'\n'}))
	}
	switch start := bytes.TrimLeft(b, " \t\r\n"); {
	case len(start) == 0:
		return nil, errors.New("it is empty")
	case start[0] == '[' || start[0] == '{':
		return readObjects(b)
	}
	return readCSV(string(b))
}

func readObjects(b []byte) ([]Filling, error) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	line := func() int {
		at := int(d.InputOffset())
		at += len(b[at:]) - len(bytes.TrimLeft(b[at:], " \t\r\n,"))
		return 1 + bytes.Count(b[:at], []byte{'\n'})
	}
	list := bytes.TrimLeft(b, " \t\r\n")[0] == '['
	if list {
		if _, err := d.Token(); err != nil {
			return nil, err
		}
	}
	var out []Filling
	for d.More() {
		at := line()
		var whole json.RawMessage
		var object map[string]any
		err := d.Decode(&whole)
		if err == nil {
			inner := json.NewDecoder(bytes.NewReader(whole))
			inner.UseNumber()
			err = inner.Decode(&object)
		}
		if err != nil {
			return nil, fmt.Errorf("line %d: an object is expected: %w", at, err)
		}
		f := Filling{at, map[string]*string{}, string(whole)}
		for name, v := range object {
			var text string
			switch v := v.(type) {
			case nil:
				f.Values[name] = nil
				continue
			case string:
				text = v
			case json.Number:
				text = v.String()
			case bool:
				text = fmt.Sprint(v)
			default:
				j, err := json.Marshal(v)
				if err != nil {
					return nil, err
				}
				text = string(j)
			}
			f.Values[name] = &text
		}
		out = append(out, f)
	}
	if list {
		if _, err := d.Token(); err != nil {
			return nil, fmt.Errorf("line %d: the list does not end: %w", line(), err)
		}
	}
	return out, nil
}

// field is a field of CSV.
type field struct {
	text   string
	quoted bool
}

func readCSV(text string) ([]Filling, error) {
	var names []string
	var out []Filling
	for line := 1; text != ""; {
		record, lines, rest, err := cutRecord(text)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		text = rest
		switch {
		case len(record) == 1 && record[0] == field{}: // an empty line
		case names == nil:
			for _, f := range record {
				names = append(names, strings.TrimSpace(f.text))
			}
		case len(record) != len(names):
			return nil, fmt.Errorf("line %d: it has %d fields, and there are %d names", line, len(record), len(names))
		default:
			f := Filling{Line: line, Values: map[string]*string{}}
			for i, v := range record {
				f.Values[names[i]] = nil
				if v.text != "" || v.quoted {
					f.Values[names[i]] = &v.text
				}
			}
			out = append(out, f)
		}
		line += lines
	}
	return out, nil
}

// cutRecord cuts the first record off, which may be several lines.
func cutRecord(text string) (record []field, lines int, rest string, err error) {
	for {
		var f field
		if strings.HasPrefix(text, `"`) {
			f.quoted = true
			text = text[1:]
			for {
				i := strings.IndexByte(text, '"')
				if i < 0 {
					return nil, 0, "", errors.New("a double quote is not closed")
				}
				f.text += text[:i]
				if text = text[i+1:]; !strings.HasPrefix(text, `"`) {
					break
				}
				f.text += `"`
				text = text[1:]
			}
			lines += strings.Count(f.text, "\n")
		} else {
			i := strings.IndexAny(text, ",\n")
			if i < 0 {
				i = len(text)
			}
			f.text, text = strings.TrimSuffix(text[:i], "\r"), text[i:]
		}
		record = append(record, f)
		text = strings.TrimPrefix(text, "\r")
		switch {
		case text == "":
			return record, lines + 1, "", nil
		case text[0] == '\n':
			return record, lines + 1, text[1:], nil
		case text[0] != ',':
			return nil, 0, "", errors.New("after what is in double quotes a comma is expected")
		}
		text = text[1:]
	}
}
