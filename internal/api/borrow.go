package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/gate/control"
)

// keepers asks the keepers of other projects for what services of one need. It is a
// project.Keepers.
type keepers struct{ by string }

// Start has a project start a service, and returns when it is ready.
func (k keepers) Start(ctx context.Context, p *project.Project, service string, report func(step string)) error {
	c, err := Connect(ctx, p)
	if err != nil {
		return err
	}
	if c, _, _, err = Refresh(ctx, p, c); err != nil {
		return err
	}
	defer c.Close()
	c.By = "neighbour, for " + k.by
	d, err := c.Start(ctx, false, service)
	if err != nil {
		return err
	}
	events, err := c.Progress(ctx)
	if err != nil {
		return err
	}
	defer events.Close()
	for {
		s, err := events.Next()
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("the keeper of %s ended meanwhile", p.Name)
		}
		for _, st := range s.Services {
			if st.Name != service || s.Began.Before(d.Began) {
				continue
			}
			switch {
			case st.State == supervise.Ready && !st.Held && !st.Trial:
				return nil
			case st.State.Settled() || st.Blocked || st.Held:
				if st.State == supervise.Finished {
					return nil
				}
				return isNot(p.Name, st)
			}
			text := fmt.Sprintf("%s of %s: %s", service, p.Name, st.State)
			if st.Reason != "" {
				text += ", " + st.Reason
			}
			report(text)
		}
	}
}

// isNot says of a service of another project why it isn't ready.
func isNot(of string, st Status) error {
	text := fmt.Sprintf("%s of %s is %s", st.Name, of, st.Shown())
	if st.Reason != "" {
		text += ": " + st.Reason
	}
	return errors.New(text)
}

// State says how a service of a project is.
func (keepers) State(ctx context.Context, p *project.Project, service string) (string, error) {
	c, err := dial(ctx, p)
	if errors.Is(err, ErrNoKeeper) { // it may have been killed, and its services go on
		if whole, bad := project.Open(p.Dir); bad == nil {
			c, err = Find(ctx, whole)
		}
	}
	if errors.Is(err, ErrNoKeeper) {
		return "", errors.New("its project does not run; neighbour -C " + p.Dir + " start " + service)
	}
	if err != nil {
		return "", err
	}
	defer c.Close()
	s, err := c.Status(ctx)
	if err != nil {
		return "", err
	}
	for _, st := range s.Services {
		if st.Name != service {
			continue
		}
		if st.Shown().Well() {
			return fmt.Sprintf("%s in %s", st.State, s.Project), nil
		}
		return "", isNot(s.Project, st)
	}
	return "", fmt.Errorf("%s has no service %s any more", s.Project, service)
}

// Vacate has the user's gate leave a port.
func (k keepers) Vacate(ctx context.Context, port int) error {
	ctx, cancel := context.WithTimeout(ctx, vacateWait)
	defer cancel()
	c := control.NewClient()
	defer c.Close()
	return c.Vacate(ctx, port)
}

// vacateWait is how long the gate may take to leave a port.
const vacateWait = 10 * time.Second
