// Package discover reads a project that has no declaration, and proposes one:
// from the manifests of its packages, the scripts that they name, and its env
// files. It runs nothing, changes nothing, and copies no value of an env file.
package discover

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/input"
	"neighbour/internal/core/machine/lazyregexp"
)

// Proposal is what was found in a project, and the services that are proposed
// for it.
type Proposal struct {
	Dir  string `json:"-"`
	Name string `json:"project"`
	// Files are those that were read, from the project's folder, in order.
	Files    []string   `json:"files"`
	Services []*Service `json:"services"`
	// Errands run before services that are on.
	Errands []*Errand `json:"errands,omitempty"`
	// Notes are what was found and leads to no service.
	Notes []Finding `json:"notes,omitempty"`
}

// Service is a proposed service.
type Service struct {
	On   bool   `json:"on"` // it is to be declared
	Name string `json:"name"`
	Kind string `json:"kind"`
	// Version is a constraint, "" for any; Port 0 for any free one.
	Version string `json:"version,omitempty"`
	Port    int    `json:"port,omitempty"`
	// AnyPort says that a program gets any free port, as PORT, unless it has one.
	AnyPort bool `json:"any_port,omitempty"`
	// Lines are the lines of TOML beside these.
	Lines []string `json:"lines,omitempty"`
	// Env are the variables that it gets.
	Env []Variable `json:"env,omitempty"`
	// Links are keys that name other services.
	Links []Link `json:"links,omitempty"`
	// Why is what it was proposed for; empty for one that is only offered.
	Why []Finding `json:"why,omitempty"`
	// Off says why it is proposed switched off, "" if it is not.
	Off string `json:"off,omitempty"`

	databases []string
	folder    string
	// named says that the app finds it by what stands in its own files.
	named bool
	// page says that it builds what runs in the browser, which reaches no
	// server by itself.
	page bool
	// readsPort says that it listens on the port that the variable PORT says.
	readsPort bool
	// withPort is the command by which it listens on the port that the variable PORT says, ""
	// if its own does, or none is known.
	withPort string
	// startsAll says that it starts the programs of all packages of the project.
	startsAll bool
}

// leaveOutStarters switches a program off that starts the programs of all packages, where those are
// proposed one by one.
func (r *reader) leaveOutStarters() {
	for _, s := range r.p.Services {
		if s.startsAll && slices.ContainsFunc(r.p.Services, func(o *Service) bool { return o.On && o.Kind == "program" && r.isMember(o.folder) }) {
			s.On, s.Off = false, "it starts the programs of all packages, which are proposed one by one"
		}
	}
}

func (s *Service) takesPort() bool { return s.readsPort || s.withPort != "" }

// Variable is a variable that refers to services.
type Variable struct {
	Name string `json:"name"`
	// Value is the text with its references, in which @ stands for the name of
	// the service that it refers to.
	Value  string   `json:"-"`
	Target *Service `json:"-"`
}

// Text returns the value as the declaration has it.
func (v Variable) Text() string { return strings.ReplaceAll(v.Value, "${@", "${"+v.Target.Name) }

// Link is a key of a service that names another.
type Link struct {
	Key    string
	Target *Service
}

// MarshalText returns the key with the name: "php=engine".
func (l Link) MarshalText() ([]byte, error) { return []byte(l.Key + "=" + l.Target.Name), nil }

// link adds a key that names another service.
func (s *Service) link(key string, target *Service) { s.Links = append(s.Links, Link{key, target}) }

// MarshalText returns the whole variable.
func (v Variable) MarshalText() ([]byte, error) { return []byte(v.Name + "=" + v.Text()), nil }

// Finding is something that a file says.
type Finding struct {
	File string `json:"file"`           // from the project's folder
	Line int    `json:"line,omitempty"` // 0: the file as a whole
	What string `json:"what"`
}

// Place returns the file and line.
func (f Finding) Place() string {
	if f.Line == 0 {
		return f.File
	}
	return fmt.Sprintf("%s:%d", f.File, f.Line)
}

// Limits of what is read, so that a big project takes no longer than a small
// one.
const (
	fileLimit   = 1 << 20
	folderLimit = 60
)

// passedBy are folders whose files are not the project's own, or not its app.
var passedBy = []string{"node_modules", "vendor", "dist", "build", "target", "tmp", "log", "logs", "coverage", "test", "tests", "spec", "docs", "examples", "venv", "__pycache__"}

