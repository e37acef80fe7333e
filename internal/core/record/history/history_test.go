package history

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/core/record/starts"
	"neighbour/internal/core/record/usage"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func start(services int, took float64) *starts.Start {
	s := &starts.Start{Began: time.Now().Truncate(time.Millisecond), Took: took, Result: starts.Ready}
	for i := range services {
		s.Services = append(s.Services, starts.Service{Name: fmt.Sprintf("s%02d", i), Kind: "program", Result: starts.Ready,
			Phases: []starts.Phase{{Is: starts.Waiting, To: 10, What: "for ledger"}, {Is: starts.Starting, From: 10, To: took}}})
	}
	return s
}

func TestStartsAreKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "history.db")
	db := New(path, nil)
	list, err := db.List(t.Context(), 5)
	require.NoError(t, err)
	assert.Empty(t, list)
	assert.NoFileExists(t, path, "asking makes nothing")
	_, err = db.Report(t.Context(), 0)
	assert.ErrorIs(t, err, ErrNone)

	for i := range 8 {
		require.NoError(t, db.Save(t.Context(), start(3, 100+float64(i))))
	}
	last := start(2, 50)
	last.Cold, last.Profile = true, "bare"
	require.NoError(t, db.Save(t.Context(), last))
	assert.Equal(t, int64(9), last.ID)
	last.Took = 60
	require.NoError(t, db.Save(t.Context(), last), "one that has a number is kept in its place")
	require.NoError(t, db.Close())

	db = New(path, nil)
	defer db.Close()
	list, err = db.List(t.Context(), 3)
	require.NoError(t, err)
	assert.Len(t, list, 3)
	assert.Equal(t, Summary{ID: 9, Began: last.Began, Took: 60, Result: starts.Ready, Cold: true, Services: 2}, list[2])
	got, err := db.Start(t.Context(), 9)
	require.NoError(t, err)
	assert.True(t, last.Began.Equal(got.Began))
	got.Began = last.Began
	assert.Equal(t, last, got)
	r, err := db.Report(t.Context(), 8)
	require.NoError(t, err)
	assert.Equal(t, 7, r.Usual.Whole.Of)
	_, err = db.Report(t.Context(), 99)
	assert.ErrorIs(t, err, ErrNone)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// A draft of a start whose keeper was killed is one that was cancelled then; the
// record of its end takes its place.
func TestDrafts(t *testing.T) {
	db := New(filepath.Join(t.TempDir(), "history.db"), nil)
	defer db.Close()
	s := start(2, 2500)
	s.Result, s.Services[1].Result, s.Services[1].Phases[1].To = starts.UnderWay, "", 0
	require.NoError(t, db.Save(t.Context(), s))
	list, err := db.List(t.Context(), 5)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, starts.Cancelled, list[0].Result)
	got, err := db.Start(t.Context(), s.ID)
	require.NoError(t, err)
	assert.Equal(t, []starts.Result{starts.Cancelled, starts.Ready, starts.Cancelled}, []starts.Result{got.Result, got.Services[0].Result, got.Services[1].Result})
	assert.Equal(t, starts.Phase{Is: starts.Starting, From: 10, To: 2500}, got.Services[1].Phases[1])

	s.Result, s.Took = starts.Ready, 3000
	require.NoError(t, db.Save(t.Context(), s))
	list, err = db.List(t.Context(), 5)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, starts.Ready, list[0].Result)
}

func TestChangedKeys(t *testing.T) {
	db := New(filepath.Join(t.TempDir(), "history.db"), nil)
	defer db.Close()
	for _, step := range []struct {
		now  map[string]string
		want []string
	}{
		{map[string]string{"api.run": "1", "api.port": "1"}, nil},
		{map[string]string{"api.run": "1", "api.port": "1"}, nil},
		{map[string]string{"api.run": "2", "web.run": "1"}, []string{"api.run", "api.port", "web.run"}},
		{map[string]string{"api.run": "2", "web.run": "1"}, nil},
	} {
		got, err := db.Declared(t.Context(), step.now)
		require.NoError(t, err)
		assert.ElementsMatch(t, step.want, got)
	}
}

