package check

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/authority"
	"neighbour/internal/core/machine/hosts"
	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// gate looks at what the names of a project need of this machine.
func gate(ctx context.Context, p *project.Project) []Finding {
	if !p.UsesGate() {
		return nil
	}
	return slices.Concat(gatePorts(p), gateNames(ctx, p), gateLAN(p), gateAuthority(p))
}

// gateAuthority says why https can't work.
func gateAuthority(p *project.Project) []Finding {
	if !authority.Exists(project.AuthorityDir()) {
		return nil // a start makes it; a check changes nothing
	}
	f := Finding{ID: "gate/authority", Level: Warns, Why: "the project's names can't be reached by https, and no service can get a certificate"}
	own, err := authority.Open(project.AuthorityDir())
	if err == nil {
		if err = own.Valid(); err == nil {
			return nil
		}
		f.Remedy = "if the clock is right: neighbour trust --renew"
		f.Actions = []Action{{Do: InTerminal, Label: "renew it", Asks: true, Command: p.Self + " trust --renew", Says: "this is run in the terminal, where it shows each step and asks: neighbour trust --renew"}}
	}
	f.What = err.Error()
	return []Finding{f}
}

// gateLAN says what is open to others.
func gateLAN(p *project.Project) []Finding {
	name := p.LANName()
	if name == "" {
		return nil
	}
	return []Finding{{ID: "gate/lan", Level: Warns, What: "whoever is in this machine's network can open the pages of " + name, Why: "lan = true under [gate] allows it; they come without TLS, and can do what the pages let one do",
		Remedy: "take lan = true out when the phone is put away"}}
}

// gatePorts says why the gate's addresses need a port, and what would change that.
func gatePorts(p *project.Project) []Finding {
	ports, err := project.ReadGatePorts()
	if err != nil {
		return []Finding{{ID: "gate/ports", Level: Warns, What: "the gate has no ports: " + err.Error(), Why: "the project's names lead nowhere"}}
	}
	if ports.Low() {
		return nil
	}
	f := Finding{ID: "gate/ports", Level: Note, What: fmt.Sprintf("the project's addresses have the port %d in them", ports.HTTPS), Why: "in production they have none, and cookies and redirects may depend on that"}
	again := Action{Do: InTerminal, Label: "allow it for good", Asks: true, Command: p.Self + " gate low-ports", Says: "this is run in the terminal, where it shows each step and asks: neighbour gate low-ports"}
	if port.Forbidden(443) != nil || port.Forbidden(80) != nil {
		f.What += ": this user may not listen on 443 and 80"
		f.Remedy = "allow it for good: neighbour gate low-ports"
		f.Actions = []Action{again}
		return []Finding{f}
	}
	for _, number := range []int{443, 80} {
		if port.Free(number) {
			continue
		}
		if h := port.FindHolder(number); h != nil {
			f.What += fmt.Sprintf(": port %d is held by %s, %s", number, h, p.InWords(p.OwnerOf(h.PID)))
			f.Remedy = "end it, then have the gate take the usual ports: neighbour gate low-ports"
			return []Finding{f}
		}
	}
	f.What += ", though 443 and 80 are free now"
	f.Remedy = "have the gate take them: neighbour gate low-ports"
	again.Label, again.Says = "take them", "this is run in the terminal: neighbour gate low-ports"
	f.Actions = []Action{again}
	return []Finding{f}
}

// gateNames says which names this machine's resolver doesn't know.
func gateNames(ctx context.Context, p *project.Project) []Finding {
	missing := hosts.Unresolved(ctx, p.GateHosts())
	if len(missing) == 0 {
		return nil
	}
	f := Finding{ID: "gate/names", Level: Note, What: "this machine's resolver does not know " + words.Join(missing), Remedy: "add lines to " + hosts.File + ", which are shown first: neighbour gate hosts --write",
		Why: "browsers know names that end in .localhost by themselves; other programs, such as Node, Python and Java, ask the system"}
	for _, name := range missing {
		if !localname.Is(name) {
			f.Level, f.Why = Warns, "neither browsers nor programs find it"
		}
	}
	// What the browser gets on a page works all the same.
	if calls := callsByName(p, missing); len(calls) > 0 {
		f.Level, f.Why = Warns, words.Join(calls)+"; a program that asks the system for that address doesn't find it"
	}
	f.Actions = []Action{{Do: InTerminal, Label: "add them", Asks: true, Command: p.Self + " -C " + p.Dir + " gate hosts --write", Says: "this is run in the terminal, where it shows the lines and asks: neighbour gate hosts --write"}}
	if strings.Contains(p.Dir+p.Self, " ") { // a command is words with blanks between them
		f.Actions = nil
	}
	return []Finding{f}
}

// callsByName says which services are told the public address of another whose name is among
// those.
func callsByName(p *project.Project, missing []string) []string {
	var out []string
	for _, s := range p.Services {
		for _, ref := range s.References() {
			other, fact, _ := strings.Cut(ref, ".")
			if fact != declare.PublicURL || other == s.Name {
				continue
			}
			u, err := url.Parse(p.PublicURL(other))
			if err == nil && slices.Contains(missing, u.Hostname()) {
				out = append(out, s.Name+" gets the public address of "+other)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