// reader collects what is found.
type reader struct {
	dir string
	p   *Proposal
	// servers are the proposed servers by kind, variables what the env files
	// and scripts say, folder by folder.
	servers map[string]*Service
	wanted  []wanted
	// sql is the kind of database that the packages speak of.
	sql string
	// clients are the kinds of servers that the packages of a folder are
	// clients of.
	clients map[string][]string
	// members are patterns of the folders of packages that are installed with the project's.
	members []string
}

// Read reads the project in a folder. What can't be read is left out.
func Read(dir string) (*Proposal, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(abs); err != nil || !info.IsDir() {
		return nil, fmt.Errorf("%s is not a folder", dir)
	}
	r := &reader{dir: abs, p: &Proposal{Dir: abs, Name: name(filepath.Base(abs), "app"), Files: []string{}, Services: []*Service{}}, servers: map[string]*Service{}, clients: map[string][]string{}}
	for _, folder := range r.folders() {
		r.readManifests(folder)
	}
	for _, folder := range r.folders() {
		r.readEnvFiles(folder)
	}
	r.wire()
	r.finish()
	return r.p, nil
}

// folders returns the project's own, and those in it, and those in its folders of
// packages.
func (r *reader) folders() []string {
	out := []string{"."}
	var add func(folder string, depth int)
	add = func(folder string, depth int) {
		entries, _ := os.ReadDir(filepath.Join(r.dir, folder))
		for _, e := range entries {
			if !e.IsDir() || strings.HasPrefix(e.Name(), ".") || slices.Contains(passedBy, e.Name()) || len(out) >= folderLimit {
				continue
			}
			path := filepath.Join(folder, e.Name())
			out = append(out, path)
			if depth == 0 && slices.Contains([]string{"apps", "packages", "services", "cmd"}, e.Name()) {
				add(path, depth+1)
			}
		}
	}
	add(".", 0)
	return out
}

// read reads a file of the project, and lists it; "" if there is none.
func (r *reader) read(path string) string {
	text := r.peek(path)
	if text != "" {
		r.listed(path)
	}
	return text
}

// peek reads a file that may say nothing of the project; "" if there is none.
func (r *reader) peek(path string) string {
	full := filepath.Join(r.dir, path)
	info, err := os.Stat(full)
	if err != nil || !info.Mode().IsRegular() || info.Size() > fileLimit {
		return ""
	}
	b, err := input.Read(full)
	if err != nil {
		return ""
	}
	return string(b)
}

// listed lists a file that was read.
func (r *reader) listed(path string) {
	if !slices.Contains(r.p.Files, path) {
		r.p.Files = append(r.p.Files, path)
	}
}

func (r *reader) has(path string) bool {
	_, err := os.Stat(filepath.Join(r.dir, path))
	return err == nil
}

// lineOf returns the line of a text that has a word, 0 if none has.
func lineOf(text, word string) int {
	i := strings.Index(text, word)
	if i < 0 {
		return 0
	}
	return strings.Count(text[:i], "\n") + 1
}

// server returns the proposed server of a kind.
func (r *reader) server(kindName string, why Finding) *Service {
	s := r.servers[kindName]
	if s == nil {
		s = &Service{On: true, Kind: kindName, Name: r.free(kind.HintsOf(kindName).Name)}
		r.servers[kindName] = s
		r.p.Services = append(r.p.Services, s)
	}
	s.because(why)
	return s
}

func (s *Service) because(why Finding) {
	if !slices.Contains(s.Why, why) {
		s.Why = append(s.Why, why)
	}
}

var notInName = lazyregexp.New(`[^a-z0-9_-]+`)

// name makes a text a service's name.
func name(text, otherwise string) string {
	text = strings.TrimRight(strings.TrimLeft(notInName.ReplaceAllString(strings.ToLower(text), "-"), "-_0123456789"), "-_")
	if len(text) > 30 {
		text = strings.Trim(text[:30], "-_")
	}
	if text == "" || text == "env" || text == "project" || text == "self" {
		return otherwise
	}
	return text
}

// free returns a name that no service has yet.
func (r *reader) free(name string) string {
	for n := 1; ; n++ {
		candidate := name
		if n > 1 {
			candidate += strconv.Itoa(n)
		}
		if !slices.ContainsFunc(r.p.Services, func(s *Service) bool { return s.Name == candidate }) {
			return candidate
		}
	}
}

