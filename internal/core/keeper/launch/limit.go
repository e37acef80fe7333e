package launch

import (
	"crypto/sha256"
	"fmt"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
)

// confine returns the control group that bounds the service, nil if it has no
// limits or may not have a group; then its limits are watched.
func (d *Driver) confine() *proc.Group {
	l := d.svc.Limit
	if l == (declare.Limit{}) {
		return nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.group != nil {
		return d.group
	}
	project := sha256.Sum256([]byte(d.project.Home()))
	group, err := proc.Confine(fmt.Sprintf("neighbour-%x-%s", project[:4], d.svc.Name), int64(l.Memory), l.Processors)
	if err != nil {
		d.watched = "its limits are watched, not enforced: " + err.Error()
		return nil
	}
	d.group, d.watched = group, ""
	return group
}

// killedForMemory says that the system killed the process because it used
// more memory than it may.
func (d *Driver) killedForMemory(exit proc.Exit) error {
	d.mu.Lock()
	group := d.group
	d.mu.Unlock()
	if group.Killed() == 0 {
		return nil
	}
	group.Remove() // a new one counts from 0
	d.mu.Lock()
	d.group = nil
	d.mu.Unlock()
	return &supervise.Failure{Reason: fmt.Sprintf("%s: it went over its memory limit of %s, and was killed by the system", exit, d.svc.Limit.Memory)}
}

// Ended gives back the control group.
func (d *Driver) Ended() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.group.Remove()
	d.group = nil
}

// Over says that the service uses more than it may.
func (d *Driver) Over(percent float32, memory uint64) string {
	l := d.svc.Limit
	switch {
	case l.Memory > 0 && memory > uint64(l.Memory):
		return fmt.Sprintf("uses %s of memory, over its limit of %s", declare.Size(memory), l.Memory)
	case l.Processors > 0 && float64(percent) > 100*l.Processors+5:
		return fmt.Sprintf("keeps %.1f processors busy, over its limit of %g", percent/100, l.Processors)
	}
	return ""
}
