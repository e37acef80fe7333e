// Package store says how one looks into what a service holds: its collections
// (tables, queues, prefixes of keys), the items of one, and one item whole. A
// kind of service gives a Source; whoever shows it knows no kind.
//
// The values are texts as the server itself writes them, and nothing is read
// that isn't asked for: an item's values are cut in the server, and a page
// begins after a place, wherever in the collection that is.
package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Source looks into one service. Its methods may be called at the same time; it
// has at most two connections. When a context ends, the server is told to stop.
type Source interface {
	// Collections lists what there is, those of a group together.
	Collections(ctx context.Context) ([]Collection, error)
	// Items returns a page of a collection's items. Its error is a *GoneError if
	// there is no such collection.
	Items(ctx context.Context, q Query) (Page, error)
	// Item returns an item whole, its values cut only at ValueLimit. Its error is a
	// *GoneError if it isn't there any more.
	Item(ctx context.Context, collection, key string) (Item, error)
	// Close ends the connections.
	Close() error
}

// Asker is implemented by sources whose server has a language to ask in.
type Asker interface {
	// Language is its name: "SQL".
	Language() string
	// Ask has the server carry out a statement. Unless it may write, it is carried
	// out so that it can't; one that would is a *WritesError.
	Ask(ctx context.Context, q Question) (Page, error)
}

// Actor is implemented by sources whose items can be changed.
type Actor interface {
	// Actions lists what can be done with a collection, key being "", or with an
	// item of it.
	Actions(ctx context.Context, collection, key string) ([]Action, error)
	// Plan says what an act would do: the statement, and what would be lost.
	Plan(ctx context.Context, a Act) (Plan, error)
	// Do carries it out, wholly or not at all, and says what was done.
	Do(ctx context.Context, a Act) (string, error)
}

// Describer is implemented by sources that know how their collections are made.
type Describer interface {
	// Describe lists the parts of a collection: columns, indexes, foreign keys.
	Describe(ctx context.Context, collection string) (Page, error)
}

// The actions that most sources have.
const (
	Change = "change"
	Insert = "insert"
	Delete = "delete"
	Clear  = "clear"
	// See notes that somebody has seen an item that was new.
	See = "see"
)

// Collection is something that holds items.
type Collection struct {
	// Name is its address in the service, as Join makes it.
	Name string `json:"name"`
	// Group is the heading that it stands under, "" for none, and Title its name
	// there.
	Group string `json:"group"`
	Title string `json:"title"`
	// Is says what it is: "table", "view", "queue".
	Is string `json:"is"`
	// Count is how many items there are, -1 if that isn't known. About says that
	// it is estimated.
	Count int64 `json:"count"`
	About bool  `json:"about"`
	// Bytes is how much room it takes, -1 if that isn't known.
	Bytes int64 `json:"bytes"`
	// New is how many of the items nobody has seen.
	New int `json:"new"`
	// Note is what else there is to say.
	Note string `json:"note"`
	// Can are the usual actions that it and its items have.
	Can []string `json:"can"`
}

// Form is of what sort a value is.
type Form string

// The forms of values.
const (
	Text   Form = "text"
	Null   Form = "null"
	Number Form = "number"
	Truth  Form = "truth"
	Time   Form = "time"
	JSON   Form = "json"
	Binary Form = "binary" // Text has hexadecimal digits
)

// Value is one value of an item.
type Value struct {
	Text string `json:"text"`
	Is   Form   `json:"is"`
	// Cut says that there is more of it.
	Cut bool `json:"cut,omitempty"`
}

// NullValue is no value.
var NullValue = Value{Is: Null}

// Column describes the values in one place of all items.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"` // as the server calls it
	Is   Form   `json:"is"`
	// Key says that it is a part of what tells an item from all others.
	Key bool `json:"key,omitempty"`
	// Leads is the collection to which the column's values lead, "" for none.
	Leads string `json:"leads,omitempty"`
	// Must says that there is no item without a value.
	Must bool `json:"must,omitempty"`
}

