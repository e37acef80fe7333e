package launch

import (
	"context"
	"fmt"
	"slices"
	"time"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
)

// Migrations is what there is to say of a database's migrations.
type Migrations struct {
	Service string `json:"service"`
	Dir     string `json:"dir"`
	// Unknown says why it can't be told which ran, "" if it can.
	Unknown string      `json:"unknown,omitempty"`
	Files   []Migration `json:"files"`
	// Seed is "none", "pending", "done", or "left out" for data that was there
	// before the seed was declared.
	Seed string `json:"seed"`
	// Problem says what keeps migrations from being run, "" if nothing does.
	Problem string `json:"problem,omitempty"`
}

// Migration is one file, or what is left of one.
type Migration struct {
	Name  string         `json:"name"`
	State MigrationState `json:"state"`
	At    time.Time      `json:"at,omitzero"`       // when it ran
	Took  float64        `json:"took_ms,omitempty"` // in milliseconds
	// Done is how many of its statements ran, of one that failed half-way.
	Done       int `json:"done,omitempty"`
	Statements int `json:"statements,omitempty"`
}

// MigrationState is what became of a migration.
type MigrationState string

// The states.
const (
	MigrationApplied MigrationState = "applied"
	MigrationPending MigrationState = "pending"
	MigrationHalf    MigrationState = "half-way" // some of its statements ran
	MigrationChanged MigrationState = "changed"  // after it ran
	MigrationGone    MigrationState = "gone"     // it ran, and there is no such file any more
	MigrationUnknown MigrationState = "unknown"
)

// MigrationsOf lists the migrations of a service. Running says whether its
// database can be asked.
func MigrationsOf(ctx context.Context, p *project.Project, service string, running bool) (Migrations, error) {
	m := Migrations{Service: service, Files: []Migration{}, Seed: "none"}
	if err := p.Check(service); err != nil {
		return m, err
	}
	s := p.Service(service)
	sc := s.Scripts()
	k, ok := p.Kind(s).(kind.Migrator)
	if !ok || sc.Migrations.Value == "" && sc.Seed.IsZero() {
		return m, fmt.Errorf("%s declares no migrations; a database takes migrations = \"db/changes\"", service)
	}
	m.Dir = sc.Migrations.Value
	var files []migrate.File
	if m.Dir != "" {
		var err error
		if files, err = migrate.ReadDir(p.Dir, m.Dir); err != nil {
			return m, err
		}
	}
	if !sc.Seed.IsZero() {
		m.Seed = "pending"
	}
	var state migrate.State
	if running {
		in, err := p.Instance(s)
		if err != nil {
			return m, err
		}
		session, err := k.Session(ctx, in)
		if err == nil {
			defer session.Close()
			state, err = migrate.Look(ctx, session)
		}
		if err != nil {
			m.Unknown = err.Error()
		} else if err := state.Check(m.Dir, files); err != nil {
			m.Problem = err.Error()
		}
	} else {
		m.Unknown = service + " doesn't run"
	}
	if state.Seeded() && m.Seed != "none" {
		m.Seed = "done"
	} else if state.Made && !state.Fresh && m.Seed != "none" {
		m.Seed = "left out"
	}
	for _, f := range files {
		one := Migration{Name: f.Name, State: MigrationPending}
		i := slices.IndexFunc(state.Records, func(r migrate.Record) bool { return r.Name == f.Name })
		switch {
		case m.Unknown != "":
			one.State = MigrationUnknown
		case i < 0:
		default:
			r := state.Records[i]
			one.State, one.At, one.Took = MigrationApplied, r.At, r.Took
			if !r.Began() {
				one = Migration{Name: f.Name, State: MigrationPending}
			} else if !r.Whole() {
				one.State, one.Done, one.Statements = MigrationHalf, r.Done, r.Statements
			} else if r.Checksum != f.Checksum {
				one.State = MigrationChanged
			}
		}
		m.Files = append(m.Files, one)
	}
	for _, r := range state.Records {
		if r.Began() && !slices.ContainsFunc(files, func(f migrate.File) bool { return f.Name == r.Name }) {
			m.Files = append(m.Files, Migration{Name: r.Name, State: MigrationGone, At: r.At, Took: r.Took})
		}
	}
	return m, nil
}
