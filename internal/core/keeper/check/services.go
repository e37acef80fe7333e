package check

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/deps"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// programs looks for what a service runs, in a version that will do, and for
// the folders that it serves.
func programs(_ context.Context, s *subject) []Finding {
	found, err := s.Kind(s.service).Find(s.in)
	s.in.Program = found
	if err == nil {
		return nil
	}
	f := s.find("program", Stops, keyOf(err.Error()), err.Error())
	f.Why = "it can't be started without"
	var missing *kind.MissingError
	if errors.As(err, &missing) {
		f.Packages = missing.Packages
		f.Actions = installation(f)
	}
	var version *kind.VersionError
	if errors.As(err, &version) && version.Packages.Debian != "" {
		f.Packages = version.Packages
		f.Actions = installation(f)
	}
	if kind.MayBeMade(err) && len(s.service.Prepare) > 0 {
		f.Level, f.Why = Note, "its preparation may make it"
	}
	return []Finding{f}
}

// Runtime begins the ids of findings about versions that the project's files ask for.
const Runtime = "runtime"

// runtimes looks whether what the project's own files ask for is there, and agrees
// with the declaration.
func runtimes(_ context.Context, s *subject) []Finding {
	var out []Finding
	if k, ok := s.Kind(s.service).(interface{ Contradictions(*kind.Instance) []string }); ok {
		for i, text := range k.Contradictions(s.in) {
			f := s.find(fmt.Sprintf("uses[%d]", i), Warns, "uses", text)
			f.Why, f.Remedy = "one of the two is out of date", "make them agree, or take uses out: the file counts then"
			out = append(out, f)
		}
	}
	if k, ok := s.Kind(s.service).(interface{ Unmet(*kind.Instance) []string }); ok {
		for i, text := range k.Unmet(s.in) {
			f := s.find(fmt.Sprintf("%s[%d]", Runtime, i), Warns, "run", text)
			f.Why, f.Remedy = "it runs on another version than it was made for", "install one that will do, or change the file"
			out = append(out, f)
		}
	}
	return out
}

// keyOf returns the key that a reason why a program can't be used is about.
func keyOf(reason string) string {
	for _, k := range [][2]string{{"uses ", "uses"}, {"web root", "root"}, {"the extensions", "extensions"}, {"version =", "version"}, {"working folder", "dir"}, {"no program", "run"}} {
		if strings.Contains(reason, k[0]) {
			return k[1]
		}
	}
	return "kind"
}

// ports looks for who holds a declared port. Another is found for those that
// declare none.
func ports(_ context.Context, s *subject) []Finding {
	number := s.service.Port
	if number == 0 || s.running || port.Free(number) {
		return nil
	}
	if forbidden := port.Forbidden(number); forbidden != nil {
		f := s.find("port", Stops, "port", forbidden.Error())
		f.Why = "it can't be reached where others look for it"
		other, _ := s.FreePort(max(number, 8000))
		f.Remedy = forbidden.Remedy(other)
		if other != 0 {
			f.Actions = s.otherPort(other)
		}
		return []Finding{f}
	}
	h := port.FindHolder(number)
	if h == nil {
		return nil
	}
	owner := s.OwnerOf(h.PID)
	if owner.Gate {
		return nil // it leaves the port when the service starts
	}
	if owner.Dir == s.Dir {
		// Its own, or one of the project that no longer declares this port and
		// so makes room when it is started again.
		if other := s.Service(owner.Service); owner.Service == s.service.Name || other == nil || other.Port != number {
			return nil
		}
	}
	f := s.find("port", Stops, "port", fmt.Sprintf("port %d is held by %s, %s", number, h, s.InWords(owner)))
	f.Why = "only one program can listen on a port"
	f.Remedy = fmt.Sprintf("end it, give %s another port, or write port = \"any\" for any free one", s.service.Name)
	f.Actions = s.portActions(number, h, owner)
	return []Finding{f}
}

// The actions on a port that is held.
const (
	UsePort      = "use-port"      // another, until everything is stopped
	DeclarePort  = "declare-port"  // another, in the declaration
	LocalPort    = "local-port"    // another, in the file for this machine
	StopOther    = "stop-other"    // the other project's service
	EndHolder    = "end"           // ask the stranger to end
	AdoptOutside = "adopt"         // use what is there
	ChangeRights = "change-rights" // of a folder
	MakeFolder   = "make-folder"   // that is missing
	// AddPreparation adds Command, an entry of prepare, to the declaration.
	AddPreparation = "add-preparation"
	SwitchBranch   = "switch-branch" // to the data of the branch that is checked out
	KeepBranch     = "keep-branch"   // have the data be that branch's
	Restart        = "restart"       // the service
	InTerminal     = "terminal"      // run a command in the terminal
)