// Row is an item as a list shows it.
type Row struct {
	// Key tells it from all others; "" if there is nothing that does.
	Key    string  `json:"key"`
	Values []Value `json:"values"`
	// New says that nobody has seen it.
	New bool `json:"new,omitempty"`
	// Whole is the item in JSON with all of its types, where the source has a form of
	// JSON for that, and its values are asked for whole.
	Whole string `json:"whole,omitempty"`
}

// Query asks for a page of items.
type Query struct {
	Collection string `json:"collection"`
	// Where is a condition in the server's language, or words that an item must
	// contain; "" for all items.
	Where string `json:"where"`
	// After is the Next of the page before the one that is wanted; with Back, the
	// Prev of the page after it. "" for the beginning, or the end.
	After string `json:"after"`
	Back  bool   `json:"back"`
	// Limit is how many are wanted at most.
	Limit int `json:"limit"`
	// Wide is how many characters of a value are wanted at most; 0: ListWidth.
	Wide int `json:"wide"`
}

// Question is a statement in a server's own language.
type Question struct {
	Statement string `json:"statement"`
	// Write lets it change data.
	Write bool `json:"write"`
	// Limit is how many rows of the answer are wanted at most; 0: 500.
	Limit int `json:"limit"`
	// Wide is how many characters of a value are wanted at most; 0: AskWidth.
	Wide int `json:"wide"`
}

// Bounded returns the question with its limits as they hold.
func (q Question) Bounded() Question {
	if q.Limit < 1 {
		q.Limit = 500
	}
	if q.Wide < 1 {
		q.Wide = AskWidth
	}
	q.Limit, q.Wide = min(q.Limit, PageLimit), min(q.Wide, ValueLimit)
	return q
}

// Page is some of a collection's items, or what the server answers to a question.
type Page struct {
	Columns []Column `json:"columns"`
	Rows    []Row    `json:"rows"`
	// More says that there are more in the direction of the query.
	More bool `json:"more"`
	// Next and Prev are the places to go on from, after the page and before it; ""
	// where one can't.
	Next string `json:"next"`
	Prev string `json:"prev"`
	// Order says how they are ordered: "by id".
	Order string `json:"order"`
	// Where says in words which items these are, "" for all.
	Where string `json:"where"`
	// Fixed says why nothing of it can be changed, "" if it can.
	Fixed string `json:"fixed"`
	// Says is what the server says beside the rows: "3 rows changed".
	Says string `json:"says"`
	// Still says that looking again is not free, so that it is not done unasked.
	Still bool `json:"still"`
	// Inserts says how the rows are written as statements; nil: not at all.
	Inserts *Inserts `json:"inserts,omitempty"`
	// Took is how long the server took, in milliseconds.
	Took float64 `json:"took_ms"`
}

// Inserts says how rows are written as statements that insert them.
type Inserts struct {
	// Into is their beginning, before the values, and Values are the places of
	// those that are given.
	Into   string `json:"into"`
	Values []int  `json:"values"`
	// Backslashes says that those in a text are to be doubled; Hex is a binary value,
	// with %s for its digits.
	Backslashes bool   `json:"backslashes"`
	Hex         string `json:"hex"`
}

// Item is an item whole.
type Item struct {
	Collection string `json:"collection"`
	Key        string `json:"key"`
	// Says is what it is called, "" for its key.
	Says   string  `json:"says"`
	Fields []Field `json:"fields"`
	Fixed  string  `json:"fixed"`
	// Notes are what else there is to say of it.
	Notes []string `json:"notes"`
}

// Field is a value of an item, with its column.
type Field struct {
	Column Column `json:"column"`
	Value  Value  `json:"value"`
	// To is the item that it leads to: its address and what it is called; nil for
	// none.
	To *Link `json:"to,omitempty"`
}

