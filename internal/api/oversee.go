package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"sync"
	"time"

	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/project"
)

// InDir names a project by its folder.
type InDir struct {
	Dir string `json:"dir"`
}

// Switch says which projects are stopped so that another may start.
type Switch struct {
	Stop  []string `json:"stop"`
	Start string   `json:"start"`
}

var (
	projectsEndpoint = endpoint[none, ListedProjects]{method: "GET", path: "/projects", summary: "All projects of this user",
		details: "How much room they take is measured in the background, and -1 until that is known."}
	projectChecksEndpoint = endpoint[none, []check.Finding]{method: "GET", path: "/projects/checks", refusal: 422, summary: "What would go wrong in a project of this user, the worst first",
		query: []parameter{{"dir", "its folder", "string"}}}
	startProjectEndpoint = endpoint[InDir, Done]{method: "POST", path: "/projects/start", code: 202, refusal: 422, summary: "Start a project of this user",
		details: "The answer comes when its keeper has taken it up."}
	stopProjectEndpoint = endpoint[InDir, Done]{method: "POST", path: "/projects/stop", refusal: 422, summary: "Stop a project of this user",
		details: "The answer comes when nothing of it is left."}
	switchProjectsEndpoint = endpoint[Switch, Done]{method: "POST", path: "/projects/switch", refusal: 422, summary: "Stop projects and start another one",
		details: "Nothing is started unless all of them have stopped."}
	forgetProjectEndpoint = endpoint[InDir, Done]{method: "POST", path: "/projects/forget", refusal: 422, summary: "Take a project whose folder is gone out of the list"}
)

func (s *Server) handleProjects() {
	handle(s, projectsEndpoint, func(r *http.Request, _ none) (ListedProjects, func(), error) {
		all := projects(r.Context(), &s.glances, false)
		s.rooms.fill(all)
		return survey(all), nil, nil
	})
	handle(s, projectChecksEndpoint, func(r *http.Request, _ none) ([]check.Finding, func(), error) {
		p, err := project.Open(r.URL.Query().Get("dir"))
		if err != nil {
			return nil, nil, err
		}
		all, err := Ask(r.Context(), p).Checks(r.Context())
		return append([]check.Finding{}, all...), nil, err
	})
	handle(s, startProjectEndpoint, func(r *http.Request, in InDir) (Done, func(), error) {
		d, err := s.startProject(asked(r), in.Dir)
		return d, nil, err
	})
	handle(s, stopProjectEndpoint, func(r *http.Request, in InDir) (Done, func(), error) {
		d, err := s.stopProject(asked(r), in.Dir)
		return d, nil, err
	})
	handle(s, switchProjectsEndpoint, func(r *http.Request, in Switch) (Done, func(), error) {
		for _, dir := range in.Stop {
			if _, err := s.stopProject(asked(r), dir); err != nil {
				return Done{}, nil, fmt.Errorf("%s could not be stopped, so nothing was started: %w", dir, err)
			}
		}
		d, err := s.startProject(asked(r), in.Start)
		return d, nil, err
	})
	handle(s, forgetProjectEndpoint, func(_ *http.Request, in InDir) (Done, func(), error) {
		return Done{}, nil, ForgetProject(in.Dir)
	})
}

// ForgetProject takes a project out of the list whose folder is gone, with what was remembered
// of it.
func ForgetProject(dir string) error {
	if l := listed(context.Background(), nil, dir); !l.Gone {
		return fmt.Errorf("the folder %s is there; neighbour purge deletes what was made for the project", dir)
	}
	return project.At(dir).Purge()
}

// own reports whether a folder is that of the project of this keeper.
func (s *Server) own(dir string) bool { return filepath.Clean(dir) == s.keeper.Home() }

func (s *Server) startProject(ctx context.Context, dir string) (Done, error) {
	if s.own(dir) {
		began, err := s.keeper.Start(ctx, false)
		return Done{Began: began}, err
	}
	p, err := project.Open(dir)
	if err != nil {
		return Done{}, err
	}
	c, err := Connect(ctx, p)
	if err != nil {
		return Done{}, err
	}
	fresh, _, _, err := Refresh(ctx, p, c)
	if err != nil {
		c.Close()
		return Done{}, err
	}
	defer fresh.Close()
	return fresh.Start(ctx, false)
}

// stopProject stops a project. This keeper's own goes on without services, since somebody watches.
func (s *Server) stopProject(ctx context.Context, dir string) (Done, error) {
	if s.own(dir) {
		touched, err := s.keeper.Stop(ctx)
		return Done{Services: touched}, err
	}
	p, err := project.Open(dir)
	if err != nil {
		p = project.At(dir) // it can be stopped without its declaration
	}
	return StopProject(ctx, p)
}

// rooms are how much room projects take. It is measured in the background, since it takes long.
type rooms struct {
	mu    sync.Mutex
	known map[string]room
	busy  bool
}

type room struct {
	bytes int64
	at    time.Time
}

// roomAge is for how long the room that a project takes isn't measured again.
const roomAge = time.Minute

// fill sets what is known of the room that projects take, and has the rest measured.
func (r *rooms) fill(all []Listed) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil {
		r.known = map[string]room{}
	}
	var due []string
	for i := range all {
		if all[i].Gone {
			continue
		}
		have, ok := r.known[all[i].Dir]
		if ok {
			all[i].Disk = have.bytes
		}
		if time.Since(have.at) > roomAge {
			due = append(due, all[i].Dir)
		}
	}
	if r.busy || len(due) == 0 {
		return
	}
	r.busy = true
	go func() {
		for _, dir := range due {
			bytes := roomOf(project.At(dir).StateFolder())
			r.mu.Lock()
			r.known[dir] = room{bytes, time.Now()}
			r.mu.Unlock()
		}
		r.mu.Lock()
		r.busy = false
		r.mu.Unlock()
	}()
}

// Projects lists all projects of this user.
func (c *Client) Projects(ctx context.Context) (ListedProjects, error) {
	return call(ctx, c, projectsEndpoint, none{})
}

// ProjectChecks makes the checks of the project in a folder.
func (c *Client) ProjectChecks(ctx context.Context, dir string) ([]check.Finding, error) {
	e := projectChecksEndpoint
	e.path += "?dir=" + url.QueryEscape(dir)
	return call(ctx, c, e, none{})
}

// StartProject starts the project in a folder. It returns when its keeper has taken it up.
func (c *Client) StartProject(ctx context.Context, dir string) (Done, error) {
	return call(ctx, c, startProjectEndpoint, InDir{dir})
}

// StopProject stops the project in a folder. It returns when nothing of it is left.
func (c *Client) StopProject(ctx context.Context, dir string) (Done, error) {
	return call(ctx, c, stopProjectEndpoint, InDir{dir})
}

// SwitchProjects stops projects, and starts another if they have stopped.
func (c *Client) SwitchProjects(ctx context.Context, stop []string, start string) (Done, error) {
	return call(ctx, c, switchProjectsEndpoint, Switch{stop, start})
}

// ForgetProject takes a project whose folder is gone out of the list.
func (c *Client) ForgetProject(ctx context.Context, dir string) error {
	_, err := call(ctx, c, forgetProjectEndpoint, InDir{dir})
	return err
}