// otherPort returns the ways to give the service another port.
func (s *subject) otherPort(other int) []Action {
	return []Action{
		{Do: UsePort, Port: other, Label: fmt.Sprintf("use %d now", other), Says: fmt.Sprintf("%s gets port %d until everything is stopped; no file is changed", s.service.Name, other)},
		{Do: DeclarePort, Port: other, Label: fmt.Sprintf("declare %d", other), Says: fmt.Sprintf("port = %d is written to neighbour.toml", other)},
		{Do: LocalPort, Port: other, Label: fmt.Sprintf("%d on this machine", other), Says: fmt.Sprintf("port = %d is written to neighbour.local.toml", other)},
	}
}

func (s *subject) portActions(number int, h *port.Holder, owner project.Owner) []Action {
	var out []Action
	if other, err := s.FreePort(number + 1); err == nil {
		out = s.otherPort(other)
	}
	switch {
	case owner.Dir != "" && owner.Dir != s.Dir:
		out = append(out, Action{Do: StopOther, Dir: owner.Dir, Other: owner.Service, Label: "stop " + owner.Service, Asks: true,
			Says: fmt.Sprintf("%s of the project in %s is stopped, with what needs it there", owner.Service, owner.Dir)})
	case owner.Foreign() && h.PID != 0:
		id, err := h.ID()
		if err != nil {
			break // gone meanwhile
		}
		if h.Unit != "" {
			out = append(out, disable(h.Unit))
		}
		out = append(out, Action{Do: EndHolder, Process: id, Port: number, Label: "ask it to end", Asks: true,
			Says: fmt.Sprintf("SIGTERM is sent to pid %d of %s: %s", h.PID, h.User, strings.TrimSpace(h.Line))})
	}
	if owner.Foreign() {
		out = append(out, Action{Do: AdoptOutside, Port: number, Label: "use what is there", Asks: true,
			Says: fmt.Sprintf("neighbour.local.toml makes %s a service of kind outside: it is only checked, on 127.0.0.1:%d", s.service.Name, number)})
	}
	return out
}

// disable is the remedy that ends a server of the machine, and has it not start
// again.
func disable(unit string) Action {
	command := "systemctl disable --now " + unit
	if os.Getuid() != 0 {
		command = "sudo " + command
	}
	return Action{Do: InTerminal, Label: "end it for good", Asks: true, Command: command,
		Says: fmt.Sprintf("this is run in the terminal: %s; the machine's %s ends, and starts no more by itself", command, unit)}
}

// folders looks whether a service may write where it has to.
func folders(_ context.Context, s *subject) []Finding {
	var out []Finding
	for i, w := range s.service.Writes {
		dir := w.Value
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(s.Dir, dir)
		}
		who := "this user"
		if s.in.Account != nil {
			who = s.in.Account.Name
		}
		problem := proc.WriteProblem(s.in.Account, dir)
		if problem == nil {
			continue
		}
		f := s.find(fmt.Sprintf("writes[%d]", i), Stops, "writes", "")
		f.Where, f.Why = w.At.String(), fmt.Sprintf("%s runs as %s and writes there", s.service.Name, who)
		f.What, f.Remedy = problem.Error(), problem.Remedy
		do := Action{Do: ChangeRights, Dir: dir, Label: "mend it", Says: problem.Remedy + " is run"}
		if problem.Missing {
			do = Action{Do: MakeFolder, Dir: dir, Label: "make it", Says: "the folder " + dir + " is made"}
		}
		if problem.Ours {
			f.Actions = []Action{do}
		}
		out = append(out, f)
	}
	return out
}

// preparations says which would run at the next start.
func preparations(_ context.Context, s *subject) []Finding {
	var out []Finding
	for i, p := range s.service.Prepare {
		id := fmt.Sprintf("prepare[%d]", i)
		due, err := s.PreparationDue(s.service, p)
		if err != nil {
			out = append(out, s.find(id, Stops, "prepare", err.Error()))
			continue
		}
		if due.Why == "" {
			continue
		}
		if f := s.lacks(id, "prepare", "its preparation "+p.Run.String(), func() (project.Command, error) { return s.PreparationCommand(s.service, p) }, i > 0); f != nil {
			out = append(out, *f)
			continue
		}
		if len(p.When) == 0 && len(p.Makes) == 0 {
			continue // it runs at each start
		}
		f := s.find(id, Note, "prepare", "")
		f.What = fmt.Sprintf("%s is to run: %s", p.Run, due.Why)
		f.Why, f.Remedy = "what it makes may be missing or old", "the next start runs it"
		out = append(out, f)
	}
	return out
}

