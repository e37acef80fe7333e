package project

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/machine/hosts"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/localname"
)

// Outside is a variable of a service that leads to another machine.
type Outside struct {
	Name  string
	Hosts []string
	// Where is the env file and line that it stands in, "" if the declaration has it.
	Where string
	// Meant says that the declaration names it as one that is meant to.
	Meant bool
}

// usedEnvNames are the env files of which apps read values while they are worked on.
var usedEnvNames = []string{".env", ".env.development", ".env.local", ".env.development.local"}

// UsedEnvFile reports whether apps read values from a file of this name while they are worked on.
func UsedEnvFile(path string) bool { return slices.Contains(usedEnvNames, filepath.Base(path)) }

// LeadsOutside returns the variables of a service that lead to other machines: those that the
// declaration gives, and, of a program, those of the env files in its folder.
func (p *Project) LeadsOutside(s *declare.Service) []Outside {
	vars, err := p.Variables(s)
	if err != nil {
		return nil // which is told with the service
	}
	known := namesOfThisMachine()
	var out []Outside
	has := map[string]bool{}
	add := func(name, value, where string) {
		if has[name] {
			return // the declaration's goes before that of a file
		}
		has[name] = true
		others := others(name, value, known)
		if len(others) > 0 {
			meant := slices.ContainsFunc(p.Declaration.Outside, func(w declare.Word) bool { return w.Value == s.Name+"."+name })
			out = append(out, Outside{name, others, where, meant})
		}
	}
	for _, v := range vars {
		add(v.Name, v.Value, "")
	}
	if keys, ok := s.Settings.(interface{ Outside() map[string]string }); ok { // what the kind itself asks
		for name, value := range keys.Outside() {
			add(name, value, "")
		}
	}
	if !p.Kind(s).Info().InheritEnv {
		return out
	}
	for _, name := range usedEnvNames {
		path := filepath.Join(p.WorkingDir(s), name)
		src, err := readEnvFile(path)
		if err != nil || src == nil {
			continue
		}
		if rel, err := filepath.Rel(p.Dir, path); err == nil && filepath.IsLocal(rel) {
			path = rel
		}
		entries, _ := wire.ParseEnvFile(string(src))
		for _, e := range entries {
			add(e.Name, e.Value, fmt.Sprintf("%s:%d", path, e.Line))
		}
	}
	return out
}

// CallsOutside returns the hosts of other machines that a trigger calls, unless the declaration
// names it as one that is meant to: "trigger.NAME".
func (p *Project) CallsOutside(t *declare.Trigger) []string {
	if slices.ContainsFunc(p.Declaration.Outside, func(w declare.Word) bool { return w.Value == "trigger."+t.Name }) {
		return nil
	}
	if len(hostsIn("call", t.Call.Value)) == 0 { // as of nearly all: no need to read which are known
		return nil
	}
	return others("call", t.Call.Value, namesOfThisMachine())
}

// namesOfThisMachine are those that the hosts file leads to it.
func namesOfThisMachine() map[string]bool {
	file, _ := os.ReadFile(hosts.File)
	return hosts.Loopback(string(file))
}

// others returns the hosts that a value leads to which are not this machine.
func others(name, value string, known map[string]bool) []string {
	var out []string
	for _, host := range hostsIn(name, value) {
		here := localname.Is(host) || known[host] || net.ParseIP(host).IsUnspecified() // where it listens
		if !here && !slices.Contains(out, host) {
			out = append(out, host)
		}
	}
	return out
}

// meantOutside reports whether the declaration names what the service's kind itself asks of other
// machines as meant.
func (p *Project) meantOutside(s *declare.Service) bool {
	keys, ok := s.Settings.(interface{ Outside() map[string]string })
	if !ok {
		return false
	}
	known := namesOfThisMachine()
	for name, value := range keys.Outside() {
		if len(others(name, value, known)) > 0 && !slices.ContainsFunc(p.Declaration.Outside, func(w declare.Word) bool { return w.Value == s.Name+"."+name }) {
			return false
		}
	}
	return true
}

var (
	authorities = lazyregexp.New(`[A-Za-z][A-Za-z0-9+.-]*://([^/?#\s"'<>]+)`)
	// hostNames are how the names of variables end whose values are hosts.
	hostNames = lazyregexp.New(`(?i)(^|_)(HOST|HOSTS|HOSTNAME|ENDPOINT|SERVER|SERVERS|ADDR|ADDRESS|BROKERS?|DSN)$`)
	hostShape = lazyregexp.New(`^([a-z0-9]([a-z0-9-]*[a-z0-9])?\.)+[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)
	// notHosts are schemes whose addresses have no host to connect to.
	notHosts = []string{"file", "unix", "sqlite", "sqlite3", "urn", "data"}
)

// hostsIn returns the hosts that a value leads to: those of the addresses in it, and, if the
// variable's name says so, the value itself.
func hostsIn(name, value string) []string {
	var out []string
	add := func(text string) {
		text = text[strings.LastIndexByte(text, '@')+1:]
		for one := range strings.SplitSeq(text, ",") { // several of a cluster
			if host, _, err := net.SplitHostPort(one); err == nil {
				one = host
			}
			one = strings.ToLower(strings.Trim(strings.TrimSpace(one), "[]."))
			if hostShape.MatchString(one) || net.ParseIP(one) != nil {
				out = append(out, one)
			}
		}
	}
	for _, m := range authorities.FindAllStringSubmatch(value, -1) {
		scheme, _, _ := strings.Cut(m[0], "://")
		if !slices.Contains(notHosts, strings.ToLower(scheme)) {
			add(m[1])
		}
	}
	if len(out) == 0 && hostNames.MatchString(name) && !strings.Contains(value, "://") {
		// "tcp(db.example.org:3306)/shop" has a host in it, too.
		if _, inside, ok := strings.Cut(value, "("); ok {
			value, _, _ = strings.Cut(inside, ")")
		}
		value, _, _ = strings.Cut(value, "/")
		add(value)
	}
	return out
}
