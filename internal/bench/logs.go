//go:build linux

package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// loud is how much the service of benchLoud prints: lines of 100 bytes.
const (
	loudRate    = 200_000 // lines a second
	loudSeconds = 10
)

// printLoud is that service. It begins when the file is there that its
// variable names.
func printLoud(start string) error {
	for {
		if _, err := os.Stat(start); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	const each = 5 * time.Millisecond
	began := time.Now()
	n := 0
	var b bytes.Buffer
	for tick := 1; n < loudRate*loudSeconds; tick++ {
		b.Reset()
		for range loudRate / int(time.Second/each) {
			fmt.Fprintf(&b, "n=%09d a line of the shed that says what was lent, to whom, and when it is to be back, please..\n", n)
			n++
		}
		if _, err := os.Stdout.Write(b.Bytes()); err != nil {
			return err
		}
		time.Sleep(time.Until(began.Add(time.Duration(tick) * each)))
	}
	fmt.Println("took", time.Since(began))
	time.Sleep(time.Hour)
	return nil
}

// peak returns the most memory that a process has used, in bytes (proc(5), VmHWM).
func peak(pid int) (uint64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kb, err := strconv.ParseUint(strings.Fields(rest)[0], 10, 64)
			return kb << 10, err
		}
	}
	return 0, errors.New("no VmHWM")
}

func percentile(all []time.Duration, p int) time.Duration {
	all = slices.Sorted(slices.Values(all))
	return all[min(len(all)-1, len(all)*p/100)]
}

// benchLoud lets a service print 200,000 lines a second for 10 s, while the
// Logs view is open and keys are pressed.
func benchLoud(dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	begin := filepath.Join(dir, "begin")
	pid, err := startKeeper(dir, fmt.Sprintf("[service.loud]\nrun = [%q]\nenv.BENCH_PRINT = %q\nlog = { keep = \"1GB\" }\n", self, begin))
	if err != nil {
		return err
	}
	t, err := openTerminal("-C", dir)
	if err != nil {
		return err
	}
	defer t.close()
	if _, err := t.await("ready"); err != nil {
		return err
	}
	t.press("2")
	if _, err := t.await("following"); err != nil {
		return err
	}
	// Lines that change are most of a frame; what else changes is little.
	frames, size := 0, 0
	var last time.Time
	t.mu.Lock()
	t.seen = func(drawn []byte) {
		if time.Since(last) > 3*time.Millisecond {
			size = 0
		}
		last = time.Now()
		if size < 800 && size+len(drawn) >= 800 {
			frames++
		}
		size += len(drawn)
	}
	t.mu.Unlock()
	if err := os.WriteFile(begin, nil, 0o600); err != nil {
		return err
	}
	time.Sleep(500 * time.Millisecond)
	t.mu.Lock()
	frames = 0
	t.mu.Unlock()
	began := time.Now()
	var answers []time.Duration
	for time.Since(began) < (loudSeconds-2)*time.Second {
		t.press("?")
		took, err := t.await("Keys and signs")
		if err != nil {
			return err
		}
		answers = append(answers, took)
		t.press("\x1b")
		time.Sleep(150 * time.Millisecond)
	}
	t.mu.Lock()
	rate := float64(frames) / time.Since(began).Seconds()
	t.mu.Unlock()
	path := filepath.Join(dir, ".neighbour/logs/loud.log")
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		lines, err := journal.Last(path, 1)
		if err != nil {
			return err
		}
		if len(lines) > 0 && strings.HasPrefix(lines[0].Text, "took") {
			break
		}
		if time.Now().After(deadline) {
			return errors.New("the service never came to its end")
		}
	}
	took, _ := journal.Last(path, 1)
	lost, err := missing(path)
	if err != nil {
		return err
	}
	memory, err := peak(pid)
	if err != nil {
		return err
	}
	tell("loud/kept", fmt.Sprintf("of %d lines of 100 bytes, printed in %s, kept", loudRate*loudSeconds, strings.TrimPrefix(took[0].Text, "took ")), atLeast(100, "%"), "", 100*float64(loudRate*loudSeconds-lost)/float64(loudRate*loudSeconds))
	tell("loud/keeper", "… the keeper at most", atMost(100, "MB"), "", float64(memory)/(1<<20))
	tell("loud/key", fmt.Sprintf("… a key in the logs, at the 95th percentile of %d", len(answers)), atMost(50, "ms"), "", inMS(percentile(answers, 95))...)
	tell("loud/lines", "… newer lines on the screen", atLeast(10, "/s"), "", rate)
	return nil
}

