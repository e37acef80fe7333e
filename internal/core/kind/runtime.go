package kind

// Runtime is what a service runs on, as it was chosen.
type Runtime struct {
	Name    string `json:"name"`    // "node"
	Program string `json:"program"` // what it is called: "python3"
	Version string `json:"version"`
	Path    string `json:"path"`
	// For is who asked for it: "uses", or the file: "package.json".
	For string `json:"for"`
}

// Runner is implemented by kinds whose services run on something of which several
// versions may be installed.
type Runner interface {
	// Runtimes returns those that were chosen for a service.
	Runtimes(in *Instance) []Runtime
}