// lacks returns what a command of the service lacks on this machine, nil for nothing. With made,
// something that runs before may make what is the project's own.
func (s *subject) lacks(id, key, what string, command func() (project.Command, error), made bool) *Finding {
	c, err := command()
	if err != nil {
		return nil // told as a value that can't be resolved
	}
	err = c.Missing()
	if err == nil || kind.MayBeMade(err) && made {
		return nil
	}
	f := s.find(id, Stops, key, "")
	f.What, f.Remedy, _ = strings.Cut(what+": "+err.Error(), "; ")
	f.Why = "it can't be started without"
	var missing *kind.MissingError
	if errors.As(err, &missing) {
		f.Packages = missing.Packages
		f.Actions = installation(f)
	}
	return &f
}

// commands looks for the programs of what a service runs beside its own: the line that a shell
// runs, its check, and the seed of its data.
func commands(_ context.Context, s *subject) []Finding {
	var out []Finding
	prepared := len(s.service.Prepare) > 0
	add := func(id, key, what string, run declare.Command, of *declare.Service, dir string) {
		if run.IsZero() || of == nil {
			return
		}
		if f := s.lacks(id, key, what, func() (project.Command, error) { return s.CommandOf(of, run, dir) }, prepared); f != nil {
			out = append(out, *f)
		}
	}
	if settings, ok := s.service.Settings.(interface{ Command() declare.Command }); ok && s.in.Program.Path == declare.Shell {
		add("program", "run", settings.Command().String(), settings.Command(), s.service, s.WorkingDir(s.service))
	}
	if h := s.service.Health; h != nil {
		add("health", "health", "its check "+h.Run.String(), h.Run, s.service, s.WorkingDir(s.service))
	}
	scripts := s.service.Scripts()
	if with := s.Service(scripts.Seed.With.Value); with != nil {
		add("seed", "seed", "its seed "+scripts.Seed.Run.String(), scripts.Seed.Run, with, s.WorkingDir(with))
	}
	missing := func(id, key, path, what string) {
		if path == "" {
			return
		}
		if !filepath.IsAbs(path) {
			path = filepath.Join(s.Dir, path)
		}
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			f := s.find(id, Stops, key, "")
			f.What, f.Why, f.Remedy = what+" is not there: "+path, "its data can't be set up without", "write it, or correct the declaration"
			out = append(out, f)
		}
	}
	missing("migrations", "migrations", scripts.Migrations.Value, "the folder of its migrations")
	missing("seed", "seed", scripts.Seed.File.Value, "its seed")
	return out
}

// packages looks whether the packages of a program are installed, or a preparation installs them.
func packages(_ context.Context, s *subject) []Finding {
	if !s.Kind(s.service).Info().InheritEnv || len(s.service.Prepare) > 0 {
		return nil
	}
	set, at, missing := deps.Missing(s.WorkingDir(s.service), s.Dir)
	lack := fmt.Sprintf("there is no %s in %s, and no preparation that makes it", set.Makes, at)
	if !missing {
		if set, at, lack = unimported(s); lack == "" {
			return nil
		}
	}
	own, err := filepath.Rel(s.Dir, s.WorkingDir(s.service))
	folder, other := filepath.Rel(s.Dir, at)
	if err != nil || other != nil {
		return nil
	}
	entry := set.Preparation(folder, own)
	f := s.find("packages", Warns, "run", "its packages are not installed: "+lack)
	f.Why = "what it imports is not found"
	f.Remedy = "add prepare = [" + entry + "]"
	f.Actions = []Action{{Do: AddPreparation, Command: entry, Label: "prepare by " + set.Install, Says: "this preparation is written to " + declare.FileName}}
	return []Finding{f}
}

// noModule is what Python says of a package that it lacks.
var noModule = lazyregexp.New(`No module named '?([\w.]+)'?`)

// unimported returns the packages of a program in Python that has said at its end that one is not
// there, and what it said; "" if it hasn't.
func unimported(s *subject) (set deps.Set, at, said string) {
	lines, err := journal.Last(s.LogFile(s.service.Name), 3) // it ends by that
	if err != nil || s.running {
		return set, "", ""
	}
	for _, l := range slices.Backward(lines) {
		m := noModule.FindStringSubmatch(l.Text)
		if m == nil {
			continue
		}
		set, at, is := deps.Python(s.WorkingDir(s.service), s.Dir)
		if !is {
			return set, "", ""
		}
		return set, at, fmt.Sprintf("it said that there is no module %s, and no preparation installs what %s names", m[1], set.When)
	}
	return set, "", ""
}