// A history is never a reason not to go on.
func TestDamagedFiles(t *testing.T) {
	whole := filepath.Join(t.TempDir(), "history.db")
	db := New(whole, nil)
	for range 60 {
		require.NoError(t, db.Save(t.Context(), start(30, 100)))
	}
	require.NoError(t, db.Close())
	sound, err := os.ReadFile(whole)
	require.NoError(t, err)
	for name, damage := range map[string]func([]byte) []byte{
		"text":      func([]byte) []byte { return []byte("this is no database, but a text that is long enough to be one") },
		"cut":       func(b []byte) []byte { return b[:len(b)/3] },
		"overwrite": func(b []byte) []byte { copy(b[100:], make([]byte, 60_000)); return b },
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "history.db")
			require.NoError(t, os.WriteFile(path, damage(append([]byte{}, sound...)), 0o600))
			var aside string
			db := New(path, func(p string) { aside = p })
			defer db.Close()
			require.NoError(t, db.Save(t.Context(), start(1, 1)))
			assert.FileExists(t, aside, "what was there is kept")
			list, err := db.List(t.Context(), 10)
			require.NoError(t, err)
			assert.Len(t, list, 1)
		})
	}
	t.Run("newer", func(t *testing.T) {
		db := New(whole, nil)
		require.NoError(t, db.with(t.Context(), true, func(d *sql.DB) error { _, err := d.Exec("PRAGMA user_version = 9"); return err }))
		require.NoError(t, db.Close())
		assert.ErrorContains(t, New(whole, nil).Save(t.Context(), start(1, 1)), "newer Neighbour")
	})
}

func TestOldStartsAreDeleted(t *testing.T) {
	db := New(filepath.Join(t.TempDir(), "history.db"), nil)
	defer db.Close()
	old := start(1, 1)
	old.Began = time.Now().Add(-mostAge - time.Hour)
	require.NoError(t, db.Save(t.Context(), start(1, 1)))
	require.NoError(t, db.Save(t.Context(), old))
	for range pruneEvery {
		require.NoError(t, db.Save(t.Context(), start(1, 1)))
	}
	_, err := db.Start(t.Context(), old.ID)
	assert.ErrorIs(t, err, ErrNone)
	_, err = db.Start(t.Context(), 1)
	assert.NoError(t, err)
}

// BenchmarkReport is what the view waits for: the list and one report, of a
// project with as many starts as are kept. It also tells how large the file is.
func BenchmarkReport(b *testing.B) {
	path := filepath.Join(b.TempDir(), "history.db")
	db := New(path, nil)
	defer db.Close()
	for i := range 10_000 {
		if err := db.Save(b.Context(), start(30, float64(100+i%50))); err != nil {
			b.Fatal(err)
		}
	}
	info, err := os.Stat(path)
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := db.List(b.Context(), 200); err != nil {
			b.Fatal(err)
		}
		if _, err := db.Report(b.Context(), 0); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(info.Size())/(1<<20), "MB")
}

func TestUsageIsKept(t *testing.T) {
	db := New(filepath.Join(t.TempDir(), "history.db"), nil)
	defer db.Close()
	now := time.Now().Truncate(time.Second)
	row := func(service string, ago, step time.Duration, cpu float32) usage.Row {
		return usage.Row{Service: service, At: now.Add(-ago), Step: step, Peak: cpu, Sample: usage.Sample{CPU: cpu, Memory: 1 << 20, Files: 3}}
	}
	require.NoError(t, db.SaveUsage(t.Context(), []usage.Row{
		row("api", time.Minute, usage.Fine, 1), row("api", 3*time.Hour, usage.Fine, 2), row("api", 3*time.Hour, usage.Coarse, 3), row("api", 30*time.Hour, usage.Coarse, 4), row(usage.Machine, time.Minute, usage.Fine, 5),
	}))
	require.NoError(t, db.SaveUsage(t.Context(), []usage.Row{row("api", time.Minute, usage.Fine, 7)}), "what is there already is replaced")
	fine, err := db.Usage(t.Context(), usage.Fine, now.Add(-24*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, map[string][]usage.Row{"api": {row("api", time.Minute, usage.Fine, 7)}, usage.Machine: {row(usage.Machine, time.Minute, usage.Fine, 5)}}, fine)
	coarse, err := db.Usage(t.Context(), usage.Coarse, now.Add(-48*time.Hour))
	require.NoError(t, err)
	assert.Len(t, coarse["api"], 1, "a day is kept")
}
