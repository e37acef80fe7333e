// Package functions is the kind of the built-in runner of functions.
package functions

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	pages "neighbour/internal/emulator"
	emulator "neighbour/internal/emulator/functions"
	"neighbour/internal/kinds/program"
)

// Kind is the kind.
type Kind struct{ kind.Emulated }

// Function is what is declared of one function.
type Function struct {
	Run    declare.Command `toml:"run" doc:"a command that answers one call, by CGI (RFC 3875): \"ruby report.rb\"; it runs in the folder of the functions, or, if there is none, in the declaration's"`
	File   string          `toml:"file" doc:"its file, from the folder, if it is not called like the function"`
	Time   time.Duration   `toml:"time" doc:"how long a call may take"`
	Memory declare.Size    `toml:"memory" doc:"how much memory a call may take"`
	AtOnce int             `toml:"at_once" doc:"how many calls may be under way; others wait"`
}

// Settings are its keys.
type Settings struct {
	Dir       string                        `toml:"dir" doc:"the folder of the functions, from the declaration's (functions)"`
	Functions map[string]Function           `toml:"functions" doc:"what is to be known of single functions: { report = { run = \"ruby report.rb\", time = \"2m\" } }"`
	Time      time.Duration                 `toml:"time" doc:"how long a call may take (30s)"`
	Memory    declare.Size                  `toml:"memory" doc:"how much memory the process of a call may take, with what it starts; left out: any"`
	AtOnce    int                           `toml:"at_once" doc:"how many calls of a function may be under way, each in a process of its own; others wait (4)"`
	Uses      map[string]declare.Constraint `toml:"uses" doc:"the versions that will do of what functions run on: { node = \">=20\", python = \"3.11\" }"`
	CORS      pages.Pages                   `toml:"cors" doc:"pages of other sites that may call it, by their origins: [\"https://app.example.org\"]; those of this machine may"`
	Misbehave misbehave.Rules               `toml:"misbehave" doc:"what it does wrong, for tests"`
}

// WorkingDir returns the folder of the functions.
func (s *Settings) WorkingDir() string { return cmp.Or(s.Dir, "functions") }

// CommandLines says what is executed: the functions of the folder, and the declared commands.
func (s *Settings) CommandLines() []string {
	out := []string{"the functions in " + s.WorkingDir()}
	for _, name := range slices.Sorted(maps.Keys(s.Functions)) {
		if f := s.Functions[name]; !f.Run.IsZero() {
			out = append(out, f.Run.String())
		}
	}
	return out
}

// noRules are the rules of misbehaviour that mean nothing here.
var noRules = []string{"full", "read_only", "clock"}

// Check reports what can't be meant.
func (s *Settings) Check(report func(key, message, remedy string)) {
	s.CORS.Check(report)
	limits := func(prefix string, d time.Duration, memory declare.Size, atOnce int) {
		if d < 0 || d > 0 && d < 10*time.Millisecond {
			report(prefix+"time", fmt.Sprintf("%v is too short for any call", d), `write for example "10s"`)
		}
		if memory < 0 || memory > 0 && memory < 8<<20 {
			report(prefix+"memory", "this is too little for any process", `write for example "256MB"`)
		}
		if atOnce < 0 || atOnce > 64 {
			report(prefix+"at_once", fmt.Sprintf("%d calls can't be under way", atOnce), "write 1 to 64")
		}
	}
	limits("", s.Time, s.Memory, s.AtOnce)
	for name, f := range s.Functions {
		key := "functions." + name
		if !emulator.ValidName(name) {
			report(key, strconv.Quote(name)+" can't be a function's name", "use letters, digits, - and _")
		}
		if !f.Run.IsZero() && f.File != "" {
			report(key+".file", "a function is a command or a file", "leave out run or file")
		}
		if f.File != "" && !filepath.IsLocal(f.File) {
			report(key+".file", strconv.Quote(f.File)+" leaves the folder of the functions", "name a file in it")
		}
		limits(key+".", f.Time, f.Memory, f.AtOnce)
	}
	kind.CheckMisbehave(s.Misbehave, report, noRules...)
}

