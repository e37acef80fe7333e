package launch

import (
	"context"
	"fmt"
	"os"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// findPort makes sure that the service's port is free. One that isn't
// declared is replaced by another.
func (d *Driver) findPort(ctx context.Context) (int, error) {
	number, err := d.project.Port(d.svc)
	if err != nil || number == 0 || port.Free(number) || d.kind.Info().Elsewhere {
		return number, err
	}
	if d.svc.Port != 0 && d.project.Keepers != nil {
		if h := port.FindHolder(number); h != nil && d.project.OwnerOf(h.PID).Gate {
			if err := d.project.Keepers.Vacate(ctx, number); err != nil {
				return 0, fmt.Errorf("the gate has port %d and does not leave it: %w", number, err)
			}
		}
		if port.Free(number) {
			return number, nil
		}
	}
	if d.svc.Port == 0 {
		replaced, err := d.project.ReplacePort(d.svc)
		if err == nil {
			d.moved()
		}
		return replaced, err
	}
	return number, d.held(number)
}

// held describes who has the port, or why this user may not listen on it; nil
// if it is free by now.
func (d *Driver) held(number int) error {
	if forbidden := port.Forbidden(number); forbidden != nil {
		return &supervise.Failure{Reason: forbidden.Error(), Remarks: []string{forbidden.Remedy(d.freePort(max(number, 8000)))}}
	}
	h := port.FindHolder(number)
	if h == nil {
		return nil // gone meanwhile
	}
	return &supervise.Failure{
		Reason:  fmt.Sprintf("port %d is held by %s, %s", number, h, d.project.InWords(d.project.OwnerOf(h.PID))),
		Remarks: []string{fmt.Sprintf("end it, give %s another port in %s, or write port = \"any\" for any free one", d.svc.Name, declare.FileName)},
		Taken:   true,
	}
}

// freePort returns a free port from a number upward, 0 if there is none.
func (d *Driver) freePort(from int) int {
	n, err := d.project.FreePort(from)
	if err != nil {
		return 0
	}
	return n
}

// taken says who has the service's port although it was free before.
func (d *Driver) taken() error {
	in := d.current()
	if in == nil || in.Port == 0 || port.Free(in.Port) {
		return nil
	}
	h := port.FindHolder(in.Port)
	if h == nil || d.project.OwnerOf(h.PID) == (project.Owner{Dir: d.project.Home(), Service: d.svc.Name}) {
		return nil // a process of its own that is just ending
	}
	return d.held(in.Port)
}

// asksOwnPort reports whether the service's check asks its own port, and not
// an address that the declaration names, a command, or its output.
func (d *Driver) asksOwnPort() bool {
	h := d.svc.Health
	return !d.declaresCheck() || strings.HasPrefix(h.HTTP.Value, "/") || strings.Contains(h.HTTP.Value+h.TCP.Value, "${"+d.svc.Name+".")
}

// ownPIDs returns the processes of the service: the main one, and all if that one
// is not enough to tell.
func (d *Driver) ownPIDs(p supervise.Process) []int {
	census, err := proc.TakeCensus()
	if err != nil {
		return []int{p.ID().PID}
	}
	var pids []int
	for _, id := range census.Belonging(p.ID(), d.project.Mark(d.svc.Name)) {
		pids = append(pids, id.PID)
	}
	return pids
}

// Foreign reports that the service's port is answered by a process that isn't
// the service's.
func (d *Driver) Foreign(p supervise.Process) error {
	in := d.current()
	if in == nil || in.Port == 0 || d.kind.Info().Elsewhere || !d.asksOwnPort() {
		return nil
	}
	uid := os.Getuid()
	if in.Account != nil {
		uid = in.Account.UID
	}
	stranger, err := port.Stranger(in.Port, uid, func(all bool) []int {
		if all {
			return d.ownPIDs(p)
		}
		return []int{p.ID().PID}
	})
	if err != nil || stranger == nil {
		return nil
	}
	return &supervise.Failure{
		Reason: fmt.Sprintf("port %d is held by %s, %s, which answers in place of %s", in.Port, stranger, d.project.InWords(d.project.OwnerOf(stranger.PID)), d.svc.Name),
		Remarks: []string{fmt.Sprintf("end it, or give %s another port; if %s itself has it started, declare the check with a whole address: health = { tcp = \"127.0.0.1:%d\" }",
			d.svc.Name, d.svc.Name, in.Port)},
		Taken: true,
	}
}

// Listens says on which addresses the service listens where that is not what
// its check asks, "" otherwise.
func (d *Driver) Listens(p supervise.Process) string {
	in := d.current()
	if in == nil || in.Port == 0 || d.kind.Info().Elsewhere || !d.asksOwnPort() {
		return ""
	}
	addresses, err := port.Listening(d.ownPIDs(p))
	if err != nil || len(addresses) == 0 {
		return ""
	}
	var found []string
	for _, a := range addresses {
		if int(a.Port()) == in.Port && (a.Addr().IsLoopback() || a.Addr().IsUnspecified()) {
			return "" // it listens where it is asked
		}
		found = append(found, a.String())
	}
	return fmt.Sprintf("its processes listen on %s, not on 127.0.0.1:%d", words.Join(found), in.Port)
}
