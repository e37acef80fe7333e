// The api of the Toolshed keeps the tools in PostgreSQL and remembers the
// list of them in Redis.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"net/http"
	"os"
	"time"

	"github.com/gomodule/redigo/redis"
	"github.com/jackc/pgx/v5"
)

// Tool is something that can be borrowed.
type Tool struct {
	Name     string     `json:"name"`
	Borrower *string    `json:"borrower"`
	Mail     *string    `json:"mail"`
	Due      *time.Time `json:"due"`
}

const schema = `
create table if not exists tools (name text primary key, borrower text, mail text, due timestamptz);
insert into tools values
  ('hammer drill', 'Ines Brandt', 'ines@example.org', now() - interval '2 days'),
  ('extension ladder', null, null, null),
  ('tile cutter', 'Marit Solheim', 'marit@example.org', now() - interval '1 day'),
  ('wallpaper steamer', 'Tomas Okafor', 'tomas@example.org', now() + interval '3 days')
on conflict do nothing`

const cached = "tools"

func main() {
	log.SetFlags(0)
	ctx := context.Background()
	db, err := pgx.Connect(ctx, os.Getenv("DATABASE_URL"))
	if err != nil {
		log.Fatal(err)
	}
	if _, err := db.Exec(ctx, schema); err != nil {
		log.Fatal(err)
	}
	cache := &redis.Pool{MaxIdle: 4, Dial: func() (redis.Conn, error) { return redis.DialURL(os.Getenv("CACHE_URL")) }}
	do := func(name string, args ...any) (any, error) {
		c := cache.Get()
		defer c.Close()
		return c.Do(name, args...)
	}

	http.HandleFunc("GET /healthz", func(w http.ResponseWriter, r *http.Request) {
		if _, err := do("PING"); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
		}
	})
	http.HandleFunc("GET /tools", func(w http.ResponseWriter, r *http.Request) {
		answer, from, err := tools(r.Context(), db, do)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		log.Printf("GET /tools, from the %s", from)
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, answer)
	})
	address := "127.0.0.1:" + os.Getenv("PORT")
	log.Printf("listening on %s", address)
	log.Fatal(http.ListenAndServe(address, nil))
}

// tools returns the list of tools as JSON, and whence.
func tools(ctx context.Context, db *pgx.Conn, cache func(name string, args ...any) (any, error)) (answer, from string, err error) {
	answer, err = redis.String(cache("GET", cached))
	if err == nil {
		return answer, "cache", nil
	}
	if !errors.Is(err, redis.ErrNil) {
		return "", "", err
	}
	rows, err := db.Query(ctx, "select name, borrower, mail, due from tools order by name")
	if err != nil {
		return "", "", err
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Tool])
	if err != nil {
		return "", "", err
	}
	b, err := json.Marshal(list)
	if err != nil {
		return "", "", err
	}
	_, err = cache("SET", cached, b, "EX", 20)
	return string(b), "database", err
}
