package keep

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/record/journal"
)

// RefusedError says that a changed declaration was not applied, because
// services that run could not start again.
type RefusedError struct{ Effects []insight.Effect }

func (e *RefusedError) Error() string {
	var lines []string
	for _, f := range e.Effects {
		if f.Refused != "" {
			lines = append(lines, fmt.Sprintf("%s runs, and could not start as it is declared now: %s", f.Service, f.Refused))
		}
	}
	return "nothing was changed: " + strings.Join(lines, "\n")
}

// Apply carries out what the declaration as it is now means for the services:
// it stops what goes and what restarts, and returns what the keeper that
// follows, which has read it, is to start. What is untouched goes on. If a
// service that runs could not start again, nothing is done, and a
// *RefusedError comes back.
func (k *Keeper) Apply(ctx context.Context) (effects []insight.Effect, start []string, err error) {
	op, err := k.ops.begin(ctx, Apply, "", k.decl.Names())
	if err != nil {
		return nil, nil, err
	}
	defer func() { k.ops.finish(op, err) }()
	effects, err = k.Effects(ctx)
	if err != nil {
		return nil, nil, err
	}
	if slices.ContainsFunc(effects, func(e insight.Effect) bool { return e.Refused != "" }) {
		return nil, nil, &RefusedError{effects}
	}
	var stop []string
	for _, e := range effects {
		if e.Does == insight.Starts || e.Does == insight.Restarts {
			start = append(start, e.Service)
		}
		if (e.Does == insight.Stops || e.Does == insight.Restarts) && k.services[e.Service] != nil {
			stop = append(stop, e.Service)
		}
	}
	k.note("", "applied", journal.Info, "the declaration is applied: "+insight.Summary(effects))
	k.log.Info("apply", "stop", strings.Join(stop, " "), "start", strings.Join(start, " "))
	k.ops.supersede(op)
	k.stopAll(stop, nil)
	return effects, start, nil
}

// Reread returns what the declaration as it is now means for the services, and
// whether a keeper that has read it may take this one's place without any
// service that runs being touched, other than those that are named.
func (k *Keeper) Reread(ctx context.Context, except ...string) (may bool, effects []insight.Effect, err error) {
	effects, err = k.Effects(ctx)
	if err != nil {
		return false, nil, err
	}
	may = !slices.ContainsFunc(effects, func(e insight.Effect) bool {
		u := k.services[e.Service]
		if slices.Contains(except, e.Service) && e.Refused == "" && e.Does != insight.Stops {
			return false
		}
		return e.Does == insight.Restarts || e.Does == insight.Stops && u != nil && u.Status().State != supervise.Stopped
	})
	return may, effects, nil
}
