package objects

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// The types of changes.
const (
	Put    = "put"
	Delete = "delete"
)

// Changed is an object that was put or deleted.
type Changed struct {
	ID     int64     `json:"id"`
	Bucket string    `json:"bucket"`
	Key    string    `json:"key"`
	Change string    `json:"change"`
	Size   int64     `json:"size"`
	ETag   string    `json:"etag,omitempty"`
	At     time.Time `json:"at"`
}

// changesSchema notes changes in the transactions that make them. They are noted only once
// somebody has asked for them, and the oldest are forgotten.
const changesSchema = `
CREATE TABLE IF NOT EXISTS changes (id INTEGER PRIMARY KEY AUTOINCREMENT, bucket TEXT NOT NULL, key BLOB NOT NULL, change TEXT NOT NULL, size INTEGER NOT NULL, etag TEXT NOT NULL, at INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS watched (at INTEGER NOT NULL);
CREATE TRIGGER IF NOT EXISTS change_put AFTER INSERT ON objects WHEN NEW.latest AND NOT NEW.deleted AND EXISTS (SELECT 1 FROM watched) BEGIN
	INSERT INTO changes (bucket, key, change, size, etag, at) VALUES (NEW.bucket, NEW.key, 'put', NEW.size, NEW.etag, NEW.at);
END;
CREATE TRIGGER IF NOT EXISTS change_mark AFTER INSERT ON objects WHEN NEW.latest AND NEW.deleted AND EXISTS (SELECT 1 FROM watched) BEGIN
	INSERT INTO changes (bucket, key, change, size, etag, at) VALUES (NEW.bucket, NEW.key, 'delete', 0, '', NEW.at);
END;
CREATE TRIGGER IF NOT EXISTS change_delete AFTER DELETE ON objects WHEN OLD.latest AND NOT OLD.deleted AND EXISTS (SELECT 1 FROM watched) BEGIN
	INSERT INTO changes (bucket, key, change, size, etag, at) VALUES (OLD.bucket, OLD.key, 'delete', 0, '', CAST((julianday('now') - 2440587.5) * 86400000 AS INTEGER));
END;
CREATE TRIGGER IF NOT EXISTS change_forget AFTER INSERT ON changes WHEN NEW.id % 1000 = 0 BEGIN
	DELETE FROM changes WHERE id <= NEW.id - 100000;
END;
`

// mostChanges is how many changes are told at a time.
const mostChanges = 500

// Changes returns what was changed after a number, and the number of the latest that was looked
// at; -1 asks for that alone.
func (s *Store) Changes(ctx context.Context, after int64) (all []Changed, next int64, err error) {
	if after < 0 {
		if _, err := s.db.ExecContext(ctx, "INSERT INTO watched SELECT 0 WHERE NOT EXISTS (SELECT 1 FROM watched)"); err != nil {
			return nil, 0, err
		}
		err = s.db.QueryRowContext(ctx, "SELECT coalesce(max(seq), 0) FROM sqlite_sequence WHERE name = 'changes'").Scan(&next)
		return nil, next, err
	}
	rows, err := s.db.QueryContext(ctx, "SELECT id, bucket, key, change, size, etag, at FROM changes WHERE id > ? ORDER BY id LIMIT ?", after, mostChanges)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	next = after
	for rows.Next() {
		var c Changed
		var key []byte
		var at int64
		if err := rows.Scan(&c.ID, &c.Bucket, &key, &c.Change, &c.Size, &c.ETag, &at); err != nil {
			return nil, 0, err
		}
		c.Key, c.At, next = string(key), time.UnixMilli(at), c.ID
		all = append(all, c)
	}
	if err := rows.Err(); err != nil || len(all) > 0 {
		return all, next, err
	}
	// What was emptied begins at the first number again.
	var last int64
	err = s.db.QueryRowContext(ctx, "SELECT coalesce(max(seq), 0) FROM sqlite_sequence WHERE name = 'changes'").Scan(&last)
	return nil, min(next, last), err
}

// changesPath is where Neighbour's own client asks what was changed.
const changesPath = "/-/changes"

const (
	// changesWait is how long an answer waits for a change, changesEvery how often one is
	// looked for.
	changesWait  = 10 * time.Second
	changesEvery = 25 * time.Millisecond
)

type changed struct {
	Changes []Changed `json:"changes"`
	Next    int64     `json:"next"`
}

func (s *Server) tellChanges(q *request) error {
	if err := s.may(q, false); err != nil {
		return err
	}
	after, err := strconv.ParseInt(q.query.Get("after"), 10, 64)
	if err != nil {
		return invalid("after is a number")
	}
	tick := time.NewTicker(changesEvery)
	defer tick.Stop()
	var out changed
	began := time.Now()
	for looked := int64(0); ; {
		if out.Changes, out.Next, err = s.Store.Changes(q.Context(), after); err != nil {
			return err
		}
		if after < 0 || len(out.Changes) > 0 || out.Next != after || time.Since(began) > changesWait {
			break
		}
		// The file is asked again once something was begun, and for a while after that.
		for n := 0; ; n++ {
			select {
			case <-tick.C:
			case <-q.Context().Done():
				return q.Context().Err()
			}
			if now := s.Store.changes.Load(); now != looked || n == 40 {
				if n > 0 {
					looked = now
				}
				break
			}
		}
	}
	q.w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(q.w).Encode(out)
}

// Changes asks what was changed after a number, and waits a while for that. It returns the
// number to ask after next; -1 asks for that alone.
func (c *Client) Changes(ctx context.Context, after int64) ([]Changed, int64, error) {
	var out changed
	answer, err := c.do(ctx, http.MethodGet, "-", "changes", url.Values{"after": {strconv.FormatInt(after, 10)}}, nil, 0, nil)
	if err != nil {
		return nil, 0, err
	}
	defer answer.Body.Close()
	err = json.NewDecoder(answer.Body).Decode(&out)
	return out.Changes, out.Next, err
}
