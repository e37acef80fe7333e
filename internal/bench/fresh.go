package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// benchFresh measures how long it takes until a command begins on a fresh copy that begins with a
// template, and until all of it is gone again.
func benchFresh(dir string) error {
	if err := declare(dir, "[service.ledger]\nkind = \"postgres\"\nmigrations = \"db\"\n[service.shelf]\nkind = \"redis\"\n"); err != nil {
		return err
	}
	if err := os.Mkdir(filepath.Join(dir, "db"), 0o755); err != nil {
		return err
	}
	for i := range 300 {
		text := fmt.Sprintf("create table t%d (id int primary key, name text); create index on t%[1]d (name);", i)
		if err := os.WriteFile(filepath.Join(dir, "db", fmt.Sprintf("%03d-table.sql", i)), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	run := func() (ready, whole time.Duration, err error) {
		cmd := exec.Command(*binary, "run", "--fresh", "--", "date", "+%s%N")
		cmd.Dir = dir
		began := time.Now()
		out, err := cmd.Output()
		if err != nil {
			return 0, 0, err
		}
		at, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
		return time.Unix(0, at).Sub(began), time.Since(began), err
	}
	first, _, err := run() // makes the template
	if err != nil {
		return err
	}
	var ready, whole []time.Duration
	for range max(5, *runs) {
		r, w, err := run()
		if err != nil {
			return err
		}
		ready, whole = append(ready, r), append(whole, w)
	}
	tell("fresh", "a fresh copy of PostgreSQL with 300 migrations and Redis, from a template, until its command begins", atMost(1500, "ms"),
		"until all is gone again: "+ms(median(whole))+"; the first, which migrates: "+ms(first), inMS(ready...)...)
	return nil
}
