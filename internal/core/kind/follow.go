package kind

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/record/outbox"
)

// ErrLost is returned by a Follow whose service does not know any more what happened after the
// place; it begins anew with now.
var ErrLost = errors.New("what happened meanwhile isn't known any more")

// Message is the type of events that are messages.
const Message = "message"

// MessageEvent returns the event of a message. Its data is the message itself if that is JSON,
// else its text, or its bytes under "base64".
func MessageEvent(source, key, subject string, body []byte) outbox.Event {
	e := outbox.Event{Source: source, Key: key, Type: Message, Subject: subject}
	var err error
	switch {
	case json.Valid(body):
		e.Data = body
	case utf8.Valid(body):
		e.Data, err = json.Marshal(string(body))
	default:
		e.Data, err = json.Marshal(map[string][]byte{"base64": body})
	}
	if err != nil {
		e.Data = []byte("null")
	}
	return e
}

// EventsAtOnce is how many events are told at a time, at most.
const EventsAtOnce = 200

// Pause waits, and reports whether the context has not ended.
func Pause(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// tableEvery is how often a table is looked at if nothing else is said.
const tableEvery = 2 * time.Second

// FollowTable tells of the new rows of a table, which is asked for them again and again: those
// whose column that grows has a higher value. Quote makes a name one of the server's language.
func FollowTable(ctx context.Context, db *sql.DB, quote func(string) string, w Watch, cursor string, emit Emit) error {
	every := w.Every
	if every == 0 {
		every = tableEvery
	}
	table, key := quote(w.What), quote(w.Key)
	// The cursor is the highest value as JSON; null is that of an empty table.
	var last *string
	if cursor == "" {
		var highest sql.NullString
		if err := db.QueryRowContext(ctx, "SELECT max("+key+") FROM "+table).Scan(&highest); err != nil {
			return err
		}
		if highest.Valid {
			last = &highest.String
		}
	} else if err := json.Unmarshal([]byte(cursor), &last); err != nil {
		return fmt.Errorf("%w: %w", ErrLost, err)
	}
	if err := emit(nil, asJSON(last)); err != nil {
		return err
	}
	for {
		rows, err := readRows(ctx, db, table, key, last)
		if err != nil {
			return err
		}
		var events []outbox.Event
		for _, r := range rows {
			text := fmt.Sprint(r[w.Key])
			last = &text
			data, err := json.Marshal(r)
			if err != nil {
				return err
			}
			events = append(events, outbox.Event{Source: w.What + " " + text, Key: text, Type: "insert", Subject: w.What + " " + text, Data: data})
		}
		if len(events) > 0 {
			if err := emit(events, asJSON(last)); err != nil {
				return err
			}
		}
		if len(events) < EventsAtOnce && !Pause(ctx, every) {
			return ctx.Err()
		}
	}
}

func asJSON(v any) string {
	b, _ := json.Marshal(v) // of a text: never fails
	return string(b)
}

func readRows(ctx context.Context, db *sql.DB, table, key string, last *string) ([]map[string]any, error) {
	where, args := "", []any{}
	if last != nil {
		where, args = " WHERE "+key+" > ?", []any{*last}
	}
	rows, err := db.QueryContext(ctx, fmt.Sprintf("SELECT * FROM %s%s ORDER BY %s LIMIT %d", table, where, key, EventsAtOnce), args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out []map[string]any
	for rows.Next() {
		values, to := make([]any, len(names)), make([]any, len(names))
		for i := range values {
			to[i] = &values[i]
		}
		if err := rows.Scan(to...); err != nil {
			return nil, err
		}
		r := map[string]any{}
		for i, v := range values {
			if b, ok := v.([]byte); ok && utf8.Valid(b) {
				v = string(b)
			}
			r[names[i]] = v
		}
		out = append(out, r)
	}
	return out, rows.Err()
}