// missing counts the numbered lines that are not in a log, or not in order.
func missing(path string) (int, error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	lost, n := 0, 0
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		if text, ok := bytes.CutPrefix(lines.Bytes(), []byte("n=")); ok {
			if got, err := strconv.Atoi(string(text[:9])); err != nil || got != n {
				lost++
			}
			n++
		}
	}
	return lost + loudRate*loudSeconds - n, lines.Err()
}

// benchSearch searches a log of 5 million lines, beside grep.
func benchSearch(dir string) error {
	if err := declare(dir, "[service.api]\nrun = \"sleep 1000\"\nlog = { keep = \"2GB\" }\n"); err != nil {
		return err
	}
	for _, command := range []string{"start", "stop"} { // the folder for state is made
		if _, err := neighbour(dir, command); err != nil {
			return err
		}
	}
	logs := filepath.Join(dir, ".neighbour", "logs")
	path := filepath.Join(logs, "api.log")
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<20)
	for i := range 5_000_000 {
		tool := "ladder"
		if i%1000 == 7 {
			tool = "Drill"
		}
		fmt.Fprintf(out, "2026-11-23T12:%02d:%02d.%03dZ INFO request %08d lent the %s to a neighbour for some days, number=%08d\n", i/60000%60, i/1000%60, i%1000, i, tool, i*7)
	}
	if err := errors.Join(out.Flush(), f.Close()); err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	p.Self = *binary
	ctx := context.Background()
	client, err := api.Connect(ctx, p)
	if err != nil {
		return err
	}
	defer client.Close()
	for _, s := range []struct {
		what, pattern string
		grep          []string
	}{
		{"a text", "Drill", []string{"-c", "Drill"}},
		{"a text in any case", "drill", []string{"-ci", "drill"}},
		{"an expression", "/lent the Dr.l+ to/", []string{"-cE", "lent the Dr.l+ to"}},
		{"a text in every line", "lent the", []string{"-c", "lent the"}},
	} {
		var first, all, grep []time.Duration
		for range 3 {
			began := time.Now()
			a, err := client.Logs(ctx, api.LogQuery{Patterns: []string{s.pattern}, N: 100})
			if err != nil {
				return err
			}
			first = append(first, time.Since(began))
			began = time.Now()
			count, err := client.CountLogs(ctx, api.LogQuery{Patterns: []string{s.pattern}}, nil)
			if err != nil {
				return err
			}
			all = append(all, time.Since(began))
			began = time.Now()
			said, err := exec.Command("grep", append(s.grep, path)...).Output()
			if err != nil {
				return err
			}
			grep = append(grep, time.Since(began))
			if n, _ := strconv.ParseInt(strings.TrimSpace(string(said)), 10, 64); n != count.Entries || len(a.Entries) != 100 {
				return fmt.Errorf("%s: %d are counted, and grep counts %d", s.pattern, count.Entries, n)
			}
		}
		key := "search/" + strings.ReplaceAll(s.what, " ", "-")
		tell(key+"/first", fmt.Sprintf("a search of 5 million lines, %.0f MB, for %s: the first matches", float64(journal.Size(path))/1e6, s.what), atMost(150, "ms"), "", inMS(first...)...)
		tell(key+"/all", "… until all are counted, to `grep -c`", atMost(3, "×"), sides(all, grep), ratios(all, grep)...)
	}
	return nil
}

