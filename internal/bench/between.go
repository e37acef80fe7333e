package main

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/emulator/stub"
)

// factsOf returns the facts of a service that runs.
func factsOf(dir, service string) (map[string]string, error) {
	st, err := statusOf(dir, service)
	facts := map[string]string{}
	for _, f := range st.Facts {
		facts[f.Name] = f.Value
	}
	return facts, err
}

// benchFunctions calls a warm function in Node as often as can be done for a few seconds, and at
// a rate of 500 a second.
func benchFunctions(dir string) error {
	if err := declare(dir, "[service.chores]\nkind = \"functions\"\n"); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, "functions"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "functions", "greet.js"), []byte("export default async (request) => ({ hello: (await request.json()).name })\n"), 0o644); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	facts, err := factsOf(dir, "chores")
	if err != nil {
		return err
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
	call := func() (time.Duration, error) {
		began := time.Now()
		resp, err := client.Post(facts["url"]+"/greet", "application/json", strings.NewReader(`{"name":"Ines"}`))
		if err != nil {
			return 0, err
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err == nil && resp.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s: %s", resp.Status, b)
		}
		return time.Since(began), err
	}
	var mu sync.Mutex
	var problem error
	var took []time.Duration
	note := func(d time.Duration, err error) {
		mu.Lock()
		defer mu.Unlock()
		if took = append(took, d); err != nil {
			problem = err
		}
	}
	var all sync.WaitGroup
	for range 8 { // until all runners are warm
		all.Go(func() { note(call()) })
	}
	all.Wait()
	took = nil
	const span = 4 * time.Second
	until := time.Now().Add(span)
	for range 4 {
		all.Go(func() {
			for time.Now().Before(until) {
				note(call())
			}
		})
	}
	all.Wait()
	most := float64(len(took)) / span.Seconds()
	took = nil
	const rate = 500
	tick := time.NewTicker(time.Second / rate)
	defer tick.Stop()
	for range rate * 4 {
		<-tick.C
		all.Go(func() { note(call()) })
	}
	all.Wait()
	slices.Sort(took)
	if problem != nil {
		return problem
	}
	tell("functions/rate", "`functions`: calls of a warm function in Node", atLeast(500, "/s"), "", most)
	tell("functions/took", "… one of 500 a second", atMost(10, "ms"), "the 95th percentile: "+ms(took[len(took)*95/100]), inMS(median(took))...)
	return nil
}

// benchTriggers has changes of documents go through a trigger to an app.
func benchTriggers(dir string) error {
	var came atomic.Int64
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		came.Add(1)
		w.WriteHeader(http.StatusAccepted)
	}))
	defer app.Close()
	if err := declare(dir, "[service.reviews]\nkind = \"documents\"\n\n[trigger.reindex]\non = { documents = \"loans\" }\ncall = \""+app.URL+"\"\n"); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	facts, err := factsOf(dir, "reviews")
	if err != nil {
		return err
	}
	ctx := context.Background()
	db, err := mongo.Connect(options.Client().ApplyURI(facts["url"]))
	if err != nil {
		return err
	}
	defer func() { _ = db.Disconnect(ctx) }()
	loans := db.Database(facts["database"]).Collection("loans")
	for came.Load() == 0 { // until it is watched
		if _, err := loans.InsertOne(ctx, bson.D{{Key: "first", Value: true}}); err != nil {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	time.Sleep(500 * time.Millisecond)
	before := came.Load()
	const events = 5000
	began := time.Now()
	for i := 0; i < events; i += 100 {
		var some []any
		for j := range 100 {
			some = append(some, bson.D{{Key: "n", Value: i + j}})
		}
		if _, err := loans.InsertMany(ctx, some); err != nil {
			return err
		}
	}
	inserted := time.Since(began)
	for came.Load()-before < events {
		if time.Since(began) > 2*time.Minute {
			return fmt.Errorf("%d of %d events arrived", came.Load()-before, events)
		}
		time.Sleep(5 * time.Millisecond)
	}
	tell("triggers/rate", "events from `documents` through a trigger to an app", atLeast(1000, "/s"), "inserted in "+ms(inserted), events/time.Since(began).Seconds())
	return nil
}

// benchStub loads an OpenAPI document of 1,000 operations.
func benchStub(dir string) error {
	var b strings.Builder
	b.WriteString("openapi: 3.0.3\ninfo: { title: many, version: '1' }\npaths:\n")
	for i := range 500 {
		fmt.Fprintf(&b, "  /things%[1]d/{id}:\n", i)
		for _, method := range []string{"get", "put"} {
			fmt.Fprintf(&b, "    %s:\n      parameters: [{ name: id, in: path, required: true, schema: { type: string } }, { name: page, in: query, schema: { type: integer } }]\n      responses:\n        '200': { description: ok, content: { application/json: { schema: { $ref: '#/components/schemas/Thing%d' } } } }\n", method, i%50)
		}
	}
	b.WriteString("components:\n  schemas:\n")
	for i := range 50 {
		fmt.Fprintf(&b, "    Thing%d: { type: object, required: [id], properties: { id: { type: string }, name: { type: string, minLength: 3 }, price: { type: number, minimum: 0 }, made: { type: string, format: date-time } } }\n", i)
	}
	file := filepath.Join(dir, "many.yaml")
	if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
		return err
	}
	var took []time.Duration
	for range 5 {
		began := time.Now()
		if _, err := stub.New(stub.Config{OpenAPI: file, Root: dir}, dir, log.New(io.Discard, "", 0)); err != nil {
			return err
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	s, err := stub.New(stub.Config{OpenAPI: file, Root: dir}, dir, log.New(io.Discard, "", 0))
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	const requests = 3000
	began := time.Now()
	for i := range requests {
		resp, err := http.Get(fmt.Sprintf("http://%s/things%d/%d", l.Addr(), i%500, i))
		if err != nil {
			cancel()
			return err
		}
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
	}
	rate := requests / time.Since(began).Seconds()
	cancel()
	tell("stub/load", "`stub`: an OpenAPI document of 1,000 operations", atMost(1000, "ms"), "", inMS(took...)...)
	tell("stub/rate", "… requests one after another, checked and answered", only("/s"), "", rate)
	return <-done
}