// finish puts the services in the order of a declaration: the servers, the
// programs, and what is only offered.
func (r *reader) finish() {
	for _, s := range r.p.Services {
		if len(s.databases) > 0 {
			s.Lines = append(s.Lines, "databases = "+list(s.databases))
		}
	}
	slices.SortStableFunc(r.p.Services, func(a, b *Service) int { return rank(a) - rank(b) })
	r.leaveOutStarters()
	r.serveFiles()
	for _, s := range r.p.Services { // it listens wherever it is told to
		if s.Kind == declare.DefaultKind && s.Port == 0 && s.readsPort {
			s.AnyPort = true
		}
	}
	r.separatePorts()
	r.fixUsualPorts()
	for _, h := range kind.Hinting() {
		// Servers that are offered, switched off, where nothing was found that needs
		// them.
		if h.Offered && r.servers[h.Kind] == nil && (!h.SQL || r.servers["mysql"] == nil) {
			r.p.Services = append(r.p.Services, &Service{Kind: h.Kind, Name: r.free(h.Name), Off: "nothing in the project asks for it; it is offered because many apps need one"})
		}
	}
}

// serveFiles proposes a server of files for a folder of pages in which nothing else was found.
func (r *reader) serveFiles() {
	if slices.ContainsFunc(r.p.Services, func(s *Service) bool { return s.Kind == declare.DefaultKind || s.Kind == "nginx" || s.Kind == "php" }) {
		return
	}
	for _, dir := range []string{".", "public", "site", "dist", "www", "htdocs", "docs"} {
		if file := filepath.Join(dir, "index.html"); r.has(file) {
			r.p.Services = append(r.p.Services, &Service{On: true, Kind: "static", Name: r.free("web"), Lines: []string{fmt.Sprintf("root = %q", dir)}, Why: []Finding{{File: file, What: "pages in files"}}})
			return
		}
	}
}

// fixUsualPorts gives servers their usual ports whose host a program reads, and no port: it takes it
// to be that one.
func (r *reader) fixUsualPorts() {
	for _, s := range r.p.Services {
		for _, host := range s.Env {
			target := host.Target
			k := kind.All().Kind(target.Kind)
			if k != nil && slices.ContainsFunc(r.p.Services, func(o *Service) bool { return o.Port == k.Info().UsualPort }) {
				continue // another has it
			}
			if host.Value != "${@.host}" || target.Port != 0 || k == nil || target.Kind == "mail" || // which an app expects on port 25
				slices.ContainsFunc(s.Env, func(v Variable) bool { return v.Target == target && strings.Contains(v.Value, "${@.port}") }) {
				continue
			}
			target.Port = k.Info().UsualPort
			target.because(Finding{What: fmt.Sprintf("%s gets %s and reads no port, so it has the usual one", s.Name, host.Name)})
		}
	}
}

// separatePorts has programs that listen on the same port listen on any, where they can be told so.
func (r *reader) separatePorts() {
	by := map[int]*Service{}
	for _, s := range r.p.Services {
		first := by[s.Port]
		switch {
		case s.Port == 0 || !s.On:
			continue
		case first == nil:
			by[s.Port] = s
			continue
		case !s.takesPort() && first.takesPort():
			by[s.Port] = s
			s, first = first, s
		case !s.takesPort():
			s.On, s.Off = false, fmt.Sprintf("%s listens on port %d, too, and neither is known to take another", first.Name, s.Port)
			continue
		}
		s.because(Finding{What: fmt.Sprintf("%s listens on port %d, too, so it gets any free one", first.Name, s.Port)})
		s.Port, s.AnyPort = 0, true
		if !s.readsPort {
			s.Lines[0] = fmt.Sprintf("run = %q", s.withPort)
		}
	}
}

// Add adds a service of the user's own to the proposal, a program that is to be
// named and described, and returns it.
func (p *Proposal) Add() *Service {
	r := &reader{p: p}
	s := &Service{On: true, Kind: declare.DefaultKind, Name: r.free("service"), Why: []Finding{{What: "you have added it"}}}
	p.Services = append(p.Services, s)
	return s
}

// order is that of the kinds in a declaration: servers, the programs, and what
// stands in front of those.
var order = sync.OnceValue(func() []string {
	var servers, front []string
	for _, h := range kind.Hinting() {
		if h.Front {
			front = append(front, h.Kind)
		} else {
			servers = append(servers, h.Kind)
		}
	}
	return append(append(servers, declare.DefaultKind), front...)
})

func rank(s *Service) int { return slices.Index(order(), s.Kind) }

// list writes texts as a list of TOML.
func list(texts []string) string {
	quoted := make([]string, len(texts))
	for i, t := range texts {
		quoted[i] = strconv.Quote(t)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}
