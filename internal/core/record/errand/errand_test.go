package errand

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRunsAreKept(t *testing.T) {
	s := NewStore(t.TempDir() + "/errands")
	runs, err := s.Runs("", 5)
	require.NoError(t, err)
	assert.Empty(t, runs)
	for i := range mostRuns + 5 {
		rec, err := s.Begin(Run{Errand: "count", Args: []string{fmt.Sprint(i)}, By: "the test"})
		require.NoError(t, err)
		fmt.Fprintf(rec, "line %d\n", i)
		got, err := s.Run(rec.Run().ID)
		require.NoError(t, err)
		assert.Equal(t, UnderWay, got.Result)
		run, err := rec.End(i%2 == 0, "exit 0", "x")
		require.NoError(t, err)
		assert.Positive(t, run.Took)
	}
	runs, err = s.Runs("count", 100)
	require.NoError(t, err)
	require.Len(t, runs, mostRuns, "the oldest are deleted")
	last := runs[len(runs)-1]
	assert.Equal(t, []string{fmt.Sprint(mostRuns + 4)}, last.Args)
	assert.Equal(t, OK, last.Result)
	out, next, err := s.Output(last.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("line %d\n", mostRuns+4), string(out))
	out, _, err = s.Output(last.ID, next)
	require.NoError(t, err)
	assert.Empty(t, out)
	_, err = s.Run(1)
	assert.ErrorIs(t, err, ErrNone)
	other, err := s.Runs("other", 5)
	require.NoError(t, err)
	assert.Empty(t, other)
}

// Of output that is too long the end is kept, from the beginning of a line on.
func TestLongOutput(t *testing.T) {
	s := NewStore(t.TempDir())
	rec, err := s.Begin(Run{Errand: "loud"})
	require.NoError(t, err)
	for i := range 200000 {
		fmt.Fprintf(rec, "%d\n", i)
	}
	_, err = rec.Write(bytes.Repeat([]byte("x"), mostBytes))
	require.NoError(t, err)
	fmt.Fprint(rec, "\nthe end\n")
	_, err = rec.End(true, "exit 0", "")
	require.NoError(t, err)
	out, _, err := s.Output(rec.Run().ID, 0)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(out), mostBytes)
	assert.True(t, strings.HasPrefix(string(out), leftOut), string(out[:60]))
	assert.True(t, strings.HasSuffix(string(out), "\nthe end\n"))
}

// A link in the place of the folder leads nothing elsewhere.
func TestLinkedFolder(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "errands")))
	_, err := NewStore(filepath.Join(dir, "errands")).Begin(Run{Errand: "count"})
	assert.ErrorContains(t, err, "is no folder but leads elsewhere; remove it")
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries)
}
