package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// ListedService is a service of a project in a list.
type ListedService struct {
	Name   string          `json:"name"`
	State  supervise.State `json:"state"`
	Reason string          `json:"reason,omitempty"`
	Held   bool            `json:"held,omitempty"`
	Port   int             `json:"port,omitempty"`
}

// Shown returns the state as it is shown.
func (s ListedService) Shown() supervise.State { return s.State.With(s.Held) }

// Listed is a project of this user in a list.
type Listed struct {
	Name string `json:"name"`
	Dir  string `json:"dir"`
	// Gone says that its folder is no more.
	Gone bool `json:"gone,omitempty"`
	// Left is what there still is of one whose folder is no more.
	Left []project.Leaving `json:"left,omitempty"`
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
	// Rivals are the folders of projects that run and have a port which this one wants.
	Rivals []string `json:"rivals,omitempty"`
}

// ListedProjects are all projects of this user, and what is to be said of them as a whole.
type ListedProjects struct {
	Projects []Listed `json:"projects"`
	Clashes  []Clash  `json:"clashes"`
	// Says is what matters of all of them, in words.
	Says []string `json:"says"`
}

// longUnused is how long nobody has used a project of which that is said.
const longUnused = 60 * 24 * time.Hour

// shortMemory is the part of the machine's memory, one in so many, below which it is short.
const shortMemory = 10

// survey says of projects what matters when they are seen together.
func survey(all []Listed) ListedProjects {
	out := ListedProjects{Projects: append([]Listed{}, all...), Clashes: append([]Clash{}, Clashes(all)...)}
	running := 0
	var unused, gone []string
	for i := range all {
		l := &out.Projects[i]
		l.Rivals = nil
		switch {
		case l.Gone:
			gone = append(gone, l.Name)
		case l.Running():
			running++
		case !l.Used.IsZero() && time.Since(l.Used) > longUnused:
			text := fmt.Sprintf("%s was not used for %s", l.Name, words.Span(time.Since(l.Used)))
			if l.Disk > 0 {
				text += " and holds " + words.Bytes(uint64(l.Disk))
			}
			unused = append(unused, text)
		}
		for _, c := range out.Clashes {
			if !slices.Contains(c.Dirs, l.Dir) {
				continue
			}
			for j := range all {
				if other := &all[j]; other.Dir != l.Dir && other.Holds(c.Port) && !slices.Contains(l.Rivals, other.Dir) {
					l.Rivals = append(l.Rivals, other.Dir)
				}
			}
		}
	}
	out.Says = []string{fmt.Sprintf("%d of %s running", running, words.Count(len(all), "project"))}
	for _, c := range out.Clashes {
		out.Says = append(out.Says, fmt.Sprintf("%s want %d", words.Join(c.Projects), c.Port))
	}
	if len(gone) > 0 {
		out.Says = append(out.Says, "of "+words.Join(gone)+" the folder is gone")
	}
	out.Says = append(out.Says, unused...)
	if m, err := proc.ReadMachine(); err == nil && m.Total > 0 && m.Total-m.Memory < m.Total/shortMemory {
		out.Says = append(out.Says, fmt.Sprintf("memory is short: %s of %s are free", words.Bytes(m.Total-m.Memory), words.Bytes(m.Total)))
	}
	return out
}

// Where lists the ports of the services in a few words: "4100–4103 · 5432".
func (l *Listed) Where() string {
	var ports []int
	for _, s := range l.Services {
		if s.Port != 0 {
			ports = append(ports, s.Port)
		}
	}
	slices.Sort(ports)
	ports = slices.Compact(ports)
	var out []string
	for i := 0; i < len(ports); {
		j := i
		for j+1 < len(ports) && ports[j+1] == ports[j]+1 {
			j++
		}
		switch text := strconv.Itoa(ports[i]); {
		case j-i > 1:
			out = append(out, text+"–"+strconv.Itoa(ports[j]))
		default:
			for ; i <= j; i++ {
				out = append(out, strconv.Itoa(ports[i]))
			}
		}
		i = j + 1
	}
	return strings.Join(out, " · ")
}

// When says since when the project runs, or when it was used last; "" if that isn't known.
func (l *Listed) When(now time.Time) string {
	switch {
	case l.Gone:
		return "its folder is gone"
	case l.PID != 0 && l.Running() && !l.Began.IsZero():
		began := l.Began.Local()
		if began.YearDay() == now.Local().YearDay() && now.Sub(began) < 24*time.Hour {
			return "since " + began.Format("15:04")
		}
		return "since " + began.Format("2 Jan 15:04")
	case l.Used.IsZero():
		return ""
	case now.Sub(l.Used) < time.Minute:
		return "now"
	}
	return words.Span(now.Sub(l.Used)) + " ago"
}

