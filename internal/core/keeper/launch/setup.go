package launch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// applied is what a service's database was last brought up to.
type applied struct {
	done  bool
	files []string // names and checksums of the migrations
}

func names(files []migrate.File) []string {
	out := make([]string, len(files))
	for i, f := range files {
		out[i] = f.Name + " " + f.Checksum
	}
	return out
}

// SetUp runs the migrations that are due in the service's database, and seeds
// fresh data.
func (d *Driver) SetUp(ctx context.Context, set func(func(*supervise.Status))) error {
	defer d.endProvisioning()
	sc := d.svc.Scripts()
	m, ok := d.kind.(kind.Migrator)
	if !ok || sc.Migrations.Value == "" && sc.Seed.IsZero() {
		return nil
	}
	err := d.setUp(ctx, m, set)
	if err == nil || ctx.Err() != nil {
		return err
	}
	what := "its migrations failed: "
	var e *migrate.Error
	var seeding *seedError
	if errors.As(err, &seeding) {
		what, err = "its seed failed: ", seeding.err
	}
	var other *otherBranchError
	if errors.As(err, &other) {
		what = "its migrations wait: "
	}
	f := &supervise.Failure{}
	var inner *supervise.Failure
	switch {
	case errors.As(err, &e):
		f.Reason = what + e.Error()
		f.Remarks = append(f.Remarks, excerpt(d.project.Dir, e)...)
		if e.Remedy != "" {
			f.Remarks = append(f.Remarks, e.Remedy)
		}
		for _, more := range e.More {
			f.Remarks = append(f.Remarks, more.Error())
		}
		if e.Anew {
			f.Remarks = append(f.Remarks, "neighbour reset "+d.svc.Name+" empties it, after it has named what is lost")
		}
	case errors.As(err, &inner):
		f.Reason, f.Remarks = what+inner.Reason, inner.Remarks
	default:
		f.Reason = what + err.Error()
	}
	if other != nil {
		f.Remarks = append(f.Remarks, "neighbour snapshot branch switch gives "+other.Now+" data of its own", "neighbour snapshot branch keep takes this along")
	}
	return f
}

// otherBranchError says that the data is that of another git branch than the one whose migrations
// are there.
type otherBranchError struct{ project.Branch }

func (e *otherBranchError) Error() string {
	return fmt.Sprintf("the branch %s is checked out, and the data is that of %s", e.Now, e.Data)
}

// excerpt returns the lines of a file around the place of an error.
func excerpt(root string, e *migrate.Error) []string {
	f, err := migrate.ReadFile(root, e.File)
	if err != nil || e.Line == 0 {
		return nil
	}
	lines := strings.Split(f.Text, "\n")
	var out []string
	for n := max(1, e.Line-1); n <= min(len(lines), e.Line+1); n++ {
		mark := " "
		if n == e.Line {
			mark = ">"
		}
		out = append(out, strings.TrimRight(fmt.Sprintf("%s %3d  %s", mark, n, lines[n-1]), " \r"))
	}
	return out
}

// seedError is what went wrong with a seed.
type seedError struct{ err error }

func (e *seedError) Error() string { return e.err.Error() }

func (d *Driver) setUp(ctx context.Context, m kind.Migrator, set func(func(*supervise.Status))) error {
	sc := d.svc.Scripts()
	files, err := d.readMigrations()()
	if err != nil {
		return err
	}
	if d.nothingToDo(ctx, files) {
		d.told(set, files, true)
		d.upToDate(files)
		return nil
	}
	session, err := m.Session(ctx, d.current())
	if err != nil {
		return err
	}
	defer func() { go session.Close() }() // saying goodbye takes longer than the start should
	state, err := migrate.Look(ctx, session)
	if err != nil {
		return err
	}
	began := time.Now()
	runner := &migrate.Runner{Session: session, Report: func(p migrate.Progress) {
		set(func(s *supervise.Status) { s.Task, s.Reason = supervise.Migrating, p.InWords() })
	}}
	pending := len(state.Pending(files))
	if pending > 0 || state.Check(sc.Migrations.Value, files) != nil {
		if b, err := d.project.Branch(); err == nil && b.Differs() {
			return &otherBranchError{b}
		}
	}
	if err := runner.Apply(ctx, state, sc.Migrations.Value, files); err != nil {
		return err
	}
	if pending > 0 {
		note(set, supervise.Step{What: words.Count(pending, "migration"), Took: since(began)})
	} else {
		d.told(set, files, false)
	}
	if sc.Seed.IsZero() {
		d.upToDate(files)
		return nil
	}
	if state, err = migrate.Look(ctx, session); err == nil {
		err = runner.Make(ctx, &state)
	}
	if err != nil {
		return &seedError{err}
	}
	runner.Report = func(migrate.Progress) {
		set(func(s *supervise.Status) { s.Task, s.Reason = supervise.Seeding, d.seedName() })
	}
	if err := d.seed(ctx, runner, state, set); err != nil {
		return &seedError{err}
	}
	d.upToDate(files)
	return nil
}

const seededBefore = "the data was seeded before"

