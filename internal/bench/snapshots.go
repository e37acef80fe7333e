package main

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"

	"neighbour/internal/api"
	"neighbour/internal/core/project"
)

// clusterBytes is about how large the database is of which snapshots are saved.
const clusterBytes = 2 << 30

// benchSnapshots compares the snapshot of a large cluster to a copy of its folder, both of a
// server at work and with what was saved before, and says for how long a client waited.
func benchSnapshots(dir string) error {
	if err := declare(dir, "[service.ledger]\nkind = \"postgres\"\n"); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	facts, err := p.Facts("ledger")
	if err != nil {
		return err
	}
	db, err := sql.Open("pgx", facts["url"].Value)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, q := range []string{
		"create table loan as select g as id, md5(g::text) || repeat(md5((g + 1)::text), 30) as note from generate_series(1, " + strconv.Itoa(clusterBytes/1150) + ") g",
		"create table tool (id int primary key, lent int)", "insert into tool select g, 0 from generate_series(1, 1000) g", "vacuum analyze", "checkpoint"} {
		if _, err := db.Exec(q); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var longest atomic.Int64 // nanoseconds that a client waited
	work := func() {
		for n := 0; ctx.Err() == nil; n++ {
			began := time.Now()
			_, _ = db.Exec("update tool set lent = lent + 1 where id = $1", n%1000+1)
			longest.Store(max(longest.Load(), time.Since(began).Nanoseconds()))
			time.Sleep(time.Millisecond)
		}
	}
	go work()
	var copies, first, next, waited []time.Duration
	var held []float64
	keeper := api.NewClient(p.Socket())
	defer keeper.Close()
	for i := range max(5, *runs) {
		to := filepath.Join(dir, "copy")
		began := time.Now()
		// Files that are gone by then are its own affair.
		_ = exec.Command("cp", "-a", p.DataDirs()[0]+"/.", to).Run()
		copies = append(copies, time.Since(began))
		if err := os.RemoveAll(to); err != nil {
			return err
		}
		if err := exec.Command("sync").Run(); err != nil {
			return err
		}
		longest.Store(0)
		began = time.Now()
		m, err := keeper.SaveSnapshot(ctx, fmt.Sprintf("first%d", i))
		if err != nil {
			return err
		}
		first, held, waited = append(first, time.Since(began)), append(held, m.HeldMS), append(waited, time.Duration(longest.Load()))
		began = time.Now()
		if _, err := keeper.SaveSnapshot(ctx, fmt.Sprintf("next%d", i)); err != nil {
			return err
		}
		next = append(next, time.Since(began))
		for _, name := range []string{"first", "next"} {
			if err := keeper.DropSnapshot(ctx, name+strconv.Itoa(i)); err != nil {
				return err
			}
		}
		if err := exec.Command("sync").Run(); err != nil {
			return err
		}
	}
	tell("snapshots", fmt.Sprintf("a snapshot of PostgreSQL with %.1f GB while it works, to `cp -a`", float64(project.Size(p.DataDirs()...))/(1<<30)), atMost(1.2, "×"), sides(first, copies), ratios(first, copies)...)
	tell("snapshots/still", "… services suspended", only("ms"), "", held...)
	tell("snapshots/waited", "… the longest that a client waited", only("ms"), "", inMS(waited...)...)
	tell("snapshots/next", "… the next snapshot", only("ms"), "", inMS(next...)...)
	return nil
}
