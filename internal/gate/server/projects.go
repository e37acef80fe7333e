package server

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"neighbour/internal/core/declaration/route"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/project"
	"neighbour/internal/emulator"
	emulators "neighbour/internal/emulator/catalogue"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/proxy"
)

// Keeper is a project's keeper, as the gate asks it.
type Keeper interface {
	// Follow calls moved with the whole project at once, and each time that a service has come
	// into another state, until the context or the keeper ends.
	Follow(ctx context.Context, moved func(keep.Snapshot)) error
	// Status returns the whole project as it is now.
	Status(ctx context.Context) (keep.Snapshot, error)
	// Close ends the connection.
	Close()
}

// member is a project that the gate leads to.
type member struct {
	control.Registration
	keeper Keeper
	cancel context.CancelFunc
	// lost is since when its keeper does not answer; zero while it does.
	lost time.Time
	// at is the newest that is known of it.
	at keep.Snapshot
	// targets are where its names lead, by name. They stay when what they point to changes.
	targets map[string]*atomic.Pointer[proxy.Target]
	// taken are its names that another project has.
	taken map[string]string
}

// register leads to a project as long as its keeper's connection stands.
func (s *server) register(w http.ResponseWriter, r *http.Request) {
	var reg control.Registration
	if err := json.NewDecoder(r.Body).Decode(&reg); err != nil || reg.Dir == "" || reg.Socket == "" {
		reply(w, nil, fmt.Errorf("a registration needs a folder and a socket"))
		return
	}
	// The member outlives the connection: a keeper may be killed, and its services go on.
	ctx, cancel := context.WithCancel(context.WithoutCancel(r.Context()))
	m := &member{Registration: reg, keeper: s.connect(reg.Socket), cancel: cancel, targets: map[string]*atomic.Pointer[proxy.Target]{}}
	s.mu.Lock()
	if i := slices.IndexFunc(s.projects, func(o *member) bool { return o.Dir == reg.Dir }); i >= 0 {
		old := s.projects[i]
		old.cancel()
		m.targets, m.at = old.targets, old.at
		s.projects[i] = m
	} else {
		s.projects = append(s.projects, m)
	}
	s.mu.Unlock()
	go s.follow(ctx, m)
	var before string
	out := json.NewEncoder(w)
	for {
		s.mu.Lock()
		told := control.Told{Ports: s.ports, Problems: s.problemsOf(m), LANURL: s.lan[m.Dir].url()}
		changed := s.changed
		s.mu.Unlock()
		if text := fmt.Sprint(told); text != before {
			before = text
			if out.Encode(told) != nil {
				break
			}
			_ = http.NewResponseController(w).Flush()
		}
		select {
		case <-r.Context().Done():
			s.mu.Lock()
			if m.lost.IsZero() {
				m.lost = time.Now()
			}
			s.mu.Unlock()
			return
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// problemsOf returns what the user of a project should know. The lock is held.
func (s *server) problemsOf(m *member) []string {
	out := slices.Clone(s.problems)
	for name, by := range m.taken {
		out = append(out, fmt.Sprintf("%s leads to %s, which had it first", name, by))
	}
	if m.at.LAN != "" && s.lanProblems[m.Dir] != "" {
		out = append(out, s.lanProblems[m.Dir])
	}
	slices.Sort(out)
	return out
}

// leave ends a project.
func (s *server) leave(dir string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.projects = slices.DeleteFunc(s.projects, func(m *member) bool {
		if m.Dir != dir {
			return false
		}
		m.cancel()
		return true
	})
	if len(s.projects) == 0 {
		s.empty = time.Now()
	}
	maps.DeleteFunc(s.owners, func(_, has string) bool { return has == dir })
	s.lead()
}

// How often a keeper that is lost is looked for, and how long a project whose keeper is lost
// and whose services don't answer is led to.
const (
	lookForKeeper = 200 * time.Millisecond
	lostFor       = 10 * time.Second
)

// follow keeps what is known of a project new, until the context ends or the project does.
func (s *server) follow(ctx context.Context, m *member) {
	defer m.keeper.Close()
	for ctx.Err() == nil {
		if err := s.watch(ctx, m); ctx.Err() != nil {
			return
		} else if err != nil {
			s.log.Debug("keeper", "project", m.Dir, "lost", err)
		}
		s.mu.Lock()
		if m.lost.IsZero() {
			m.lost = time.Now()
		}
		lost, led := time.Since(m.lost), m.addresses()
		s.mu.Unlock()
		if lost > lostFor && !anyAnswers(led) {
			s.leave(m.Dir)
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookForKeeper):
		}
	}
}

// watch follows a keeper until it ends.
func (s *server) watch(ctx context.Context, m *member) error {
	return m.keeper.Follow(ctx, func(now keep.Snapshot) {
		s.mu.Lock()
		m.at, m.lost = now, time.Time{}
		s.lead()
		s.mu.Unlock()
	})
}

// addresses returns where the project's names lead. The server's lock is held.
func (m *member) addresses() []string {
	var all []string
	for _, p := range m.targets {
		if t := p.Load(); t != nil && t.URL != nil {
			all = append(all, t.URL.Host)
		}
	}
	return all
}

// anyAnswers reports whether anything listens at one of the addresses.
func anyAnswers(addresses []string) bool {
	for _, a := range addresses {
		if conn, err := net.DialTimeout("tcp", a, time.Second); err == nil {
			conn.Close()
			return true
		}
	}
	return false
}

// lead makes the table of names anew. The lock is held.
func (s *server) lead() {
	table := &route.Table[*atomic.Pointer[proxy.Target]]{}
	owner := map[string]string{}
	wants := map[string][]*member{} // by name
	for _, m := range s.projects {
		for _, n := range m.at.Gate {
			wants[n.Name] = append(wants[n.Name], m)
		}
	}
	s.keepOwners(wants)
	for _, m := range s.projects {
		m.taken = map[string]string{}
		wanted := map[string]bool{}
		for _, n := range m.at.Gate {
			pattern, err := route.Parse(n.Name)
			if err != nil {
				continue
			}
			if has := s.owners[n.Name]; has != m.Dir {
				for _, other := range wants[n.Name] {
					if other.Dir == has {
						m.taken[n.Name] = other.Name + " in " + has
					}
				}
				continue
			}
			if _, twice := owner[n.Name]; twice {
				continue
			}
			owner[n.Name] = m.Dir
			wanted[n.Name] = true
			p := m.targets[n.Name]
			if p == nil {
				p = &atomic.Pointer[proxy.Target]{}
				m.targets[n.Name] = p
			}
			p.Store(s.target(m, n.Service, n.Target, pattern.Path))
			_ = table.Add(pattern, p)
		}
		for name := range m.targets {
			if !wanted[name] {
				delete(m.targets, name)
			}
		}
	}
	if s.gate != nil {
		s.gate.Use(table)
	}
	s.openLAN()
	close(s.changed)
	s.changed = make(chan struct{})
}

// keepOwners decides which project has each name: the one that had it first, also before this
// gate began, as long as it wants it. The lock is held.
func (s *server) keepOwners(wants map[string][]*member) {
	changed := false
	for name, all := range wants {
		has := s.owners[name]
		if !slices.ContainsFunc(all, func(m *member) bool { return m.Dir == has }) {
			s.owners[name], changed = all[0].Dir, true
			s.were[name] = has
		}
	}
	// One that has come back before another had it for long has it again.
	for name, all := range wants {
		if was := s.were[name]; was != "" && was != s.owners[name] && time.Since(s.began) < settling && slices.ContainsFunc(all, func(m *member) bool { return m.Dir == was }) {
			s.owners[name], changed = was, true
		}
	}
	for name := range s.owners {
		if len(wants[name]) == 0 && time.Since(s.began) > settling {
			delete(s.owners, name)
			changed = true
		}
	}
	if changed {
		if b, err := json.Marshal(s.owners); err == nil {
			_ = atomicfile.Write(ownersFile(), b, 0o600)
		}
	}
}

// settling is how long after its begin the gate waits for projects that the one before it had.
const settling = 10 * time.Second

func ownersFile() string { return filepath.Join(project.GateDir(), "names.json") }

// private returns which paths of a kind's server are for its user alone: of emulators what they tell
// of themselves, and the inbox. They can't tell who asks, since the gate does.
func private(kind string) func(path string) bool {
	switch {
	case kind == "mail":
		return func(string) bool { return true }
	case slices.ContainsFunc(emulators.All, func(e emulator.Emulator) bool { return e.Name == kind }):
		return func(path string) bool { return strings.HasPrefix(path, "/-/") }
	}
	return nil
}

// target returns where a name leads now.
func (s *server) target(m *member, service, address, path string) *proxy.Target {
	t := &proxy.Target{Project: m.Name, Dir: m.Dir, Service: service, KeepHost: service != "", HTTPSOnly: m.at.HTTPSOnly}
	defer func() {
		if st := m.status(t.Service); st != nil {
			t.Private = private(st.Kind)
		}
	}()
	if service == "" {
		t.Strip, t.Ready = path, true
		text := address
		for _, st := range m.at.Services {
			for _, f := range st.Facts {
				if ref := "${" + st.Name + "." + f.Name + "}"; strings.Contains(text, ref) {
					text = strings.ReplaceAll(text, ref, f.Value)
					t.Service, t.Ready = st.Name, answers(st)
				}
			}
		}
		if u, err := url.Parse(text); err == nil && u.Host != "" {
			t.URL = u
		}
	} else if st := m.status(service); st != nil {
		t.Ready = answers(*st)
		for _, f := range st.Facts {
			if f.Name == "url" {
				if u, err := url.Parse(f.Value); err == nil {
					t.URL = u
				}
			}
		}
	}
	if t.Service != "" {
		t.Story = func(ctx context.Context) proxy.Story { return s.story(ctx, m, t.Service) }
	}
	return t
}

// answers reports whether requests are passed on to a service. What is ailing may answer some.
func answers(st supervise.Status) bool {
	return st.State == supervise.Ready && !st.Held || st.State == supervise.Ailing
}

func (m *member) status(service string) *supervise.Status {
	for i := range m.at.Services {
		if m.at.Services[i].Name == service {
			return &m.at.Services[i]
		}
	}
	return nil
}

// latestLines is how many lines of a log are shown by a page that waits.
const latestLines = 12

// story asks the keeper why a service does not answer.
func (s *server) story(ctx context.Context, m *member, service string) proxy.Story {
	now, err := m.keeper.Status(ctx)
	if err != nil {
		return proxy.Story{State: "unknown", Why: "The project's keeper does not answer. Try: neighbour status"}
	}
	var story proxy.Story
	states := map[string]supervise.Status{}
	for _, st := range now.Services {
		states[st.Name] = st
	}
	st, ok := states[service]
	if !ok {
		return proxy.Story{State: "unknown", Why: "The project has no such service any more."}
	}
	story.State = string(st.Shown())
	story.Why = st.Sentence(time.Now()) + "."
	for _, r := range st.Remarks {
		story.Why += "\n" + r
	}
	if st.State == supervise.Stopped || st.State == supervise.Failed || st.State == supervise.Finished {
		story.Why += "\nStart it with: neighbour start " + service
	}
	for _, need := range st.Needs {
		if n := states[need]; !answers(n) && n.State != supervise.Finished {
			story.Waits = append(story.Waits, need+": "+n.Sentence(time.Now()))
		}
	}
	lines := st.Lines[max(0, len(st.Lines)-latestLines):]
	for _, l := range lines {
		story.Lines = append(story.Lines, l.Text)
	}
	return story
}

// state tells what the gate does.
func (s *server) state() control.State {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := control.State{PID: os.Getpid(), Began: s.began, Ports: s.ports, Problems: s.problems, Projects: []control.Project{}}
	for _, m := range s.projects {
		p := control.Project{Dir: m.Dir, Name: m.Name, Names: []control.Name{}, LANURL: s.lan[m.Dir].url(), Lost: !m.lost.IsZero()}
		for _, n := range m.at.Gate {
			name := control.Name{GateName: n, Taken: m.taken[n.Name]}
			if target := m.targets[n.Name]; target != nil {
				if t := target.Load(); t != nil && t.URL != nil {
					name.To = t.URL.String()
				}
			}
			if st := m.status(n.Service); st != nil {
				name.State = string(st.Shown())
			}
			p.Names = append(p.Names, name)
		}
		out.Projects = append(out.Projects, p)
	}
	return out
}
