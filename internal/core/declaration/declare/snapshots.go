package declare

import (
	"fmt"
	"maps"
	"slices"
)

// Snapshots says what is done about the project's data.
type Snapshots struct {
	At Position
	On SnapshotsOn `toml:"on" doc:"what data is kept apart for: { branch = true } has a set of data for each git branch, to which a switch is offered after a checkout; with switch = true it is made by itself"`
	// Mask is what an exported snapshot does not have, by service.
	Mask map[string][]Word `toml:"mask" doc:"what is struck out of snapshots that are exported, by service: { ledger = [\"members.email\"], shelf = [\"session:*\"], postbox = [\"*\"] }; a column of a table, keys, or \"*\" for all that a service holds"`
}

// All is the mask that strikes out all that a service holds.
const All = "*"

// Masks returns what is struck out of exported snapshots, by service.
func (d *Declaration) Masks() map[string][]string {
	out := map[string][]string{}
	if d.Snapshots == nil {
		return out
	}
	for service, rules := range d.Snapshots.Mask {
		for _, r := range rules {
			out[service] = append(out[service], r.Value)
		}
	}
	return out
}

// SnapshotsOn says what data is kept apart for.
type SnapshotsOn struct {
	Branch bool `toml:"branch" doc:"each git branch has its own data"`
	Switch bool `toml:"switch" doc:"the data follows the branch that is checked out, without being asked for"`
}

// ByBranch reports whether each git branch has its own data; and by itself, whether that follows
// a checkout without being asked for.
func (d *Declaration) ByBranch() (on, byItself bool) {
	return d.Snapshots != nil && d.Snapshots.On.Branch, d.Snapshots != nil && d.Snapshots.On.Branch && d.Snapshots.On.Switch
}

func (c *checker) checkSnapshots(s *Snapshots) {
	for _, name := range slices.Sorted(maps.Keys(s.Mask)) {
		rules, key := s.Mask[name], "snapshots.mask."+name
		at, width := s.At, 0
		if len(rules) > 0 {
			at, width = rules[0].At, rules[0].width
		}
		if !c.exists(key, name, at, width) {
			continue
		}
		service := c.decl.Service(name)
		info, _ := c.describe(service.Kind)
		for _, r := range rules {
			switch {
			case r.Value == "":
				c.report(key, r.At, r.width, "is empty", `write what is struck out, or "*" for all that the service holds`)
			case r.Value != All && info.CheckMask == nil:
				c.report(key, r.At, r.width, fmt.Sprintf("of a service of kind %s no part can be struck out", service.Kind), `write ["*"], which leaves out all that it holds`)
			case r.Value != All:
				if err := info.CheckMask(r.Value); err != nil {
					c.report(key, r.At, r.width, err.Error(), "")
				}
			}
		}
	}
	if s.On.Switch && !s.On.Branch {
		c.report("snapshots.on", s.At, 0, "switch means nothing without branch", "write on = { branch = true, switch = true }")
	}
}
