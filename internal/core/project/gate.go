package project

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/route"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/proc"
)

// GateVariable in the environment, set to "off", keeps the projects of a machine, or of a
// session, from the gate.
const GateVariable = "NEIGHBOUR_GATE"

// GateDir returns the folder of this user's gate, "" for a user without a home.
func GateDir() string {
	if dir := UserDir(); dir != "" {
		return filepath.Join(dir, "gate")
	}
	return ""
}

// GateSocket returns the path of the socket by which keepers talk with the gate.
func GateSocket() string {
	dir := GateDir()
	if len(dir)+len("/gate.sock") > socketLimit {
		dir = At(dir).shortRunDir("gate")
	}
	return filepath.Join(dir, "gate.sock")
}

// EnsureGateDir makes the folders of the gate and of its socket.
func EnsureGateDir() error {
	if err := os.MkdirAll(GateDir(), 0o700); err != nil {
		return fmt.Errorf("the gate's folder can't be made: %w", err)
	}
	return ensurePrivate(filepath.Dir(GateSocket()), shortBase())
}

// GatePorts are the ports of the gate.
type GatePorts struct {
	HTTPS int `json:"https"`
	HTTP  int `json:"http"`
}

// The usual ports of the gate, and those where the usual ones can't be had. They are none that
// applications have by habit: 8080 is where half of all programs listen that are told nothing.
var (
	lowPorts  = GatePorts{443, 80}
	highPorts = GatePorts{8443, 8880}
)

// habitual reports whether a port is one that applications have by habit.
func habitual(port int) bool {
	return port >= 8000 && port <= 8100 || port >= 3000 && port <= 3010 || port == 5000 || port == 8888
}

// Low reports whether names need no port in an address.
func (g GatePorts) Low() bool { return g == lowPorts }

// Has reports whether the gate has a port.
func (g GatePorts) Has(port int) bool { return port != 0 && (port == g.HTTPS || port == g.HTTP) }

func gatePortsFile() string { return filepath.Join(GateDir(), "ports.json") }

var choosing sync.Mutex

// ReadGatePorts returns the ports of this user's gate. They are chosen once, so that addresses
// stay what they are: 443 and 80 where they can be had, else 8443 and 8880, else any near them.
// A project that declares one of them gets it, and the gate moves.
func ReadGatePorts() (GatePorts, error) {
	choosing.Lock()
	defer choosing.Unlock()
	var ports GatePorts
	if err := atomicfile.ReadJSON(gatePortsFile(), &ports); err == nil && ports.HTTPS > 0 && ports.HTTP > 0 && !habitual(ports.HTTP) {
		return ports, nil
	}
	return chooseGatePorts()
}

// ChooseGatePorts chooses the ports anew, since those that were chosen can't be had. The ports of
// avoid are not chosen, nor those that a project of this user declares.
func ChooseGatePorts(avoid ...int) (GatePorts, error) {
	choosing.Lock()
	defer choosing.Unlock()
	return chooseGatePorts(avoid...)
}

func chooseGatePorts(avoid ...int) (GatePorts, error) {
	if err := EnsureGateDir(); err != nil {
		return highPorts, err
	}
	unlock, err := atomicfile.Lock(filepath.Join(GateDir(), "ports.lock"))
	if err != nil {
		return highPorts, err
	}
	defer unlock()
	declared := declaredPorts()
	usable := func(n int) bool { return !declared[n] && !slices.Contains(avoid, n) && port.Free(n) }
	ports := lowPorts
	if !usable(ports.HTTPS) || !usable(ports.HTTP) {
		ports = highPorts
		for !usable(ports.HTTPS) && ports.HTTPS < highPorts.HTTPS+100 {
			ports.HTTPS++
		}
		for (!usable(ports.HTTP) || habitual(ports.HTTP)) && ports.HTTP < highPorts.HTTP+100 {
			ports.HTTP++
		}
	}
	return ports, writePorts(ports)
}

// declaredPorts are the fixed ports in the declarations of this user's projects.
func declaredPorts() map[int]bool {
	out := map[int]bool{}
	for _, dir := range Enlisted() {
		files, err := declare.ReadFiles(filepath.Join(dir, declare.FileName), configDir(), "")
		if err != nil {
			continue
		}
		d, err := files.Parse(kind.All())
		if err != nil {
			continue
		}
		for _, s := range d.Services {
			out[s.Port] = true
		}
	}
	return out
}

// gateProcessFile is where the gate writes which process it is.
func gateProcessFile() string { return filepath.Join(GateDir(), "process.json") }

