package api

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/keep"
	"neighbour/internal/core/project"
	"neighbour/internal/core/supervise"
)

// ListedService is a service of a project in a list.
type ListedService struct {
	Name  string          `json:"name"`
	State supervise.State `json:"state"`
	Port  int             `json:"port,omitempty"`
}

// Listed is a project of this user in a list.
type Listed struct {
	Name string `json:"name"`
	Dir  string `json:"dir"`
	// Gone says that its folder is no more.
	Gone bool `json:"gone,omitempty"`
	// Problem is why its services aren't known, or its keeper doesn't answer.
	Problem string `json:"problem,omitempty"`
	// PID is that of its keeper, 0 if it has none.
	PID int `json:"pid,omitempty"`
	// Began is when the latest start of its services began, if it has a keeper; Used is when
	// it last had one otherwise.
	Began time.Time `json:"began,omitzero"`
	Used  time.Time `json:"used,omitzero"`
	// Services are in the order of a start.
	Services []ListedService `json:"services"`
	// Memory is what they use now, and Disk what the project's data, logs and history take,
	// in bytes. Disk is -1 if it was not measured.
	Memory uint64 `json:"memory"`
	Disk   int64  `json:"disk"`
}

// Running reports whether a service of the project has a process.
func (l *Listed) Running() bool {
	return slices.ContainsFunc(l.Services, func(s ListedService) bool { return s.State.Running() })
}

// listWait is how long a keeper may take to say how its services are.
const listWait = 2 * time.Second

// Projects lists the projects of this user, those that run first, then by when they were used.
// Measure has the room be measured that they take, which reads all of their folders.
func Projects(ctx context.Context, measure bool) []Listed {
	dirs := project.EverEnlisted()
	out := make([]Listed, len(dirs))
	var all sync.WaitGroup
	slots := make(chan struct{}, 16)
	for i, dir := range dirs {
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			out[i] = listed(ctx, dir)
			if measure && !out[i].Gone {
				out[i].Disk = roomOf(filepath.Join(dir, project.StateDir))
			}
		})
	}
	all.Wait()
	slices.SortStableFunc(out, func(a, b Listed) int {
		if a.PID != 0 && b.PID != 0 {
			return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Dir, b.Dir))
		}
		return b.Used.Compare(a.Used) // of one that runs that is now
	})
	return out
}

func listed(ctx context.Context, dir string) Listed {
	l := Listed{Name: strings.ToLower(filepath.Base(dir)), Dir: dir, Services: []ListedService{}, Disk: -1}
	if _, err := os.Stat(filepath.Join(dir, project.StateDir)); errors.Is(err, fs.ErrNotExist) {
		l.Gone = true
		return l
	}
	p, problem := project.Open(dir)
	if problem != nil {
		p = project.At(dir)
		l.Problem, _, _ = strings.Cut(problem.Error(), "\n")
	} else {
		l.Name = p.Name
	}
	if info, err := os.Stat(p.StateFile()); err == nil {
		l.Used = info.ModTime()
	}
	ctx, cancel := context.WithTimeout(ctx, listWait)
	defer cancel()
	c, err := dial(ctx, p)
	if err == nil {
		defer c.Close()
		var s Snapshot
		if s, err = c.Status(ctx); err == nil {
			l.fill(s)
			return l
		}
	}
	if !errors.Is(err, ErrNoKeeper) {
		l.Problem = err.Error()
	}
	if problem != nil {
		return l
	}
	for _, s := range keep.Rest(p) {
		l.Services = append(l.Services, ListedService{s.Name, s.State, s.Port})
	}
	return l
}

// fill takes over what a keeper says.
func (l *Listed) fill(s Snapshot) {
	l.Name, l.PID, l.Began, l.Used = s.Project, s.PID, s.Began, time.Now()
	for _, st := range s.Services {
		l.Services = append(l.Services, ListedService{st.Name, st.State, st.Port})
		if n := len(st.Usage.Memory); n > 0 && st.State.Running() {
			l.Memory += st.Usage.Memory[n-1]
		}
	}
}

// roomOf returns how much room a folder takes, with what links in it lead to elsewhere: data of
// servers that run under another account.
func roomOf(dir string) (bytes int64) {
	add := func(root string) {
		_ = filepath.WalkDir(root, func(_ string, e fs.DirEntry, err error) error {
			if err != nil {
				return nil // it is being changed, or is not ours to read
			}
			if info, err := e.Info(); err == nil {
				if st, ok := info.Sys().(*syscall.Stat_t); ok {
					bytes += st.Blocks * 512
				}
			}
			return nil
		})
	}
	add(dir)
	links, _ := filepath.Glob(filepath.Join(dir, "data", "*"))
	for _, l := range links {
		if target, err := os.Readlink(l); err == nil {
			add(target)
		}
	}
	return bytes
}

// Clash is a port that several projects want.
type Clash struct {
	Port     int      `json:"port"`
	Projects []string `json:"projects"`
}

// Clashes returns the ports that several projects want, sorted.
func Clashes(all []Listed) []Clash {
	wants := map[int][]string{}
	for _, l := range all {
		for _, s := range l.Services {
			if s.Port != 0 && !slices.Contains(wants[s.Port], l.Name) {
				wants[s.Port] = append(wants[s.Port], l.Name)
			}
		}
	}
	var out []Clash
	for n, names := range wants {
		if len(names) > 1 {
			slices.Sort(names)
			out = append(out, Clash{n, names})
		}
	}
	slices.SortFunc(out, func(a, b Clash) int { return a.Port - b.Port })
	return out
}
