package control

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"neighbour/internal/core/project"
)

// Attend has the gate lead to a project until the context ends. A gate that ends is started
// again. It calls told with what the gate tells, or with why there is none. At the end the
// gate is told that the project has ended, unless it goes on without this keeper.
func Attend(ctx context.Context, p *project.Project, r Registration, log *slog.Logger, told func(Told), goesOn func() bool) {
	c := NewClient()
	defer c.Close()
	const soon, late = 50 * time.Millisecond, 5 * time.Second
	pause := soon
	// A gate that is not there yet begins once the first services have: at the start of a project
	// both would want the processor at the same moment, and nobody calls a name before its service.
	if _, err := c.State(ctx); errors.Is(err, ErrNoGate) {
		select {
		case <-ctx.Done():
		case <-time.After(soon):
		}
	}
	for ctx.Err() == nil {
		began := time.Now()
		err := Ensure(ctx, p.Self)
		if err == nil {
			err = c.Register(ctx, r, told)
		}
		if ctx.Err() != nil {
			break
		}
		if time.Since(began) > late {
			pause = soon // it was there
		}
		log.Warn("gate", "ended", err)
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		if pause *= 2; pause > late {
			pause = late
			told(Told{Problems: []string{"the gate does not stay: " + err.Error()}})
		}
	}
	if goesOn() {
		return
	}
	end, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = c.Leave(end, r.Dir)
}