// NoteGate remembers that this process is the gate.
func NoteGate() error {
	id, err := proc.Identify(os.Getpid())
	if err != nil {
		return err
	}
	b, err := json.Marshal(id)
	if err != nil {
		return err
	}
	return atomicfile.Replace(gateProcessFile(), b, 0o600)
}

// isGate reports whether one of these processes is this user's gate.
func isGate(pids []int) bool {
	var id proc.ID
	return GateDir() != "" && atomicfile.ReadJSON(gateProcessFile(), &id) == nil && slices.Contains(pids, id.PID) && id.Alive()
}

func writePorts(ports GatePorts) error {
	b, err := json.Marshal(ports)
	if err != nil {
		return err
	}
	return atomicfile.Write(gatePortsFile(), b, 0o600)
}

// GateName is a name by which something of the project is reached through the gate.
type GateName struct {
	// Name is as it is declared: "toolshed.localhost", "*.toolshed.localhost",
	// "toolshed.localhost/mail".
	Name string `json:"name"`
	// Service is where it leads; "" if it leads to an address.
	Service string `json:"service,omitempty"`
	// Target is the address that it leads to, with references, if it leads to no service.
	Target string `json:"target,omitempty"`
	// Because says why a name that isn't declared leads where it does.
	Because string `json:"because,omitempty"`
	// URL is the address by https; "" for those of wildcards.
	URL string `json:"url,omitempty"`

	pattern route.Pattern // Name, parsed
}

// LANName returns the name whose target others in this machine's network can reach, too: that of
// the front. It is "" if the project does not allow it.
func (p *Project) LANName() string {
	if p.Gate == nil || !p.Gate.LAN {
		return ""
	}
	var names, declared []string
	front, _ := p.front()
	for _, n := range p.GateNames() {
		if n.pattern.Below || n.pattern.Path != "" {
			continue
		}
		if n.Service == front && front != "" {
			names = append(names, n.Name)
		} else if n.Because == "" {
			declared = append(declared, n.Name)
		}
	}
	for _, n := range append(names, declared...) {
		return n
	}
	return ""
}

// GateHosts returns the hosts of the project's names, without those of wildcards, sorted.
func (p *Project) GateHosts() []string {
	var out []string
	for _, n := range p.GateNames() {
		if !n.pattern.Below {
			out = append(out, n.pattern.Host)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// hosts returns GateHosts, if the gate is used.
func (p *Project) hosts() []string {
	if !p.UsesGate() {
		return nil
	}
	return p.GateHosts()
}

// UsesGate reports whether the project is reached through the gate.
func (p *Project) UsesGate() bool {
	// The program that is executed as the gate is this one, and a test of it is another.
	return !strings.HasSuffix(p.Self, ".test") && len(p.GateNames()) > 0
}

// GateNames returns the names by which the project's services are reached, sorted, those that
// are declared and those that services have by themselves. A fresh copy has none: what reads
// an address of the copy's must not be led to the project's data.
func (p *Project) GateNames() []GateName {
	if p.Copy != "" || GateDir() == "" || p.Gate != nil && p.Gate.Off || os.Getenv(GateVariable) == "off" {
		return nil
	}
	p.names.mu.Lock()
	defer p.names.mu.Unlock()
	if p.names.read.IsZero() || time.Since(p.names.read) > namesFor {
		p.names.read = time.Now()
		ports, err := ReadGatePorts()
		if p.names.all == nil || err == nil && ports != p.names.ports {
			p.names.all, p.names.ports = p.gateNames(ports), ports
		}
	}
	return p.names.all
}

// UseGatePorts has the addresses of the project's names be those of a gate with these ports.
func (p *Project) UseGatePorts(ports GatePorts) {
	p.names.mu.Lock()
	defer p.names.mu.Unlock()
	p.names.read = time.Now()
	if p.names.all == nil || ports != p.names.ports {
		p.names.all, p.names.ports = p.gateNames(ports), ports
	}
}

// names are those of the gate, which are asked for often.
type names struct {
	mu    sync.Mutex
	all   []GateName
	ports GatePorts
	read  time.Time // when the ports were read
}

// namesFor is how long it takes at most until a change of the gate's ports is seen.
const namesFor = time.Second

func (p *Project) gateNames(ports GatePorts) []GateName {
	names := []GateName{}
	have := map[string]bool{}
	named := map[string]bool{} // services that have a name of their own
	for name, target := range p.Targets() {
		pattern, err := route.Parse(name)
		if err != nil {
			continue // Parse has refused it
		}
		n := GateName{Name: pattern.String(), Service: declare.Named(target.Value), pattern: pattern}
		if n.Service == "" {
			n.Target = target.Value
		}
		have[n.Name] = true
		named[n.Service] = named[n.Service] || !pattern.Below && pattern.Path == ""
		names = append(names, n)
	}
	add := func(host, service, because string) {
		if pattern, err := route.Parse(host); err == nil && !have[pattern.String()] {
			names = append(names, GateName{Name: pattern.String(), Service: service, Because: because, pattern: pattern})
		}
	}
	own := hostLabel(p.Name)
	if front, why := p.front(); front != "" {
		add(own+".localhost", front, why)
	}
	for _, s := range p.Services {
		if p.speaksHTTP(s) && !named[s.Name] {
			host := hostLabel(s.Name) + "." + own + ".localhost"
			add(host, s.Name, "it speaks HTTP")
			if p.Kind(s).Info().Below {
				add("*."+host, s.Name, "names of buckets")
			}
		}
	}
	for i, n := range names {
		if !n.pattern.Below {
			names[i].URL = ports.address(n.Name)
		}
	}
	slices.SortFunc(names, func(a, b GateName) int { return strings.Compare(a.Name, b.Name) })
	return names
}

// namesOf returns the host names that lead to a service, without those of wildcards and paths.
func (p *Project) namesOf(service string) []string {
	if !p.UsesGate() {
		return nil
	}
	var out []string
	for _, n := range p.GateNames() {
		if n.Service == service && !n.pattern.Below && n.pattern.Path == "" {
			out = append(out, n.pattern.Host)
		}
	}
	return out
}

func (g GatePorts) address(name string) string {
	host, path, _ := strings.Cut(name, "/")
	if g.HTTPS != lowPorts.HTTPS {
		host += ":" + strconv.Itoa(g.HTTPS)
	}
	if path != "" {
		path = "/" + path
	}
	return "https://" + host + path
}

// hostLabel makes a name one label of a host's (RFC 1123, section 2.1).
func hostLabel(name string) string {
	label := strings.Trim(strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return c
		}
		return '-'
	}, strings.ToLower(name)), "-")
	if len(label) > 60 {
		label = strings.Trim(label[:60], "-")
	}
	return cmp.Or(label, "project")
}