// told says what was left out, the seed too if it was.
func (d *Driver) told(set func(func(*supervise.Status)), files []migrate.File, seed bool) {
	var steps []supervise.Step
	if len(files) > 0 {
		steps = append(steps, supervise.Step{What: "migrations", Skipped: "all " + words.Count(len(files), "migration") + " ran before"})
	}
	if seed && !d.svc.Scripts().Seed.IsZero() {
		steps = append(steps, supervise.Step{What: "seed", Skipped: seededBefore})
	}
	note(set, steps...)
}

// nothingToDo reports whether it is known, by the connection that has shown the
// server to be ready, that nothing is due.
func (d *Driver) nothingToDo(ctx context.Context, files []migrate.File) bool {
	d.mu.Lock()
	l, ok := d.provisioning.(kind.Looker)
	d.mu.Unlock()
	if !ok {
		return false
	}
	sc := d.svc.Scripts()
	state, known := l.State(ctx)
	return known && state.Made && len(state.Pending(files)) == 0 && state.Check(sc.Migrations.Value, files) == nil && (sc.Seed.IsZero() || state.Seeded())
}

// readMigrations begins to read the files of the migrations, and returns what
// waits for them. What was begun while the server started is taken.
func (d *Driver) readMigrations() func() ([]migrate.File, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if read := d.reading; read != nil {
		d.reading = nil
		return read
	}
	dir := d.svc.Scripts().Migrations.Value
	if dir == "" {
		return func() ([]migrate.File, error) { return nil, nil }
	}
	type result struct {
		files []migrate.File
		err   error
	}
	done := make(chan result, 1)
	go func() {
		files, err := migrate.ReadDir(d.project.Dir, dir)
		done <- result{files, err}
	}()
	return sync.OnceValues(func() ([]migrate.File, error) {
		r := <-done
		return r.files, r.err
	})
}

func since(t time.Time) float64 { return float64(time.Since(t).Microseconds()) / 1000 }

// note adds to what was done on the way to a start.
func note(set func(func(*supervise.Status)), steps ...supervise.Step) {
	if len(steps) == 0 {
		return
	}
	set(func(s *supervise.Status) { s.Done = append(slices.Clone(s.Done), steps...) })
}

func (d *Driver) seedName() string {
	s := d.svc.Scripts().Seed
	if s.File.Value != "" {
		return s.File.Value
	}
	return s.Run.String()
}

func (d *Driver) seed(ctx context.Context, r *migrate.Runner, state migrate.State, set func(func(*supervise.Status))) error {
	seed := d.svc.Scripts().Seed
	began := time.Now()
	switch {
	case state.Seeded():
		note(set, supervise.Step{What: "seed", Skipped: seededBefore})
		return nil
	case !state.Fresh:
		note(set, supervise.Step{What: "seed", Skipped: "the data was there before the seed was declared; neighbour reset " + d.svc.Name + " begins anew"})
		return nil
	case seed.File.Value != "":
		f, err := migrate.ReadFile(d.project.Dir, seed.File.Value)
		if err != nil {
			return err
		}
		if err := r.Seed(ctx, state, f); err != nil {
			return err
		}
	default:
		set(func(s *supervise.Status) { s.Task, s.Reason = supervise.Seeding, d.seedName() })
		if err := r.SeedBy(ctx, state, func() error { return d.seedByCommand(ctx, set) }); err != nil {
			return err
		}
	}
	note(set, supervise.Step{What: "seed " + d.seedName(), Took: since(began)})
	return nil
}

// seedByCommand runs the command that seeds, once the service that it runs with
// is prepared. What it prints goes to the log of the database.
func (d *Driver) seedByCommand(ctx context.Context, set func(func(*supervise.Status))) error {
	seed := d.svc.Scripts().Seed
	if with := d.project.Service(seed.WithService()); with != nil {
		if err := d.preparations(ctx, with, supervise.Request{}, set); err != nil {
			return err
		}
		set(func(s *supervise.Status) {
			s.State, s.Task, s.Reason = supervise.Starting, supervise.Seeding, d.seedName()
		})
	}
	c, err := d.project.SeedCommand(d.svc.Name, seed)
	if err != nil {
		return err
	}
	if c.Argv[0], err = c.Program(); err != nil {
		return err
	}
	exit, took, remarks, err := d.runInLog(ctx, "seed."+d.svc.Name, c.Argv, c.Environ(), c.Dir, nil)
	if err != nil {
		return err
	}
	if !exit.OK() {
		return &supervise.Failure{Reason: fmt.Sprintf("%s: %s after %s", words.Short(seed.Run.String()), exit, words.Span(took)), Remarks: append(remarks, "what it did stays, and it runs again at the next start")}
	}
	return nil
}

// upToDate remembers what the database was brought up to.
func (d *Driver) upToDate(files []migrate.File) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.applied = applied{done: true, files: names(files)}
}

// Outdated reports whether the files of the migrations are others than those
// that were run.
func (d *Driver) Outdated() bool {
	dir := d.svc.Scripts().Migrations.Value
	if dir == "" {
		return false
	}
	d.mu.Lock()
	a := d.applied
	d.mu.Unlock()
	files, err := migrate.ReadDir(d.project.Dir, dir)
	return err != nil || !a.done || !slices.Equal(a.files, names(files))
}
