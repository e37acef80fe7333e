package atomicfile

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWriteIsWholeOrNot(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	require.NoError(t, Write(path, []byte("one"), 0o600))
	assert.Error(t, Write(filepath.Join(path, "below-a-file"), []byte("x"), 0o600))
	require.NoError(t, Write(path, []byte("two"), 0o640))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "two", string(b))
	rest, err := filepath.Glob(path + ".*")
	require.NoError(t, err)
	assert.Empty(t, rest)
}

func TestUpdateMap(t *testing.T) {
	path := filepath.Join(t.TempDir(), "new", "f.json")
	add := func(all map[string]int) (bool, error) {
		if all["a"] != 0 {
			return false, nil
		}
		all["a"] = 1
		return true, nil
	}
	all, err := UpdateMap(path, add)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"a": 1}, all)
	require.NoError(t, os.WriteFile(path, []byte("null"), 0o600))
	all, err = UpdateMap(path, add)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"a": 1}, all)
	require.NoError(t, os.WriteFile(path, []byte("{broken"), 0o600))
	_, err = UpdateMap(path, add)
	assert.ErrorContains(t, err, "move it away if it is broken")
	b, _ := os.ReadFile(path)
	assert.Equal(t, "{broken", string(b), "nothing is lost")
}

// Many processes add an entry each, and each is there in the end.
func TestUpdateMapBetweenProcesses(t *testing.T) {
	const processes, each = 8, 10
	path := os.Getenv("ATOMICFILE_TEST")
	if path != "" {
		for i := range each {
			_, err := UpdateMap(path, func(all map[string]int) (bool, error) {
				all[fmt.Sprint(os.Getpid(), " ", i)] = i
				return true, nil
			})
			require.NoError(t, err)
		}
		return
	}
	path = filepath.Join(t.TempDir(), "f.json")
	var all sync.WaitGroup
	for range processes {
		all.Go(func() {
			cmd := exec.Command(os.Args[0], "-test.run=^"+t.Name()+"$")
			cmd.Env = append(os.Environ(), "ATOMICFILE_TEST="+path)
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, string(out))
		})
	}
	all.Wait()
	got := map[string]int{}
	require.NoError(t, ReadJSON(path, &got))
	assert.Len(t, got, processes*each)
}
