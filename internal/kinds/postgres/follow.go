package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/record/outbox"
)

// changes are the types of events.
var changes = []string{"insert", "update", "delete"}

// followSetUp makes the table into which the changes of watched tables are written, in the
// transactions that make them, as long as somebody asks for them.
const followSetUp = `
CREATE SCHEMA IF NOT EXISTS neighbour;
CREATE TABLE IF NOT EXISTS neighbour.watched (trigger text PRIMARY KEY, seen timestamptz NOT NULL);
CREATE TABLE IF NOT EXISTS neighbour.change (id bigserial PRIMARY KEY, trigger text NOT NULL, at timestamptz NOT NULL DEFAULT clock_timestamp(), change text NOT NULL, key text NOT NULL, row jsonb, old jsonb);
CREATE OR REPLACE FUNCTION neighbour.tell() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog AS $$
DECLARE
	is_row jsonb; was_row jsonb; about text := '';
BEGIN
	PERFORM 1 FROM neighbour.watched WHERE trigger = TG_ARGV[0] AND seen > now() - interval '7 days';
	IF NOT FOUND THEN RETURN NULL; END IF;
	IF TG_OP <> 'DELETE' THEN is_row := to_jsonb(NEW); END IF;
	IF TG_OP <> 'INSERT' THEN was_row := to_jsonb(OLD); END IF;
	FOR i IN 1 .. TG_NARGS - 1 LOOP
		about := about || CASE WHEN i > 1 THEN ',' ELSE '' END || coalesce(coalesce(is_row, was_row) ->> TG_ARGV[i], '');
	END LOOP;
	INSERT INTO neighbour.change (trigger, change, key, row, old) VALUES (TG_ARGV[0], lower(TG_OP), about, is_row, was_row);
	PERFORM pg_notify('neighbour', TG_ARGV[0]);
	RETURN NULL;
END $$;
REVOKE ALL ON FUNCTION neighbour.tell() FROM public;
`

// followCheck is how often it is looked whether the table is still watched.
const followCheck = 5 * time.Second

func quoted(name string) string { return pgx.Identifier(strings.Split(name, ".")).Sanitize() }

// watch has a table's changes written down.
func watch(ctx context.Context, c *pgx.Conn, w kind.Watch) error {
	name := "neighbour_" + w.Trigger
	var there bool
	var table *uint32
	if err := c.QueryRow(ctx, "SELECT to_regclass($1)::oid", quoted(w.What)).Scan(&table); err != nil {
		return err
	}
	if table == nil {
		return fmt.Errorf("there is no table %s yet", w.What)
	}
	if err := c.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = $1 AND tgname = $2)", *table, name).Scan(&there); err != nil {
		return err
	}
	if !there {
		rows, err := c.Query(ctx, "SELECT a.attname FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey) WHERE i.indrelid = $1 AND i.indisprimary ORDER BY array_position(i.indkey::int2[], a.attnum)", *table)
		if err != nil {
			return err
		}
		keys, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		args := literal(w.Trigger)
		for _, k := range keys {
			args += ", " + literal(k)
		}
		if _, err := c.Exec(ctx, fmt.Sprintf("CREATE TRIGGER %s AFTER INSERT OR UPDATE OR DELETE ON %s FOR EACH ROW EXECUTE PROCEDURE neighbour.tell(%s)", quoted(name), quoted(w.What), args)); err != nil {
			return err
		}
	}
	_, err := c.Exec(ctx, "INSERT INTO neighbour.watched VALUES ($1, now()) ON CONFLICT (trigger) DO UPDATE SET seen = now()", w.Trigger)
	return err
}

// Follow tells of the changes of a table, which are written down by a trigger of the database in
// the transactions that make them, and told of by a notification. What it watches is a table of
// the first database, or "database/table".
func (k Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	facts, err := k.Facts(in)
	if err != nil {
		return err
	}
	password, err := in.Secret("password")
	if err != nil {
		return err
	}
	u, err := url.Parse(facts["url"].Value)
	if err != nil {
		return err
	}
	database := strings.TrimPrefix(u.Path, "/")
	if before, after, ok := strings.Cut(w.What, "/"); ok {
		database, w.What = before, after
	}
	c, err := pgx.Connect(ctx, address(in, superuser, password, database))
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
	// Several triggers may come at the same time.
	if _, err := c.Exec(ctx, "SELECT pg_advisory_lock(7421009)"); err != nil {
		return err
	}
	_, err = c.Exec(ctx, followSetUp)
	if err == nil {
		err = watch(ctx, c, w)
	}
	if _, unlocking := c.Exec(ctx, "SELECT pg_advisory_unlock(7421009)"); err != nil || unlocking != nil {
		return errors.Join(err, unlocking)
	}
	if _, err := c.Exec(ctx, "LISTEN neighbour"); err != nil {
		return err
	}
	if err := emit(nil, cursor); err != nil {
		return err
	}
	for {
		n, err := k.tell(ctx, c, w, cursor, emit)
		if err != nil {
			return err
		}
		if n == kind.EventsAtOnce {
			continue
		}
		wait, cancel := context.WithTimeout(ctx, followCheck)
		_, err = c.WaitForNotification(wait)
		cancel()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil:
		case wait.Err() != nil && !c.IsClosed():
			if err := watch(ctx, c, w); err != nil {
				return err
			}
		default:
			return err
		}
	}
}

// tell tells of what is written down, and forgets it.
func (Kind) tell(ctx context.Context, c *pgx.Conn, w kind.Watch, cursor string, emit kind.Emit) (int, error) {
	rows, err := c.Query(ctx, "SELECT id, at, change, key, row, old FROM neighbour.change WHERE trigger = $1 ORDER BY id LIMIT $2", w.Trigger, kind.EventsAtOnce)
	if err != nil {
		return 0, err
	}
	type told struct {
		ID          int64
		At          time.Time
		Change, Key string
		Row, Old    json.RawMessage
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[told])
	if err != nil || len(all) == 0 {
		return 0, err
	}
	var events []outbox.Event
	var ids []int64
	for _, t := range all {
		ids = append(ids, t.ID)
		if !w.Wants(t.Change) {
			continue
		}
		data, err := json.Marshal(struct {
			Change string          `json:"change"`
			Table  string          `json:"table"`
			Key    string          `json:"key"`
			Row    json.RawMessage `json:"row,omitempty"`
			Old    json.RawMessage `json:"old,omitempty"`
		}{t.Change, w.What, t.Key, t.Row, t.Old})
		if err != nil {
			return 0, err
		}
		events = append(events, outbox.Event{Source: fmt.Sprintf("%d %d", t.ID, t.At.UnixMicro()), Key: t.Key, Type: t.Change, Subject: w.What + " " + t.Key, At: t.At, Data: data})
	}
	if err := emit(events, cursor); err != nil {
		return 0, err
	}
	_, err = c.Exec(ctx, "DELETE FROM neighbour.change WHERE id = ANY ($1)", ids)
	return len(all), err
}
