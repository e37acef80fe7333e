package keep

import (
	"errors"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// lookAgain is how often the declaration's files are looked at.
const lookAgain = time.Second

// watchDeclaration tells the interfaces when the declaration was changed, and
// when it has a mistake since. It changes nothing itself.
func (k *Keeper) watchDeclaration() {
	tick := time.NewTicker(lookAgain)
	defer tick.Stop()
	last := k.project.Stamp()
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-tick.C:
		}
		if now := k.project.Stamp(); now != last {
			last = now
			k.lookAtDeclaration()
		}
	}
}

// lookAtDeclaration sees whether the files say something else by now.
func (k *Keeper) lookAtDeclaration() {
	changed, mistake := k.Stale(), ""
	if changed {
		if _, err := project.OpenProfile(k.project.Home(), k.decl.Profile); err != nil {
			mistake = err.Error()
			var problems declare.Problems
			if errors.As(err, &problems) {
				mistake = problems[0].Position.String() + ": " + problems[0].Message
			}
		}
	}
	k.mu.Lock()
	before := k.overview
	k.overview.Changed, k.overview.Mistake = changed, mistake
	k.mu.Unlock()
	k.touch("")
	switch {
	case mistake != "" && mistake != before.Mistake:
		k.note("", "mistake", journal.Warn, "the declaration has a mistake, so nothing is changed: "+mistake)
	case changed && mistake == "" && (!before.Changed || before.Mistake != ""):
		k.note("", "changed", journal.Info, "the declaration has changed")
	}
}
