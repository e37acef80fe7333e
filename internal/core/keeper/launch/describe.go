package launch

import (
	"cmp"
	"slices"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// AtRest returns the status of a service that was never started.
func AtRest(d *declare.Declaration, s *declare.Service) supervise.Status {
	return supervise.Status{
		Name: s.Name, Kind: s.Kind, State: supervise.Stopped, Optional: s.Optional, Since: time.Now(),
		Needs: append([]string{}, s.Needs...), NeededBy: append([]string{}, d.Plan.NeededBy(s.Name)...), Step: d.Plan.Step(s.Name), Port: s.Port,
	}
}

// Describe adds what the machine knows of a service.
func Describe(p *project.Project, s *declare.Service, st *supervise.Status) {
	k := p.Kind(s)
	st.About = k.Info().About
	st.Check = checkInWords(s, k.Info(), p.Wiring().ForDisplay)
	if r, ok := s.Settings.(interface{ CommandLine() string }); ok {
		st.Command = r.CommandLine()
	}
	if port, err := p.Port(s); err == nil {
		st.Port = port
	}
	st.Declared.Port = s.Port
	st.Declared.Version, st.Declared.Versioned = s.VersionConstraint()
	st.Facts, _ = facts(p, s)
}

// Readdress has the status say by which address people reach the service now. What it was
// started with stays as it is.
func Readdress(p *project.Project, service string, st *supervise.Status) {
	address := p.PublicURL(service)
	st.Facts = slices.Clone(st.Facts)
	for i := range st.Facts {
		if st.Facts[i].Name == declare.PublicURL && address != "" {
			st.Facts[i].Value = address
		}
	}
}

// facts returns a service's facts in its kind's order.
func facts(p *project.Project, s *declare.Service) ([]supervise.Fact, error) {
	values, err := p.Facts(s.Name)
	if err != nil {
		return nil, err
	}
	var out []supervise.Fact
	known := p.Kind(s).Info()
	info := declare.KindInfo{Facts: known.Facts, HTTP: known.HTTP}
	for _, name := range info.FactNames(s) {
		if f, ok := values[name]; ok {
			out = append(out, supervise.Fact{Name: name, Value: f.Value, Secret: f.Secret})
		}
	}
	return out, nil
}

// checkInWords says how a service is checked.
func checkInWords(s *declare.Service, k kind.Info, show func(string) string) string {
	h := declare.Health{}
	if s.Health != nil {
		h = *s.Health
	}
	every := ", every " + words.Limit(cmp.Or(h.Every, declare.DefaultEvery))
	once, ok := s.Settings.(interface{ RunsOnce() bool })
	switch {
	case ok && once.RunsOnce():
		return "runs to its end, with exit 0"
	case h.HTTP.Value != "":
		return "HTTP " + show(h.HTTP.Value) + every
	case h.TCP.Value != "":
		return "connection to " + show(h.TCP.Value) + every
	case !h.Run.IsZero():
		return "command " + h.Run.String() + every
	case h.Log.Regexp != nil:
		return "a line that matches " + h.Log.String()
	case k.Check != "":
		return k.Check + every
	case s.Listens:
		return "connection to its port" + every
	}
	return "that its process runs"
}