// speaksHTTP reports whether a service is taken to speak HTTP: by its kind, or, of a program
// with a port, unless its own check is another than one by HTTP.
func (p *Project) speaksHTTP(s *declare.Service) bool {
	if !p.Kind(s).Info().HTTP || !s.Listens && s.Port == 0 {
		return false
	}
	return s.Kind != declare.DefaultKind || s.Health == nil || s.Health.HTTP.Value != "" || s.Health.TCP.Value == "" && s.Health.Run.IsZero()
}

// HasPages reports whether a service is one of the project's own that is taken to speak HTTP: a
// program, or a server in front of programs.
func (p *Project) HasPages(name string) bool {
	s := p.Service(name)
	info := p.Kind(s).Info()
	return p.speaksHTTP(s) && !info.Aside && !info.Elsewhere && s.Kind != "static"
}

// frontNames are what services that people see are called, the likeliest first.
var frontNames = []string{"web", "www", "site", "website", "frontend", "front", "app", "ui", "client", "shop", "portal"}

// front returns the service that people who open the project's address want, and why it is
// taken for that.
func (p *Project) front() (name, because string) {
	var speak []string
	for _, s := range p.Services {
		if p.speaksHTTP(s) && !p.Kind(s).Info().Aside {
			speak = append(speak, s.Name)
		}
	}
	for _, usual := range frontNames {
		if slices.Contains(speak, usual) {
			return usual, "it is called " + usual
		}
	}
	switch len(speak) {
	case 0:
		return "", ""
	case 1:
		return speak[0], "nothing else of the project has pages"
	}
	var last []string
	for _, name := range speak {
		if len(p.Plan.NeededBy(name)) == 0 {
			last = append(last, name)
		}
	}
	if len(last) == 1 {
		return last[0], "no other service needs it"
	}
	for _, step := range p.Plan.Steps() { // the last in the order of a start
		for _, n := range step {
			if slices.Contains(speak, n) {
				name = n
			}
		}
	}
	return name, "it is the last to start; [gate] names says otherwise"
}

// PublicURL returns the address by which people reach a service through the gate, "" if there
// is none.
func (p *Project) PublicURL(service string) string {
	best := ""
	for _, n := range p.GateNames() {
		switch {
		case n.Service != service || n.URL == "":
		case best == "", len(n.URL) < len(best):
			best = n.URL
		}
	}
	return best
}
