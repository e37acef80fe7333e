package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"net/smtp"
	"strings"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/gomodule/redigo/redis"
	_ "github.com/jackc/pgx/v5/stdlib"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/project"
)

const (
	benchRows  = 10_000_000
	benchKeys  = 1_000_000
	benchMails = 20_000
)

// benchData compares pages of large collections to what the servers' own clients
// take for the same, and measures the inbox.
func benchData(dir string) error {
	if err := declare(dir, "[service.ledger]\nkind = \"postgres\"\n[service.porch]\nkind = \"mariadb\"\ndatabases = [\"toolshed\"]\nusers = [\"shed\"]\n[service.cellar]\nkind = \"sqlite\"\nfile = \"cellar.db\"\n[service.shelf]\nkind = \"redis\"\nforget = true\n[service.postbox]\nkind = \"mail\"\n"); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	ctx := context.Background()
	keeper := api.NewClient(p.Socket())
	defer keeper.Close()
	for _, part := range []func(context.Context, *project.Project, *api.Client) error{benchTables, benchPrefix, benchInbox} {
		if err := part(ctx, p, keeper); err != nil {
			return err
		}
	}
	_, err = neighbour(dir, "stop")
	return err
}

// timed returns the median of how long something takes.
func timed(n int, do func() error) (time.Duration, error) {
	var all []time.Duration
	for range n {
		began := time.Now()
		if err := do(); err != nil {
			return 0, err
		}
		all = append(all, time.Since(began))
	}
	return median(all), nil
}

// databases are those whose pages are compared to those of a client of their own.
var databases = []struct {
	service, driver string
	fill            []string
}{
	{"ledger", "pgx", []string{fmt.Sprintf("create table loan as select n::bigint as id, 'member ' || n as member, n %% 480 as tool, now() as due, null::text as note from generate_series(1, %d) n", benchRows),
		"alter table loan add primary key (id)", "analyze loan"}},
	{"porch", "mysql", []string{"create table loan (id bigint primary key, member varchar(60), tool int, due datetime, note text)",
		fmt.Sprintf("insert into loan select seq, concat('member ', seq), seq %% 480, now(), null from seq_1_to_%d", benchRows), "analyze table loan"}},
	{"cellar", "sqlite", []string{"create table loan (id integer primary key, member text, tool integer, due text, note text)",
		fmt.Sprintf("with recursive s(n) as (select 1 union all select n + 1 from s where n < %d) insert into loan select n, 'member ' || n, n %% 480, datetime('now'), null from s", benchRows)}},
}

func benchTables(ctx context.Context, p *project.Project, keeper *api.Client) error {
	for _, d := range databases {
		facts, err := p.Facts(d.service)
		if err != nil {
			return err
		}
		address := map[string]string{"pgx": facts["url"].Value, "sqlite": facts["path"].Value,
			"mysql": fmt.Sprintf("%s:%s@tcp(127.0.0.1:%s)/toolshed", facts["user"].Value, facts["password"].Value, facts["port"].Value)}[d.driver]
		db, err := sql.Open(d.driver, address)
		if err != nil {
			return err
		}
		db.SetMaxOpenConns(1)
		if err := errors.Join(benchTable(ctx, db, keeper, d.service, d.fill), db.Close()); err != nil {
			return fmt.Errorf("%s: %w", d.driver, err)
		}
	}
	return nil
}

