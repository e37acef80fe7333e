package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/project"
)

const (
	benchFiles        = 300
	benchPreparations = 50
)

// writeMigrations writes small files as projects have them: tables, columns, a few
// rows.
func writeMigrations(dir string) error {
	if err := os.MkdirAll(filepath.Join(dir, "db"), 0o755); err != nil {
		return err
	}
	for i := range benchFiles {
		text := fmt.Sprintf("create table t%[1]d (id integer primary key, name text not null, due date);\ncreate index t%[1]d_due on t%[1]d (due);\n"+
			"insert into t%[1]d select n, 'tool ' || n, now() from generate_series(1, 20) n;\nalter table t%[1]d add shelf text default 'A1';\n", i)
		if err := os.WriteFile(filepath.Join(dir, "db", fmt.Sprintf("%03d_t.sql", i)), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// benchMigrations compares migrations to the server's own client with the same
// files, and a start that has nothing of that to do to one that declares none.
func benchMigrations(dir string) error {
	const ledger = "[service.ledger]\nkind = \"postgres\"\ndatabases = [\"toolshed\", \"other\"]\n"
	if err := writeMigrations(dir); err != nil {
		return err
	}
	if err := declare(dir, ledger+"migrations = \"db\"\n"); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	files, err := filepath.Glob(filepath.Join(dir, "db", "*.sql"))
	if err != nil {
		return err
	}
	var ours, theirs []time.Duration
	for range max(3, *runs/2) {
		if _, err := neighbour(dir, "reset", "ledger", "--yes"); err != nil {
			return err
		}
		took, err := migrated(dir)
		if err != nil {
			return err
		}
		ours = append(ours, took)
		p, err := project.Open(dir)
		if err != nil {
			return err
		}
		facts, err := p.Facts("ledger")
		if err != nil {
			return err
		}
		argv := []string{"-q", "-v", "ON_ERROR_STOP=1", strings.Replace(facts["url"].Value, "/toolshed", "/other", 1)}
		for _, f := range files {
			argv = append(argv, "-f", f)
		}
		began := time.Now()
		if out, err := exec.Command("psql", argv...).CombinedOutput(); err != nil {
			return fmt.Errorf("psql: %w\n%s", err, out)
		}
		theirs = append(theirs, time.Since(began))
	}
	if _, err := neighbour(dir, "stop"); err != nil {
		return err
	}
	tell("migrations", fmt.Sprintf("%d migrations, to `psql` with the same files", benchFiles), atMost(1.3, "×"), sides(ours, theirs), ratios(ours, theirs)...)
	return benchNothingToDo(dir, ledger)
}

// migrated returns how long the migrations of the latest start took.
func migrated(dir string) (time.Duration, error) {
	cmd := exec.Command(*binary, "status", "--json")
	cmd.Dir = dir
	out, err := cmd.Output()
	if err != nil {
		return 0, err
	}
	var s struct {
		Services []struct {
			Done []struct {
				What string  `json:"what"`
				Took float64 `json:"took_ms"`
			}
		}
	}
	if err := json.Unmarshal(out, &s); err != nil {
		return 0, err
	}
	for _, d := range s.Services[0].Done {
		if strings.HasPrefix(d.What, strconv.Itoa(benchFiles)) {
			return time.Duration(d.Took * float64(time.Millisecond)), nil
		}
	}
	return 0, fmt.Errorf("no migrations ran: %s", out)
}

func benchNothingToDo(dir, ledger string) error {
	plain := filepath.Join(dir, "plain")
	if err := os.Mkdir(plain, 0o755); err != nil {
		return err
	}
	const api = "[service.api]\nrun = \"sleep 1000\"\nneeds = [\"ledger\"]\nhealth = { run = \"true\" }\n"
	var prepare []string
	for i := range benchPreparations {
		prepare = append(prepare, fmt.Sprintf("{ run = \"true %d\", when = [\"db/%03d_t.sql\"] }", i, i))
	}
	if err := declare(plain, ledger+api); err != nil {
		return err
	}
	if err := declare(dir, ledger+"migrations = \"db\"\n"+api+"prepare = [\n"+strings.Join(prepare, ",\n")+"]\n"); err != nil {
		return err
	}
	took := map[string][]time.Duration{}
	for i := range 1 + 2**runs {
		for _, in := range []string{dir, plain} {
			t, err := neighbour(in, "start")
			if err != nil {
				return err
			}
			if i > 0 { // the first has something to do
				took[in] = append(took[in], t)
			}
			if _, err := neighbour(in, "stop"); err != nil {
				return err
			}
		}
	}
	with, without := median(took[dir]), median(took[plain])
	tell("nothing", fmt.Sprintf("a start with nothing to do of %d migrations and %d preparations, more than one without them", benchFiles, benchPreparations), atMost(15, "ms"), ms(with)+" : "+ms(without), inMS(with-without)...)
	return nil
}
