package e2e

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/proc"
)

// killKeeper kills the keeper without warning.
func (p *project) killKeeper() {
	p.t.Helper()
	time.Sleep(100 * time.Millisecond) // for the state to be on disk
	id, err := proc.Identify(p.status().Keeper.PID)
	require.NoError(p.t, err)
	require.NoError(p.t, syscall.Kill(id.PID, syscall.SIGKILL))
	require.Eventually(p.t, func() bool { return !id.Alive() }, patience, time.Millisecond)
}

func (p *project) kill(service string, sig syscall.Signal) {
	p.t.Helper()
	require.NoError(p.t, syscall.Kill(p.status().Service[service].PID, sig))
}

// running waits until a service is in a state and has a process.
func (p *project) running(service, state string) (pid int) {
	p.t.Helper()
	p.eventually(func(s status) bool {
		pid = s.Service[service].PID
		return s.Service[service].State == state && pid != 0
	})
	return pid
}

func (p *project) eventually(what func(status) bool) {
	p.t.Helper()
	require.Eventually(p.t, func() bool { return what(p.status()) }, patience, 100*time.Millisecond)
}

// printed are the lines that a service printed.
func (p *project) printed(service string) []string {
	p.t.Helper()
	var out []string
	for line := range strings.Lines(p.must("logs", service, "-n", "10000", "--json")) {
		var e struct{ Text string }
		require.NoError(p.t, json.Unmarshal([]byte(line), &e))
		out = append(out, e.Text)
	}
	return out
}

// unbroken says that the numbers which a service prints are all in its log.
func (p *project) unbroken(service string) {
	p.t.Helper()
	lines := p.printed(service)
	require.Greater(p.t, len(lines), 10)
	for i, l := range lines {
		n, _ := strconv.Atoi(l)
		require.Equal(p.t, i+1, n, "a line is missing or twice")
	}
}

// together runs a command several times at once.
func (p *project) together(n int, args ...string) {
	var all sync.WaitGroup
	for range n {
		all.Go(func() {
			cmd := exec.Command(binary, args...)
			cmd.Dir = p.dir
			out, err := cmd.CombinedOutput()
			assert.NoError(p.t, err, string(out))
		})
	}
	all.Wait()
}

// ask asks the keeper itself.
func (p *project) ask(path string, answer any) {
	p.t.Helper()
	client := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", p.socket())
	}}}
	defer client.CloseIdleConnections()
	resp, err := client.Get("http://keeper" + path)
	require.NoError(p.t, err)
	defer resp.Body.Close()
	require.NoError(p.t, json.NewDecoder(resp.Body).Decode(answer))
}

// descendants are the processes below another.
func descendants(t testing.TB, pid int) []proc.ID {
	t.Helper()
	table, err := proc.ReadTable()
	require.NoError(t, err)
	var out []proc.ID
	for _, id := range table.Belonging(table[pid].ID) {
		if id.PID != pid {
			out = append(out, id)
		}
	}
	return out
}

// memory is what a process uses, in MB.
func memory(t testing.TB, pid int) int {
	t.Helper()
	table, err := proc.ReadTable()
	require.NoError(t, err)
	require.Contains(t, table, pid)
	return int(table[pid].Memory >> 20)
}