// Link leads to items of a collection.
type Link struct {
	Collection string `json:"collection"`
	Key        string `json:"key"`
	Says       string `json:"says"`
}

// Action is something that can be done with an item or a collection.
type Action struct {
	Name string `json:"name"`
	// Says is what it does: "take it out of the queue".
	Says string `json:"says"`
	// Inputs are what it needs to know.
	Inputs []Input `json:"inputs"`
}

// Input is what an action needs to know.
type Input struct {
	Name string `json:"name"`
	Hint string `json:"hint"`
	// Value is what it is to begin with; Null says that there is none.
	Value string `json:"value"`
	Null  bool   `json:"null"`
}

// Act is an action with what it is done to.
type Act struct {
	Collection string `json:"collection"`
	Key        string `json:"key"`
	Action     string `json:"action"`
	// Where makes Clear delete only the items that a Query with it has.
	Where string `json:"where,omitempty"`
	// Values are the inputs by their names; those that are nil are null.
	Values map[string]*string `json:"values"`
}

// Plan is what an act would do.
type Plan struct {
	// Statement is what the server is told, in its language.
	Statement string `json:"statement"`
	// Loses says what would be gone for good, "" for nothing.
	Loses string `json:"loses"`
}

// Limits of what is read.
const (
	// ListWidth is how many characters of a value a list has.
	ListWidth = 120
	// AskWidth is how many characters of a value the answer to a question has.
	AskWidth = 1200
	// ValueLimit is how many characters of a value an item has.
	ValueLimit = 1 << 20
	// PageLimit is how many items a page has at most.
	PageLimit = 1000
)

// GoneError says that something isn't there, or not any more.
type GoneError struct{ What string }

func (e *GoneError) Error() string { return e.What + " is not there" }

// WritesError says that a statement would write, and was not carried out.
type WritesError struct{ Statement string }

func (e *WritesError) Error() string { return "this would change data, and was not carried out" }

// AnswerError is a server's refusal.
type AnswerError struct {
	Message string
	// At is the place in the statement, in characters counted from 1; 0 if it
	// isn't known.
	At int
}

func (e *AnswerError) Error() string { return e.Message }

// FixedError says why something can't be changed.
type FixedError struct{ Why string }

func (e *FixedError) Error() string { return e.Why }

// ErrNoAction says that there is no such action.
var ErrNoAction = errors.New("this can't be done here")

// Join makes an address of its parts: they are divided by dots, and stand in
// double quotes where that is needed to tell them apart.
func Join(parts ...string) string {
	out := make([]string, len(parts))
	for i, p := range parts {
		if p == "" || strings.ContainsAny(p, ".\" \t\n") {
			p = `"` + strings.ReplaceAll(p, `"`, `""`) + `"`
		}
		out[i] = p
	}
	return strings.Join(out, ".")
}

// Split is Join's inverse.
func Split(address string) ([]string, error) {
	var parts []string
	for rest := address; ; {
		var part string
		if after, quoted := strings.CutPrefix(rest, `"`); quoted {
			var b strings.Builder
			for {
				before, more, closed := strings.Cut(after, `"`)
				if !closed {
					return nil, fmt.Errorf("%s: a double quote is not closed", address)
				}
				b.WriteString(before)
				if after, quoted = strings.CutPrefix(more, `"`); !quoted {
					rest = more
					break
				}
				b.WriteByte('"')
			}
			part = b.String()
			if rest != "" && rest[0] != '.' {
				return nil, fmt.Errorf("%s: a dot must follow what is in double quotes", address)
			}
		} else if i := strings.IndexByte(rest, '.'); i >= 0 {
			part, rest = rest[:i], rest[i:]
		} else {
			part, rest = rest, ""
		}
		parts = append(parts, part)
		if rest == "" {
			return parts, nil
		}
		rest = rest[1:]
	}
}
