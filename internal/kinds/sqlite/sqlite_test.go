package sqlite

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

func instance(t *testing.T, file string) *kind.Instance {
	root := t.TempDir()
	return &kind.Instance{Root: root, Data: filepath.Join(root, ".neighbour", "data", "ledger"), Service: &declare.Service{Name: "ledger", Settings: &Settings{File: declare.Word{Value: file}}}}
}

func TestWhereItIs(t *testing.T) {
	in := instance(t, "db/it's 50%.db")
	require.NoError(t, Kind{}.Prepare(t.Context(), in, nil))
	assert.DirExists(t, filepath.Join(in.Root, "db"))
	facts, err := Kind{}.Facts(in)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(in.Root, "db/it's 50%.db"), facts["path"].Value)
	assert.Equal(t, "sqlite://"+in.Root+"/db/it%27s%2050%25.db", facts["url"].Value)
	assert.False(t, Kind{}.Holds(in))
	s, err := Kind{}.session(t.Context(), in)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Exec(t.Context(), statement("create table loan (id int)")))
	assert.FileExists(t, facts["path"].Value, "whatever its name")
	assert.True(t, Kind{}.Holds(in))
	all, err := Kind{}.Contents(t.Context(), in)
	require.NoError(t, err)
	assert.Equal(t, []string{"database it's 50%.db: 1 table, 0 rows, 8 KB"}, all)

	own := instance(t, "")
	facts, err = Kind{}.Facts(own)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(own.Data, "ledger.db"), facts["path"].Value)
}

func TestProbe(t *testing.T) {
	in := instance(t, "a.db")
	check, err := Kind{}.Probe(in)
	require.NoError(t, err)
	answer, err := check.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "it can be opened", answer)
	require.NoError(t, os.WriteFile(filepath.Join(in.Root, "a.db"), []byte("this is no database, but a text that is long enough to be taken for one"), 0o644))
	_, err = check.Check(t.Context())
	assert.ErrorContains(t, err, "a.db can't be opened: file is not a database")
	require.NoError(t, os.Remove(filepath.Join(in.Root, "a.db")))
	require.NoError(t, os.Mkdir(filepath.Join(in.Root, "a.db"), 0o755))
	_, err = check.Check(t.Context())
	assert.ErrorContains(t, err, "is a folder; correct file")
}

// A link that came with a project leads nothing out of it.
func TestLinks(t *testing.T) {
	outside := t.TempDir()
	for name, link := range map[string][2]string{"the folder": {outside, "db"}, "the file": {filepath.Join(outside, "x.db"), "db/a.db"}} {
		in := instance(t, "db/a.db")
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(in.Root, link[1])), 0o755))
		require.NoError(t, os.Symlink(link[0], filepath.Join(in.Root, link[1])))
		assert.Error(t, Kind{}.Prepare(t.Context(), in, nil), name)
	}
}

func statement(text string) sqlscript.Statement { return sqlscript.Statement{Text: text} }