// benchMany starts 300 small programs, 30 steps deep.
func benchMany(dir string) error {
	const steps, wide = 30, 10
	program := "echo ready; exec sleep 1000"
	var b, script strings.Builder
	script.WriteString("cd " + dir + "\nmkdir -p out\nrm -f out/*\n")
	for step := range steps {
		for i := range wide {
			needs := ""
			if step > 0 {
				needs = fmt.Sprintf("needs = [%q, %q]\n", fmt.Sprintf("s%02d-%d", step-1, i), fmt.Sprintf("s%02d-%d", step-1, (i+1)%wide))
			}
			fmt.Fprintf(&b, "[service.s%02d-%d]\nrun = \"sh -c '%s'\"\nhealth = { log = \"ready\" }\n%s", step, i, program, needs)
			fmt.Fprintf(&script, "sh -c '%s' >out/%d-%d 2>&1 & pids=\"$pids $!\"\n", program, step, i)
		}
		for i := range wide {
			fmt.Fprintf(&script, "until [ -s out/%d-%d ]; do sleep 0.01; done\n", step, i)
		}
	}
	script.WriteString("echo $pids\n")
	if err := declare(dir, b.String()); err != nil {
		return err
	}
	var ours, theirs []time.Duration
	for i := range max(3, *runs/2) {
		took, err := neighbour(dir, "start")
		if err != nil {
			return err
		}
		ours = append(ours, took)
		if i == 0 {
			continue // looked at below
		}
		if _, err := neighbour(dir, "stop"); err != nil {
			return err
		}
		if took, err = runByHand(script.String(), -1); err != nil {
			return err
		}
		theirs = append(theirs, took)
	}
	tell("many/start", "300 programs, 30 steps deep, to a shell script that starts them step by step", atMost(2, "×"), sides(ours[1:], theirs), ratios(ours[1:], theirs)...)
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	pid, err := keeperOf(dir)
	if err != nil {
		return err
	}
	onMap, onLogs, err := frames(dir)
	if err != nil {
		return err
	}
	memory, err := peak(pid)
	if err != nil {
		return err
	}
	tell("many/map", "… a key on the map, at the 95th percentile", atMost(33, "ms"), "", inMS(onMap)...)
	tell("many/logs", "… in the logs", atMost(33, "ms"), "", inMS(onLogs)...)
	tell("many/keeper", "… the keeper at most", atMost(120, "MB"), "", float64(memory)/(1<<20))
	return nil
}

// frames measures how long a key takes to be drawn.
func frames(dir string) (onMap, onLogs time.Duration, err error) {
	t, err := openTerminal("-C", dir)
	if err != nil {
		return 0, 0, err
	}
	defer t.close()
	if _, err := t.await("300 of 300 ready"); err != nil {
		return 0, 0, err
	}
	measure := func(key string, n int) (time.Duration, error) {
		var all []time.Duration
		for range n {
			t.press(key)
			began := time.Now()
			for {
				t.mu.Lock()
				drawn := len(t.drawn)
				t.mu.Unlock()
				if drawn > 200 { // more than a cursor's move
					break
				}
				if time.Since(began) > 5*time.Second {
					return 0, fmt.Errorf("key %q draws nothing", key)
				}
				time.Sleep(100 * time.Microsecond)
			}
			all = append(all, time.Since(began))
			time.Sleep(20 * time.Millisecond)
		}
		return percentile(all, 95), nil
	}
	if onMap, err = measure("\t", 100); err != nil {
		return 0, 0, err
	}
	t.press("2")
	if _, err := t.await("following"); err != nil {
		return 0, 0, err
	}
	time.Sleep(300 * time.Millisecond)
	onLogs, err = measure("\x1b[5~", 10) // page up
	return onMap, onLogs, err
}

// benchWatchers measures what ten clients that watch add to an idle keeper.
func benchWatchers(dir string) error {
	var b strings.Builder
	for i := range 30 {
		fmt.Fprintf(&b, "[service.s%02d]\nrun = \"sleep 1000\"\nhealth = { run = \"true\", every = \"30s\" }\n", i)
	}
	pid, err := startKeeper(dir, b.String())
	if err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	use := func(clients int) (float64, error) {
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		for range clients {
			c, err := api.Find(ctx, p)
			if err != nil {
				return 0, err
			}
			defer c.Close()
			events, err := c.Events(ctx)
			if err != nil {
				return 0, err
			}
			go func() {
				for {
					if _, err := events.Next(); err != nil {
						return
					}
				}
			}()
		}
		time.Sleep(time.Second)
		before, err := cpuOf(pid)
		if err != nil {
			return 0, err
		}
		const span = 20 * time.Second
		time.Sleep(span)
		after, err := cpuOf(pid)
		return 100 * (after - before).Seconds() / span.Seconds(), err
	}
	// One client makes the keeper measure every 2 s, as it should for anyone.
	one, err := use(1)
	if err != nil {
		return err
	}
	ten, err := use(11)
	if err != nil {
		return err
	}
	tell("watchers", "ten clients more that watch an idle keeper, of a core", atMost(1, "%"), fmt.Sprintf("one: %.2f %%", one), ten-one)
	return nil
}