// patterns looks for patterns of files that match nothing.
func patterns(_ context.Context, s *subject) []Finding {
	var out []Finding
	for i, p := range s.service.Prepare {
		for j, stray := range s.StraysOf(s.service, p) {
			f := s.find(fmt.Sprintf("when[%d.%d]", i, j), Warns, "prepare", "")
			out = append(out, astray(f, p.Run.String(), stray))
		}
	}
	return out
}

// astray tells of a pattern in when that means nothing, or may mean another thing.
func astray(f Finding, of string, s project.Stray) Finding {
	f.Why, f.Remedy = "a change of what is meant goes unnoticed", "correct the pattern, or take it out"
	switch {
	case s.Instead == "":
		f.What = fmt.Sprintf("when = %q of %s matches no file", s.Pattern, of)
	case s.Here:
		f.Level = Note
		f.What = fmt.Sprintf("when = %q of %s is the one in the project's folder, from which patterns are seen", s.Pattern, of)
		f.Why, f.Remedy = "there is one beside the command, too", fmt.Sprintf("write %q if that is meant", s.Instead)
	default:
		f.What = fmt.Sprintf("when = %q of %s is found beside the command only, and patterns are seen from the project's folder", s.Pattern, of)
		f.Why, f.Remedy = "it will mean nothing one day", fmt.Sprintf("write %q", s.Instead)
	}
	return f
}

// warnings returns what the kind itself finds.
func warnings(_ context.Context, s *subject) []Finding {
	w, ok := s.Kind(s.service).(kind.Warner)
	if !ok {
		return nil
	}
	var out []Finding
	for i, text := range w.Warn(s.in) {
		out = append(out, s.find(fmt.Sprintf("kind[%d]", i), Warns, "root", text))
	}
	return out
}

// borrowed looks whether what a service of another project stands for is there.
func borrowed(_ context.Context, s *subject) []Finding {
	err := s.CheckBorrowed(s.service)
	if err == nil {
		return nil
	}
	f := s.find("project", Stops, "project", err.Error())
	f.Why, f.Remedy = "its facts and its start come from there", "set project and service right"
	return []Finding{f}
}

// elsewhere asks what runs elsewhere whether it is there.
func elsewhere(ctx context.Context, s *subject) []Finding {
	if !s.Kind(s.service).Info().Elsewhere || s.service.Health == nil {
		return nil
	}
	var p probe.Probe
	h := s.service.Health
	switch {
	case h.HTTP.Value != "":
		f, err := s.in.Expand(h.HTTP.Value)
		if err != nil {
			return nil // told as a value that can't be resolved
		}
		p = probe.HTTP{URLs: []string{f.Value}, Status: h.Status, Header: h.Header, Body: h.Body}
	case h.TCP.Value != "":
		f, err := s.in.Expand(h.TCP.Value)
		if err != nil {
			return nil
		}
		if _, _, err := net.SplitHostPort(f.Value); err != nil {
			return nil
		}
		p = probe.TCP(f.Value)
	default:
		return nil // a command is not run without being asked for
	}
	ctx, cancel := context.WithTimeout(ctx, 800*time.Millisecond)
	defer cancel()
	if _, err := p.Check(ctx); err != nil {
		f := s.find("outside", Stops, "health", "")
		f.What, f.Why, f.Remedy = "it doesn't answer: "+err.Error(), "it runs elsewhere, so nothing here starts it", "start it where it runs, or add optional = true"
		if s.service.Optional {
			f.Level, f.Why, f.Remedy = Note, "it runs elsewhere; others start without it", ""
		}
		return []Finding{f}
	}
	return nil
}

// unresolved looks for references to variables that are not set.
func unresolved(_ context.Context, s *subject) []Finding {
	m, ok := s.Kind(s.service).(interface {
		Launch(*kind.Instance) (kind.Launch, error)
	})
	if !ok || s.in.Program.Path == "" || !s.Kind(s.service).Info().InheritEnv {
		return nil
	}
	if r, ok := m.(interface{ Resolve(*kind.Instance) error }); ok { // its launch writes files
		if err := r.Resolve(s.in); err != nil {
			return []Finding{s.find("command", Stops, "functions", err.Error())}
		}
		return nil
	}
	if _, err := m.Launch(s.in); err != nil {
		return []Finding{s.find("command", Stops, "run", err.Error())}
	}
	return nil
}

// data looks whether the data that is there can be used.
func data(_ context.Context, s *subject) []Finding {
	if s.in.Program.Path == "" {
		return nil
	}
	if err := s.CheckData(s.in); err != nil {
		f := s.find("data", Stops, "kind", err.Error())
		f.Why = "it would start without what is stored there, or spoil it"
		return []Finding{f}
	}
	return nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
