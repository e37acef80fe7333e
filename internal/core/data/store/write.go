package store

import (
	"bufio"
	"errors"
	"io"
	"strings"

	"neighbour/internal/core/machine/lazyregexp"
)

// CSV writes rows as RFC 4180 has them, their names first if so asked: no value is
// nothing, and an empty text is two double quotes, so that the two are told apart.
type CSV struct {
	// Bare leaves the names out.
	Bare bool
}

// Write writes rows.
func (c CSV) Write(w io.Writer, columns []Column, rows []Row) error {
	b := bufio.NewWriter(w)
	if !c.Bare {
		for i, col := range columns {
			comma(b, i)
			b.WriteString(quoted(col.Name))
		}
		b.WriteByte('\n')
	}
	for _, r := range rows {
		for i, v := range r.Values {
			comma(b, i)
			if v.Is != Null {
				b.WriteString(quoted(v.Text))
			}
		}
		b.WriteByte('\n')
	}
	return b.Flush()
}

func comma(b *bufio.Writer, i int) {
	if i > 0 {
		b.WriteByte(',')
	}
}

func quoted(field string) string {
	if field == "" || strings.ContainsAny(field, ",\"\r\n") || strings.TrimSpace(field) != field {
		return `"` + strings.ReplaceAll(field, `"`, `""`) + `"`
	}
	return field
}

// WriteObjects writes a JSON object for each row, in a line of its own.
func WriteObjects(w io.Writer, columns []Column, rows []Row) error {
	b := bufio.NewWriter(w)
	for _, r := range rows {
		o, err := Object(columns, r.Values)
		if r.Whole != "" {
			o, err = []byte(r.Whole), nil
		}
		if err != nil {
			return err
		}
		b.Write(o)
		b.WriteByte('\n')
	}
	return b.Flush()
}

// bareNumber is a number that is the same in every dialect of SQL.
var bareNumber = lazyregexp.New(`^-?\d+(\.\d+)?([eE][+-]?\d+)?$`)

// WriteInserts writes a statement for each row of a page that inserts it, in the
// dialect of the server that it is from.
func WriteInserts(w io.Writer, p Page) error {
	if p.Inserts == nil {
		return errors.New("only the rows of a table can be written as SQL")
	}
	b := bufio.NewWriter(w)
	for _, r := range p.Rows {
		b.WriteString(p.Inserts.Into)
		for n, i := range p.Inserts.Values {
			b.WriteString([]string{" (", ", "}[min(n, 1)])
			b.WriteString(p.Inserts.literal(r.Values[i]))
		}
		b.WriteString(");\n")
	}
	return b.Flush()
}

func (s *Inserts) literal(v Value) string {
	switch {
	case v.Is == Null:
		return "NULL"
	case v.Is == Binary:
		return strings.Replace(s.Hex, "%s", v.Text, 1)
	case v.Is == Number && strings.TrimLeft(v.Text, "+-") == "Inf": // SQLite's
		return strings.TrimSuffix(strings.TrimPrefix(v.Text, "+"), "Inf") + "9e999"
	case (v.Is == Number || v.Is == Truth) && bareNumber.MatchString(v.Text):
		return v.Text
	}
	text := strings.ReplaceAll(v.Text, "'", "''")
	if s.Backslashes {
		text = strings.ReplaceAll(text, `\`, `\\`)
	}
	return "'" + text + "'"
}

// CutValues returns how many values of rows are not whole.
func CutValues(rows []Row) int {
	n := 0
	for _, r := range rows {
		for _, v := range r.Values {
			if v.Cut {
				n++
			}
		}
	}
	return n
}
