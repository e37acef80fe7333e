package project

import (
	"bytes"
	"encoding/json"
	"os"

	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/proc"
)

// Owner is whose process something is: this project's, another project's, or
// neither.
type Owner struct {
	Dir     string `json:"dir,omitempty"` // the project's folder; "": of no project
	Service string `json:"service,omitempty"`
	// Gate says that it is this user's gate, which leaves a port that a project declares.
	Gate bool `json:"gate,omitempty"`
}

// Foreign reports whether it is no process of Neighbour's or of a project.
func (o Owner) Foreign() bool { return o.Dir == "" && !o.Gate }

// OwnerOf finds whose a process is, by the keepers' own notes and by the mark
// that the services' processes carry.
func (p *Project) OwnerOf(pid int) Owner {
	if pid == 0 {
		return Owner{}
	}
	pids := port.Parents(pid)
	if isGate(pids) {
		return Owner{Gate: true}
	}
	for _, dir := range append([]string{p.Home(), p.Dir}, Enlisted()...) {
		// What the keeper saves, as far as it matters here.
		var state struct {
			Services map[string]struct {
				ID proc.ID `json:"process"`
			} `json:"services"`
		}
		b, err := os.ReadFile(At(dir).StateFile())
		if err != nil {
			continue
		}
		for line := range bytes.Lines(b) { // a later line goes before an earlier one
			_ = json.Unmarshal(line, &state)
		}
		for name, s := range state.Services {
			for _, candidate := range pids {
				if s.ID.PID == candidate && s.ID.Alive() {
					return Owner{Dir: dir, Service: name}
				}
			}
			if proc.MarkOf(pid) == proc.Mark(dir, name) {
				return Owner{Dir: dir, Service: name}
			}
		}
	}
	return Owner{}
}

// InWords says whose a process is, seen from this project.
func (p *Project) InWords(o Owner) string {
	switch {
	case o.Gate:
		return "which is Neighbour's gate"
	case o.Dir == "":
		return "not ours"
	case o.Dir == p.Home():
		return "this project's " + o.Service // the name follows
	}
	return "the project's in " + o.Dir + ", " + o.Service
}