func benchTable(ctx context.Context, db *sql.DB, keeper *api.Client, service string, fill []string) error {
	for _, statement := range fill {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	for _, one := range []struct {
		what      string
		q         store.Query
		statement string
	}{
		{"first page", store.Query{}, "select * from loan order by id limit 201"},
		{"thousandth page", store.Query{After: `["200000"]`}, "select * from loan where id > 200000 order by id limit 201"},
		{"last page", store.Query{Back: true}, "select * from loan order by id desc limit 201"},
		{"a page with a condition", store.Query{Where: "tool = 7"}, "select * from loan where tool = 7 order by id limit 201"},
	} {
		one.q.Collection, one.q.Limit = "loan", 200
		if _, err := keeper.Items(ctx, service, one.q); err != nil { // the connection is made
			return err
		}
		ours, err := timed(*runs*3, func() error {
			page, err := keeper.Items(ctx, service, one.q)
			if err == nil && len(page.Rows) != 200 {
				err = fmt.Errorf("%s: %d rows", one.what, len(page.Rows))
			}
			return err
		})
		if err != nil {
			return err
		}
		theirs, err := timed(*runs*3, func() error {
			rows, err := db.QueryContext(ctx, one.statement)
			if err != nil {
				return err
			}
			defer rows.Close()
			var row [5]any
			for rows.Next() {
				if err := rows.Scan(&row[0], &row[1], &row[2], &row[3], &row[4]); err != nil {
					return err
				}
			}
			return rows.Err()
		})
		if err != nil {
			return err
		}
		tell("data/"+service+"/"+strings.ReplaceAll(one.what, " ", "-"), fmt.Sprintf("%s of %d rows in `%s`, more than a client of its own takes", one.what, benchRows, service), atMost(100, "ms"), ms(ours)+" : "+ms(theirs), inMS(ours-theirs)...)
	}
	listing, err := timed(*runs, func() error { _, err := keeper.Data(ctx, service); return err })
	tell("data/"+service+"/list", "… the list of its collections", only("ms"), "", inMS(listing)...)
	return err
}

func benchPrefix(ctx context.Context, p *project.Project, keeper *api.Client) error {
	facts, err := p.Facts("shelf")
	if err != nil {
		return err
	}
	c, err := redis.DialURL(facts["url"].Value, redis.DialReadTimeout(time.Minute))
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := c.Do("EVAL", fmt.Sprintf("for i = 1, %d do redis.call('SET', 'session:' .. i, '{\"user\":' .. i .. '}') end", benchKeys), 0); err != nil {
		return err
	}
	q := store.Query{Collection: "session:*", Limit: 200}
	ours, err := timed(*runs*3, func() error {
		page, err := keeper.Items(ctx, "shelf", q)
		if err == nil && len(page.Rows) != 200 {
			err = fmt.Errorf("%d keys", len(page.Rows))
		}
		return err
	})
	if err != nil {
		return err
	}
	theirs, err := timed(*runs*3, func() error { _, err := c.Do("SCAN", 0, "MATCH", "session:*", "COUNT", 500); return err })
	if err != nil {
		return err
	}
	tell("data/shelf/first-page", fmt.Sprintf("first page of %d keys of Redis with their values, more than a scan for them alone", benchKeys), atMost(100, "ms"), ms(ours)+" : "+ms(theirs), inMS(ours-theirs)...)
	listing, err := timed(*runs, func() error { _, err := keeper.Data(ctx, "shelf"); return err })
	tell("data/shelf/list", "… how they begin, found of some", only("ms"), "", inMS(listing)...)
	return err
}

func benchInbox(ctx context.Context, p *project.Project, keeper *api.Client) error {
	facts, err := p.Facts("postbox")
	if err != nil {
		return err
	}
	address := strings.TrimPrefix(facts["smtp_url"].Value, "smtp://")
	text := strings.Repeat("The hammer drill is due, and somebody is waiting for it.\r\n", 40)
	c, err := smtp.Dial(address)
	if err != nil {
		return err
	}
	defer c.Close()
	send := func(subject string) error {
		if err := c.Mail("shed@example.org"); err != nil {
			return err
		}
		if err := c.Rcpt("ines@example.org"); err != nil {
			return err
		}
		w, err := c.Data()
		if err != nil {
			return err
		}
		fmt.Fprintf(w, "From: shed@example.org\r\nSubject: %s\r\n\r\n%s", subject, text)
		return w.Close()
	}
	for i := range benchMails {
		if err := send(fmt.Sprintf("Tool %d", i)); err != nil {
			return err
		}
	}
	get := func(path string) error {
		answer, err := http.Get(facts["url"].Value + path)
		if err != nil {
			return err
		}
		return answer.Body.Close()
	}
	page, err := timed(*runs*3, func() error { return get("/messages?limit=100") })
	if err != nil {
		return err
	}
	search, err := timed(*runs*3, func() error { return get("/messages?limit=100&q=hammer+absent") })
	if err != nil {
		return err
	}
	var took []time.Duration
	_, err = timed(*runs*3, func() error {
		done := make(chan error, 1)
		go func() { done <- get("/wait?within=20s") }()
		time.Sleep(20 * time.Millisecond) // it waits by then
		began := time.Now()
		if err := send("new"); err != nil {
			return err
		}
		err := <-done
		took = append(took, time.Since(began))
		return err
	})
	tell("inbox/page", fmt.Sprintf("an inbox of %d mails: the first page", benchMails), atMost(50, "ms"), "", inMS(page)...)
	tell("inbox/search", "… a search of all", atMost(300, "ms"), "", inMS(search)...)
	tell("inbox/new", "… a new one seen, from when it was begun to be sent", atMost(50, "ms"), "", inMS(took...)...)
	return err
}
