package outbox

import (
	"database/sql"
	"errors"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// Summary is how a sender is doing.
type Summary struct {
	Waiting, Aside, Done int
	Paused               string
	Last                 time.Time // when something was sent last; zero: never
	Problem              string    // of what waits first
	Full                 bool      // nothing is added until something was sent or dropped
}

// Summary says how a sender is doing.
func (b *Box) Summary(name string) (Summary, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s, err := b.of(name)
	if err != nil {
		return Summary{}, err
	}
	sum := Summary{Paused: s.paused, Full: b.full(s)}
	rows, err := b.db.Query("SELECT state, count(*), max(began) FROM event WHERE sender = ? GROUP BY state", name)
	if err != nil {
		return sum, err
	}
	defer rows.Close()
	for rows.Next() {
		var state State
		var n int
		var began int64
		if err := rows.Scan(&state, &n, &began); err != nil {
			return sum, err
		}
		switch state {
		case Waiting:
			sum.Waiting = n
		case Aside:
			sum.Aside = n
		case Done:
			sum.Done = n
		}
		if began > 0 && time.UnixMicro(began).After(sum.Last) {
			sum.Last = time.UnixMicro(began)
		}
	}
	if err := rows.Err(); err != nil || sum.Waiting == 0 {
		return sum, err
	}
	err = b.db.QueryRow("SELECT problem FROM event WHERE sender = ? AND state = ? ORDER BY id LIMIT 1", name, Waiting).Scan(&sum.Problem)
	return sum, err
}

// columns are those of a delivery, but for what can be large.
const columns = "id, sender, coalesce(source, ''), key, type, subject, at, state, tries, due, began, took, who, status, problem, coalesce(length(data), 0), coalesce(length(answer), 0), "

const (
	whole   = columns + "data, answer, request"
	without = columns + "NULL, NULL, NULL"
)

type row interface{ Scan(...any) error }

func scan(r row) (Delivery, error) {
	var d Delivery
	var at, due, began, took int64
	var data []byte
	err := r.Scan(&d.ID, &d.Sender, &d.Source, &d.Key, &d.Type, &d.Subject, &at, &d.State, &d.Tries, &due, &began, &took, &d.By, &d.Status, &d.Problem, &d.DataSize, &d.AnswerSize, &data, &d.Answer, &d.Request)
	d.At, d.Due, d.Took, d.Data = time.UnixMilli(at), time.UnixMilli(due), time.Duration(took)*time.Microsecond, data
	if began > 0 {
		d.Began = time.UnixMicro(began)
	}
	return d, err
}

// Get returns an event. Its error is ErrNone if there is none of this number.
func (b *Box) Get(id int64) (Delivery, error) {
	d, err := scan(b.db.QueryRow("SELECT "+whole+" FROM event WHERE id = ?", id))
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return d, err
}

// List returns the latest events of a sender, of all for "", the newest first and without their
// data and answers: those that were put aside, or with all also the others, n at most, those before the number before if that
// isn't 0.
func (b *Box) List(name string, all bool, before int64, n int) ([]Delivery, error) {
	query, args := "SELECT "+without+" FROM event WHERE 1", []any{}
	if name != "" {
		query, args = query+" AND sender = ?", append(args, name)
	}
	if !all {
		query, args = query+" AND state = ?", append(args, Aside)
	}
	if before > 0 {
		query, args = query+" AND id < ?", append(args, before)
	}
	rows, err := b.db.Query(query+" ORDER BY id DESC LIMIT ?", append(args, n)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Delivery
	for rows.Next() {
		d, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, rows.Err()
}
