package proc

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// cgroupRoot is where the control groups are mounted (cgroups(7)).
const cgroupRoot = "/sys/fs/cgroup"

// Group is a control group (version 2) that bounds what processes use.
type Group struct{ dir string }

// Confine makes a control group of the given name with limits: the memory in
// bytes, and how many processors may be kept busy; 0: no limit. The error says
// why this user may not.
func Confine(name string, memory int64, processors float64) (*Group, error) {
	own, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil, fmt.Errorf("there are no control groups: %w", err)
	}
	if _, err := os.Stat(filepath.Join(cgroupRoot, "cgroup.controllers")); err != nil {
		return nil, errors.New("the machine has no control groups of version 2")
	}
	path := ""
	for line := range strings.Lines(string(own)) {
		if rest, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			path = rest
		}
	}
	var wanted []string
	if memory > 0 {
		wanted = append(wanted, "memory")
	}
	if processors > 0 {
		wanted = append(wanted, "cpu")
	}
	return confineBelow(cgroupRoot, path, wanted, name, memory, processors)
}

// confineBelow looks for a group above the given one that hands the wanted
// controllers on, and in which a new one may be made. A group with processes
// in it, as our own, can't hand them on (cgroups(7), "no internal processes").
func confineBelow(root, path string, wanted []string, name string, memory int64, processors float64) (*Group, error) {
	reason := errors.New("no control group that this user may use hands on " + strings.Join(wanted, " and "))
	for path != "/" && path != "." && path != "" {
		path = filepath.Dir(path)
		above := filepath.Join(root, path)
		if path == "/" { // only the first one may have processes and hand on
			_ = os.WriteFile(filepath.Join(above, "cgroup.subtree_control"), []byte("+"+strings.Join(wanted, " +")), 0)
		}
		handed, err := os.ReadFile(filepath.Join(above, "cgroup.subtree_control"))
		if err != nil || !containsAll(strings.Fields(string(handed)), wanted) {
			continue
		}
		g := &Group{filepath.Join(above, name)}
		if err := os.Mkdir(g.dir, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
			reason = err
			continue
		}
		if err := g.limit(memory, processors); err != nil {
			g.Remove()
			reason = err
			continue
		}
		return g, nil
	}
	return nil, reason
}

func containsAll(have, wanted []string) bool {
	for _, w := range wanted {
		found := false
		for _, h := range have {
			found = found || h == w
		}
		if !found {
			return false
		}
	}
	return true
}

func (g *Group) limit(memory int64, processors float64) error {
	write := func(file, text string) error {
		return os.WriteFile(filepath.Join(g.dir, file), []byte(text), 0o644)
	}
	if memory > 0 {
		if err := write("memory.max", strconv.FormatInt(memory, 10)); err != nil {
			return err
		}
		// Not there where the machine has no swap.
		_ = write("memory.swap.max", "0")
	}
	if processors > 0 {
		const period = 100_000 // microseconds
		return write("cpu.max", fmt.Sprintf("%d %d", int(processors*period), period))
	}
	return nil
}

// enter makes a process start in the group.
func (g *Group) enter(attributes *syscall.SysProcAttr) (leave func(), err error) {
	if g == nil {
		return func() {}, nil
	}
	f, err := os.Open(g.dir)
	if err != nil {
		return nil, fmt.Errorf("its limits can't be set: %w", err)
	}
	attributes.UseCgroupFD, attributes.CgroupFD = true, int(f.Fd())
	return func() { f.Close() }, nil
}

// Killed returns how often the system has killed a process of the group because it
// went over its memory limit.
func (g *Group) Killed() int {
	if g == nil {
		return 0
	}
	b, _ := os.ReadFile(filepath.Join(g.dir, "memory.events"))
	for line := range strings.Lines(string(b)) {
		if n, ok := strings.CutPrefix(line, "oom_kill "); ok {
			killed, _ := strconv.Atoi(strings.TrimSpace(n))
			return killed
		}
	}
	return 0
}

// Remove removes the group once its processes have ended.
func (g *Group) Remove() {
	if g != nil {
		_ = os.Remove(g.dir)
	}
}
