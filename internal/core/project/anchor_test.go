package project_test

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project"
	_ "neighbour/internal/kinds/catalogue"
)

// Wherever a project's folder goes, and whatever is lost of its anchor, its state is found again;
// and no other project's is taken for it.
func TestStateIsFound(t *testing.T) {
	t.Setenv("CI", "")
	root := t.TempDir()
	made := func(name string) *project.Project {
		p := open(t, filepath.Join(root, name), stack)
		require.NoError(t, p.EnsureDirs())
		return p
	}
	at := func(name string) string { return project.At(filepath.Join(root, name)).StateFolder() }
	move := func(from, to string) {
		require.NoError(t, os.Rename(filepath.Join(root, from), filepath.Join(root, to)))
	}

	shop := made("shop")
	state := shop.StateFolder()
	require.NotContains(t, state, root+"/shop/", "the tree has none of it")
	left, err := os.ReadDir(filepath.Join(shop.Dir, ".neighbour"))
	require.NoError(t, err)
	assert.Len(t, left, 3, "%v", left)

	require.NoError(t, os.RemoveAll(filepath.Join(shop.Dir, ".neighbour")))
	assert.Equal(t, state, at("shop"), "as after git clean -fdx")
	made("shop")
	assert.Equal(t, state, at("shop"))

	move("shop", "moved")
	assert.Equal(t, state, at("moved"))
	made("moved")
	other := made("shop")
	assert.NotEqual(t, state, other.StateFolder(), "another project where it was")
	assert.Equal(t, state, at("moved"))

	t.Run("copied", func(t *testing.T) {
		require.NoError(t, os.CopyFS(filepath.Join(root, "copied"), os.DirFS(filepath.Join(root, "moved"))))
		_, err := project.Open(filepath.Join(root, "copied"))
		assert.ErrorContains(t, err, "copied is a copy of "+root+"/moved")
		require.NoError(t, os.Mkdir(filepath.Join(state, "data", "ledger"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(state, "data", "ledger", "rows"), []byte("of moved"), 0o600))
		_, err = project.Vouch(filepath.Join(root, "copied"), false)
		require.NoError(t, err)
		b, err := os.ReadFile(filepath.Join(at("copied"), "data", "ledger", "rows"))
		require.NoError(t, err)
		assert.Equal(t, "of moved", string(b))
		assert.NotEqual(t, state, at("copied"))
		assert.Equal(t, state, at("moved"))
	})
	t.Run("interrupted", func(t *testing.T) {
		p := made("interrupted")
		anchor, state := filepath.Join(p.Dir, ".neighbour"), p.StateFolder()
		for _, lost := range [][]string{{anchor}, {state}, {filepath.Join(state, "id")}, {filepath.Join(state, "id"), anchor}, {filepath.Join(anchor, "place")}} {
			for _, path := range lost {
				require.NoError(t, os.RemoveAll(path))
			}
			assert.Equal(t, state, made("interrupted").StateFolder(), lost)
		}
	})
	t.Run("another folder of the user's", func(t *testing.T) {
		t.Setenv("XDG_STATE_HOME", t.TempDir())
		assert.Equal(t, state, at("moved"), "as from cron")
		require.NoError(t, open(t, filepath.Join(root, "moved"), stack).Agree())
		assert.Equal(t, state, at("moved"), "as after a start from cron")
		forged := filepath.Join(root, "forged")
		require.NoError(t, os.MkdirAll(filepath.Join(forged, ".neighbour"), 0o700))
		for name, text := range map[string]string{"id": "guessed", "place": state} {
			require.NoError(t, os.WriteFile(filepath.Join(forged, ".neighbour", name), []byte(text), 0o600))
		}
		assert.NotEqual(t, state, at("forged"))
	})
	t.Run("without HOME", func(t *testing.T) {
		shop := open(t, filepath.Join(root, "moved"), stack)
		require.NoError(t, os.WriteFile(filepath.Join(shop.Dir, ".neighbour", "ports.json"), []byte("{}"), 0o600))
		assert.Equal(t, state, at("moved"), "a file of somebody's without a home is no state")
		require.NoError(t, os.Remove(filepath.Join(shop.Dir, ".neighbour", "ports.json")))
		me, err := user.Current()
		require.NoError(t, err)
		t.Setenv("HOME", "")
		t.Setenv("XDG_STATE_HOME", "")
		assert.Equal(t, filepath.Join(me.HomeDir, ".local/state/neighbour"), project.UserDir(), "the system knows it")
	})
	t.Run("in the tree", func(t *testing.T) {
		t.Setenv("CI", "true")
		p := made("ci")
		assert.Equal(t, filepath.Join(p.Dir, ".neighbour"), p.StateFolder())
		t.Setenv("CI", "")
		assert.Equal(t, filepath.Join(p.Dir, ".neighbour"), at("ci"), "it stays where it is")
	})
	t.Run("of one name", func(t *testing.T) {
		all := map[string]bool{}
		for i := range 5 {
			all[made(fmt.Sprintf("%d/web", i)).StateFolder()] = true
		}
		assert.Len(t, all, 5)
	})
}
