package proc

import (
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A group is made below the nearest one that hands on what is wanted, with
// its limits; where there is none, the reason is told.
func TestConfine(t *testing.T) {
	root := t.TempDir()
	group := func(path, handsOn string) {
		dir := filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte(handsOn+"\n"), 0o644))
	}
	group("user", "cpu memory pids")
	group("user/app", "memory pids")
	group("user/app/terminal", "")
	group("", "")
	own := "/user/app/terminal"
	g, err := confineBelow(root, own, []string{"memory"}, "shed", 512<<20, 0)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(root, "user/app/shed"), g.dir, "memory is handed on next above")
	for file, want := range map[string]string{"memory.max": "536870912", "memory.swap.max": "0"} {
		b, err := os.ReadFile(filepath.Join(g.dir, file))
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
	require.NoError(t, os.WriteFile(filepath.Join(g.dir, "memory.events"), []byte("max 9\noom 1\noom_kill 2\n"), 0o644))
	assert.Equal(t, 2, g.Killed())
	g, err = confineBelow(root, own, []string{"memory", "cpu"}, "shed", 1, 1.5)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(root, "user/shed"), g.dir)
	b, err := os.ReadFile(filepath.Join(g.dir, "cpu.max"))
	require.NoError(t, err)
	assert.Equal(t, "150000 100000", string(b))
	group("user", "")
	_, err = confineBelow(root, own, []string{"cpu"}, "shed", 0, 1)
	assert.ErrorContains(t, err, "no control group that this user may use hands on cpu")
	var none *Group
	assert.Zero(t, none.Killed())
	none.Remove()
}

// Who can open no file any more takes nothing for gone that runs, and still ends what it is to end.
func TestOutOfFiles(t *testing.T) {
	if os.Getenv("OUT_OF_FILES") == "" {
		t.Parallel()
		cmd := exec.Command(os.Args[0], "-test.run=^TestOutOfFiles$", "-test.v")
		cmd.Env = append(os.Environ(), "OUT_OF_FILES=1")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return
	}
	sleep := exec.Command("sleep", "1000")
	require.NoError(t, sleep.Start())
	ended := make(chan struct{})
	go func() { _ = sleep.Wait(); close(ended) }()
	id, err := Identify(sleep.Process.Pid)
	require.NoError(t, err)
	over := ID{PID: id.PID, Start: "another"}
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &syscall.Rlimit{Cur: 64, Max: 64}))
	var held []*os.File
	for {
		f, err := os.Open(os.DevNull)
		if err != nil {
			break
		}
		held = append(held, f)
	}
	alive := id.Alive()
	_, tableErr := ReadTable()
	Signal([]ID{id}, "KILL")
	for _, f := range held {
		f.Close()
	}
	assert.True(t, alive)
	assert.Error(t, tableErr)
	assert.False(t, over.Alive())
	<-ended
	assert.False(t, id.Alive())
}
