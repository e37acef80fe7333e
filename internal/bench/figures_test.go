package main

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is beyond its limit is named, whichever side that is.
func TestBeyond(t *testing.T) {
	all := []figure{
		{Name: "start", Unit: "×", Values: []float64{1.1, 1.2, 9}, Limit: 1.3},
		{Name: "status", Unit: "ms", Values: []float64{20, 60, 70}, Limit: 50},
		{Name: "rate", Unit: "/s", Values: []float64{900, 950, 2000}, Limit: 1000, Least: true},
		{Name: "told", Unit: "MB", Values: []float64{1e9}},
	}
	assert.EqualError(t, beyond(all), "beyond their limits:\n  status: 60 ms (20 to 70), at most 50 ms\n  rate: 950 /s (900 to 2000), at least 1000 /s")
	assert.NoError(t, beyond(all[:1]))
}

// Two runs differ where their values don't overlap, and the medians by more than a trifle.
func TestMoved(t *testing.T) {
	before := []figure{{Name: "a", Unit: "ms", Values: []float64{10, 11, 12}}, {Name: "b", Unit: "ms", Values: []float64{10, 11, 12}}, {Name: "c", Unit: "ms", Values: []float64{100, 100, 100}}, {Name: "gone", Values: []float64{1}}}
	now := []figure{{Name: "a", Unit: "ms", Values: []float64{13, 14, 15}}, {Name: "b", Unit: "ms", Values: []float64{12, 14, 20}}, {Name: "c", Unit: "ms", Values: []float64{101, 102, 103}}, {Name: "new", Values: []float64{1}}}
	assert.Equal(t, []string{"a: 14 ms (13 to 15), was 11 ms (10 to 12)"}, moved(before, now))
	path := filepath.Join(t.TempDir(), "figures.json")
	require.NoError(t, writeFigures(path, now))
	again, err := readFigures(path)
	require.NoError(t, err)
	assert.Equal(t, now, again)
	assert.Empty(t, moved(now, again))
}

// The table takes the place of the one before, and nothing else changes.
func TestTable(t *testing.T) {
	path := filepath.Join(t.TempDir(), "README.md")
	require.NoError(t, os.WriteFile(path, []byte("# A\n"+tableBegins+"\nold\n"+tableEnds+"\nrest\n"), 0o644))
	rows := table([]figure{{What: "a start", Unit: "×", Beside: "2 ms : 1 ms", Values: []float64{1.234}, Limit: 1.3}}, time.Date(2026, 12, 2, 0, 0, 0, 0, time.UTC), "2 cores")
	require.NoError(t, writeTable(path, rows))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "# A\n"+tableBegins+"\nMeasured on 2 December 2026, on 2 cores: medians, and between which the rounds lay.\n\n| | measured | limit |\n|---|---|---|\n| a start (2 ms : 1 ms) | 1.23 × | at most 1.3 × |\n"+tableEnds+"\nrest\n", string(b))
	require.NoError(t, os.WriteFile(path, []byte("# A\n"), 0o644))
	assert.ErrorContains(t, writeTable(path, rows), "has no lines")
}
