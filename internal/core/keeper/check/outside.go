package check

import (
	"context"
	"fmt"
	"slices"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/project/drift"
)

// outside says which variables lead a service to other machines: an app that is tried out here
// may change what is real there.
func outside(_ context.Context, s *subject) []Finding {
	var out []Finding
	for _, v := range s.LeadsOutside(s.service) {
		if v.Meant {
			continue
		}
		f := s.find("outside["+v.Name+"]", Note, "env."+v.Name, fmt.Sprintf("%s leads to %s, outside this machine", v.Name, words.Join(v.Hosts)))
		if v.Where != "" {
			f.Where = v.Where
		}
		name := s.service.Name + "." + v.Name
		f.Why = whyOutside
		f.Remedy = meantOutside(name)
		if s.Offline {
			f.Level = Stops
			f.Why = "offline = true under [project] lets nothing lead outside that is not named"
		}
		out = append(out, f)
	}
	return out
}

const whyOutside = "what is tried out here may change what is real there"

func meantOutside(name string) string {
	return fmt.Sprintf("lead it to a service of the project; if it is meant, say so: outside = [%q] under [project]", name)
}

// triggers says which triggers call other machines. Offline they are kept from it.
func triggers(_ context.Context, p *project.Project) []Finding {
	var out []Finding
	for _, t := range p.Triggers {
		hosts := p.CallsOutside(t)
		if len(hosts) == 0 {
			continue
		}
		f := Finding{ID: "trigger/" + t.Name, Level: Note, Where: t.At.String(), What: fmt.Sprintf("trigger %s calls %s, outside this machine", t.Name, words.Join(hosts)),
			Why: whyOutside, Remedy: meantOutside("trigger." + t.Name)}
		if p.Offline {
			f.Level = Warns
			f.Why = "offline = true under [project] keeps it from calling, so that its events are put aside"
		}
		out = append(out, f)
	}
	return out
}

// Original says, of a fresh copy, which lines of env files lead each service to the project itself:
// the declaration's variables go before them, unless the app lets its file win.
func Original(_ context.Context, p *project.Project) []Finding {
	if p.Copy == "" {
		return nil
	}
	var out []Finding
	names := map[string][]string{}
	for _, file := range p.EnvFiles() {
		if file.Service == "" || !project.UsedEnvFile(file.Path) {
			continue
		}
		for _, d := range file.Drift {
			differs := d.Result == drift.Elsewhere || d.Result == drift.Different && d.Name == "PORT"
			if !d.Provided || !differs || slices.Contains(names[file.Service], d.Name) {
				continue
			}
			if names[file.Service] == nil {
				out = append(out, Finding{ID: "original/" + file.Service, Level: Warns, Service: file.Service, Where: fmt.Sprintf("%s:%d", file.Path, d.Line),
					Why: "the project's own data would be changed", Remedy: "remove the lines, since the declaration gives them"})
			}
			names[file.Service] = append(names[file.Service], d.Name)
		}
	}
	for i, f := range out {
		out[i].What = fmt.Sprintf("an app that lets its env file win reaches the project itself and not this copy: %s in %s", words.Join(names[f.Service]), f.Where)
	}
	return out
}
