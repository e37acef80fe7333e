package check

import (
	"context"
	"fmt"

	"neighbour/internal/core/words"
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
		f.Why = "what is tried out here may change what is real there"
		f.Remedy = fmt.Sprintf("lead it to a service of the project; if it is meant, say so: outside = [%q] under [project]", name)
		if s.Offline {
			f.Level = Stops
			f.Why = "offline = true under [project] lets nothing lead outside that is not named"
		}
		out = append(out, f)
	}
	return out
}
