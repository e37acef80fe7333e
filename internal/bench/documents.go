package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/api"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
)

// benchDocuments measures the database of documents with the Go driver: how soon it is
// ready, what it takes when idle, writes and finds from one pool, and a find by an index
// over a million documents.
func benchDocuments(dir string) error {
	ctx := context.Background()
	if err := declare(dir, "[service.reviews]\nkind = \"documents\"\n"); err != nil {
		return err
	}
	if err := readyAndIdle(dir, "reviews", "documents"); err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	facts, err := p.Facts("reviews")
	if err != nil {
		return err
	}
	client, err := mongo.Connect(options.Client().ApplyURI(facts["url"].Value))
	if err != nil {
		return err
	}
	defer func() { _ = client.Disconnect(ctx) }()
	tools := client.Database("bench").Collection("tools")
	var n atomic.Int64
	document := func() bson.D {
		return bson.D{{Key: "_id", Value: n.Add(1)}, {Key: "name", Value: "hammer drill"}, {Key: "price", Value: 129.9}, {Key: "tags", Value: bson.A{"power", "wall"}}}
	}
	plain, err := plainRows(filepath.Join(dir, "plain.db"))
	if err != nil {
		return err
	}
	defer plain.Close()
	var inserts, beside, finds []float64
	for range 3 {
		ours, err := rate(func() error { _, err := tools.InsertOne(ctx, document()); return err })
		if err != nil {
			return err
		}
		theirs, err := rate(func() error {
			d := document()
			b, err := bson.Marshal(d)
			if err == nil {
				_, err = plain.Exec("insert into tools values (?, ?)", d[0].Value, b)
			}
			return err
		})
		if err != nil {
			return err
		}
		inserts, beside = append(inserts, ours), append(beside, ours/theirs)
	}
	most := n.Load()
	for range 3 {
		one, err := rate(func() error {
			err := tools.FindOne(ctx, bson.D{{Key: "_id", Value: 1 + n.Add(1)%most}}).Err()
			if errors.Is(err, mongo.ErrNoDocuments) { // it is among the plain rows
				err = nil
			}
			return err
		})
		if err != nil {
			return err
		}
		finds = append(finds, one)
	}
	tell("documents/inserts", "`documents`, by eight clients at a time: inserts", atLeast(5000, "/s"), "", inserts...)
	tell("documents/beside", "… to the same SQLite driver's rate of transactions with one row of the same bytes", atLeast(0.6, "×"), "", beside...)
	tell("documents/finds", "… finds by key", atLeast(8000, "/s"), "", finds...)

	many := client.Database("bench").Collection("many")
	if _, err := many.Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: "code", Value: 1}}}); err != nil {
		return err
	}
	const size, batch = 1_000_000, 10_000
	for at := 0; at < size; at += batch {
		var all []any
		for i := range batch {
			all = append(all, bson.D{{Key: "_id", Value: at + i}, {Key: "code", Value: (at + i) * 7919 % size}, {Key: "name", Value: "hammer drill"}})
		}
		if _, err := many.InsertMany(ctx, all); err != nil {
			return err
		}
	}
	var took []time.Duration
	for i := range 300 {
		began := time.Now()
		if err := many.FindOne(ctx, bson.D{{Key: "code", Value: i * 3331 % size}}).Err(); err != nil {
			return err
		}
		took = append(took, time.Since(began))
	}
	tell("documents/index", "… a find by an index over a million", atMost(2, "ms"), "", inMS(median(took))...)
	return nil
}

// plainRows opens a database of SQLite with a table of rows, which are written as surely as
// documents are.
func plainRows(path string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_pragma=busy_timeout(10000)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1) // one writes at a time, whoever waits
	_, err = db.Exec("create table tools (id integer primary key, document blob)")
	return db, err
}

// readyAndIdle tells how soon an emulator is ready, and how much memory it takes when it is
// idle, and leaves it running.
func readyAndIdle(dir, service, title string) error {
	var readies []time.Duration
	var pid int
	for n := range *runs {
		if n > 0 {
			if _, err := neighbour(dir, "stop"); err != nil {
				return err
			}
		}
		if _, err := neighbour(dir, "start"); err != nil {
			return err
		}
		s, err := statusOf(dir, service)
		if err != nil {
			return err
		}
		readies, pid = append(readies, time.Duration(s.ReadyMS*float64(time.Millisecond))), s.PID
	}
	time.Sleep(3 * time.Second) // until it is idle
	memory, err := residentOf(pid)
	if err != nil {
		return err
	}
	tell(title+"/ready", "`"+title+"` until ready", atMost(50, "ms"), "", inMS(readies...)...)
	tell(title+"/idle", "… idle", atMost(40, "MB"), "", float64(memory)/(1<<20))
	return nil
}

// rate has 8 do something for some seconds, and returns how often it was done in one.
func rate(do func() error) (float64, error) {
	const long = 4 * time.Second
	var all sync.WaitGroup
	var count atomic.Int64
	problems := make(chan error, 8)
	for range 8 {
		all.Go(func() {
			for end := time.Now().Add(long); time.Now().Before(end); count.Add(1) {
				if err := do(); err != nil {
					problems <- err
					return
				}
			}
		})
	}
	all.Wait()
	close(problems)
	var err error
	for problem := range problems {
		err = errors.Join(err, problem)
	}
	return float64(count.Load()) / long.Seconds(), err
}

// residentOf returns how many bytes of memory a process takes.
func residentOf(pid int) (uint64, error) {
	table, err := proc.ReadTable()
	if err != nil {
		return 0, err
	}
	id, err := proc.Identify(pid)
	if err != nil {
		return 0, err
	}
	_, memory := table.Usage([]proc.ID{id})
	return memory, nil
}

// statusOf returns how a service is.
func statusOf(dir, service string) (api.Status, error) {
	p, err := project.Open(dir)
	if err != nil {
		return api.Status{}, err
	}
	c, err := api.Find(context.Background(), p)
	if err != nil {
		return api.Status{}, err
	}
	defer c.Close()
	status, err := c.Status(context.Background())
	if err != nil {
		return api.Status{}, err
	}
	for _, s := range status.Services {
		if s.Name == service {
			return s, nil
		}
	}
	return api.Status{}, fmt.Errorf("there is no service %s", service)
}