// Holds reports whether a service of the project runs and has the port.
func (l *Listed) Holds(port int) bool {
	return slices.ContainsFunc(l.Services, func(s ListedService) bool { return s.Port == port && s.State.Running() })
}

// ListProjects lists the projects of this user with what is to be said of them. Measure has the
// room be measured that they take, which reads all of their folders.
func ListProjects(ctx context.Context, measure bool) ListedProjects {
	return survey(Projects(ctx, measure))
}

// Running reports whether a service of the project has a process.
func (l *Listed) Running() bool {
	return slices.ContainsFunc(l.Services, func(s ListedService) bool { return s.State.Running() })
}

// listWait is how long a keeper may take to say how its services are.
const listWait = 2 * time.Second

// Projects lists the projects of this user, those that run first, then by when they were used.
// Measure has the room be measured that they take, which reads all of their folders.
func Projects(ctx context.Context, measure bool) []Listed { return projects(ctx, nil, measure) }

func projects(ctx context.Context, g *glances, measure bool) []Listed {
	dirs := project.EverEnlisted()
	out := make([]Listed, len(dirs))
	var all sync.WaitGroup
	slots := make(chan struct{}, 16)
	for i, dir := range dirs {
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			out[i] = listed(ctx, g, dir)
			if measure && !out[i].Gone {
				out[i].Disk = roomOf(project.At(dir).StateFolder())
			}
		})
	}
	all.Wait()
	slices.SortStableFunc(out, func(a, b Listed) int {
		switch x, y := a.Running(), b.Running(); {
		case x != y && x:
			return -1
		case x != y:
			return 1
		case x || a.PID != 0 && b.PID != 0:
			return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Dir, b.Dir))
		}
		return b.Used.Compare(a.Used)
	})
	return out
}

// glances are what was read of projects, so that it isn't read again and again. It may be used
// concurrently; nil remembers nothing.
type glances struct {
	mu    sync.Mutex
	known map[string]glance
}

type glance struct {
	project *project.Project
	stamp   string // of its declaration, when that was read
}

// open opens a project, unless it is open and as it was.
func (g *glances) open(dir string) (*project.Project, error) {
	if g == nil {
		return project.Glance(dir)
	}
	g.mu.Lock()
	last := g.known[dir]
	g.mu.Unlock()
	if last.project != nil && last.project.Stamp() == last.stamp {
		return last.project, nil
	}
	p, err := project.Glance(dir)
	if err != nil {
		return nil, err
	}
	stamp := p.Stamp()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.known == nil {
		g.known = map[string]glance{}
	}
	g.known[dir] = glance{p, stamp}
	return p, nil
}

func listed(ctx context.Context, g *glances, dir string) Listed {
	l := Listed{Name: strings.ToLower(filepath.Base(dir)), Dir: dir, Services: []ListedService{}, Disk: -1}
	if !project.Present(dir) {
		l.Gone, l.Left = true, project.At(dir).Leavings()
		return l
	}
	p, problem := g.open(dir)
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
		l.Services = append(l.Services, ListedService{s.Name, s.State, s.Reason, false, s.Port})
	}
	return l
}

// fill takes over what a keeper says.
func (l *Listed) fill(s Snapshot) {
	l.Name, l.PID, l.Began, l.Used = s.Project, s.PID, s.Began, time.Now()
	for _, st := range s.Services {
		l.Services = append(l.Services, ListedService{st.Name, st.State, st.Reason, st.Held, st.Port})
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
	Dirs     []string `json:"dirs"`
}

// Clashes returns the ports that several projects want, sorted.
func Clashes(all []Listed) []Clash {
	wants := map[int]*Clash{}
	for _, l := range all {
		for _, s := range l.Services {
			c := wants[s.Port]
			if c == nil {
				c = &Clash{Port: s.Port}
				wants[s.Port] = c
			}
			if s.Port != 0 && !slices.Contains(c.Dirs, l.Dir) {
				c.Projects, c.Dirs = append(c.Projects, l.Name), append(c.Dirs, l.Dir)
			}
		}
	}
	var out []Clash
	for _, c := range wants {
		if len(c.Dirs) > 1 {
			slices.Sort(c.Projects)
			slices.Sort(c.Dirs)
			out = append(out, *c)
		}
	}
	slices.SortFunc(out, func(a, b Clash) int { return a.Port - b.Port })
	return out
}
