package declare

// Snapshots says what is done about the project's data.
type Snapshots struct {
	At Position
	On SnapshotsOn `toml:"on" doc:"what data is kept apart for: { branch = true } has a set of data for each git branch, to which a switch is offered after a checkout; with switch = true it is made by itself"`
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
	if s.On.Switch && !s.On.Branch {
		c.report("snapshots.on", s.At, 0, "switch means nothing without branch", "write on = { branch = true, switch = true }")
	}
}