const example = `
[service.chores]
kind = "functions"
dir = "functions"                 # greet.js is called by POST /greet
time = "10s"
env.MAIL_FROM = "shed@toolshed.example.org"

[service.api]
run = "node server.js"
env.CHORES_URL = "${chores.url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "functions", NoData: true, Example: example, Begin: `dir = "functions"`, About: "functions, run on demand", Check: "HTTP", Listens: true, UsualPort: 4147, HTTP: true, Aside: true, InheritEnv: true, Facts: []string{"url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

func folder(in *kind.Instance) string {
	dir := in.Service.Settings.(*Settings).WorkingDir()
	if filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(in.Root, dir)
}

// on returns the instance as it would be if a program ran in the folder of the functions.
func on(in *kind.Instance, command string) *kind.Instance {
	s := in.Service.Settings.(*Settings)
	service, as := *in.Service, *in
	service.Settings = &program.Settings{Run: declare.Command{Line: declare.Text{Value: command}}, Dir: s.WorkingDir(), Uses: s.Uses}
	as.Service = &service
	return &as
}

// Runtimes returns what the functions run on.
func (Kind) Runtimes(in *kind.Instance) []kind.Runtime { return program.Kind{}.Runtimes(on(in, "")) }

// Find looks for the folder, and for what its functions run on.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	s, dir := in.Service.Settings.(*Settings), folder(in)
	self := kind.Program{Path: in.Self}
	all, _, err := emulator.Find(dir)
	switch {
	case errors.Is(err, os.ErrNotExist) && len(s.Functions) == 0:
		return self, &kind.AbsentError{Err: fmt.Errorf("there is no folder %s; create it, with a function such as greet.js in it, or correct dir", dir)}
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return self, fmt.Errorf("the functions can't be read: %w", err)
	}
	needed := map[string]bool{}
	for _, f := range all {
		needed[f.Language] = true
	}
	delete(needed, "")
	for _, language := range slices.Sorted(maps.Keys(needed)) {
		var problem error
		for _, name := range emulator.Programs(language) {
			as := on(in, name)
			as.Argv = func(declare.Command) ([]string, error) { return []string{name}, nil }
			if _, problem = (program.Kind{}).Find(as); problem == nil {
				break
			}
		}
		if problem != nil {
			return self, problem
		}
	}
	return self, nil
}

// Resolve reports a reference of a command that leads nowhere.
func (Kind) Resolve(in *kind.Instance) error {
	for name, f := range in.Service.Settings.(*Settings).Functions {
		if f.Run.IsZero() {
			continue
		}
		if _, err := in.Argv(f.Run); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// Launch starts the emulator as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	s := in.Service.Settings.(*Settings)
	c := emulator.Config{Dir: folder(in), Functions: map[string]emulator.Declared{}, Names: in.Hosts, CORS: s.CORS, Limits: emulator.Limits{Time: s.Time, Memory: int64(s.Memory), AtOnce: s.AtOnce}}
	for name, f := range s.Functions {
		d := emulator.Declared{File: f.File, Limits: emulator.Limits{Time: f.Time, Memory: int64(f.Memory), AtOnce: f.AtOnce}}
		if !f.Run.IsZero() {
			var err error
			if d.Argv, err = in.Argv(f.Run); err != nil {
				return kind.Launch{}, err
			}
		}
		c.Functions[name] = d
	}
	l, err := kind.EmulateConfigured(in, "functions", s.Misbehave, c, "--run", in.Run)
	l.Dir = in.Root
	return l, err
}

func address(in *kind.Instance) string { return "http://127.0.0.1:" + strconv.Itoa(in.Port) }

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.URL(in, "http"), nil }

// Probe asks whether it is ready.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.HTTP{URLs: []string{address(in) + emulator.ReadyPath}, Status: http.StatusNoContent}, nil
}

// Traffic returns where it tells what was called.
func (Kind) Traffic(in *kind.Instance) string { return address(in) }
