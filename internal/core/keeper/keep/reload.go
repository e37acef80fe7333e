package keep

import (
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/reload"
	"neighbour/internal/core/record/journal"
)

// watchFiles restarts services whose files of reload change.
func (k *Keeper) watchFiles() {
	var sets []reload.Set
	for _, s := range k.decl.Services {
		if len(s.Reload) > 0 {
			sets = append(sets, reload.Set{Service: s.Name, Patterns: values(s.Reload), Except: values(s.Writes)})
		}
	}
	if len(sets) == 0 {
		return
	}
	polling := func(why error) {
		text := ""
		if why != nil {
			text = why.Error()
			k.log.Error("files of reload are polled", "why", why)
		}
		for _, s := range sets {
			k.services[s.Service].Set(func(st *supervise.Status) { st.Unwatched = text })
		}
	}
	polling(nil) // whatever a keeper before this one has met
	reload.New(k.decl.Dir, sets, k.reload, polling).Run(k.ctx)
}

func values(all []declare.Word) []string {
	var out []string
	for _, w := range all {
		out = append(out, filepath.ToSlash(w.Value))
	}
	return out
}

// reload restarts a service whose files have changed, unless it is stopped.
// Of changes that come while its restart has to wait, nothing more follows.
func (k *Keeper) reload(c reload.Change) {
	switch k.services[c.Service].Status().State {
	case supervise.Stopped, supervise.Stopping:
		return
	}
	k.restartSoon(c.Service, c.InWords())
}

// restartSoon restarts a service for a reason, once no other operation is
// under way. It does nothing if such a restart has to wait already.
func (k *Keeper) restartSoon(service, why string) {
	k.mu.Lock()
	waiting := k.restarting[service]
	k.restarting[service] = true
	k.mu.Unlock()
	if waiting {
		return
	}
	k.background.Go(func() {
		op, err := k.ops.begin(AskedBy(k.ctx, why), Restart, "", []string{service})
		k.mu.Lock()
		delete(k.restarting, service)
		k.mu.Unlock()
		if err != nil {
			return
		}
		if k.ctx.Err() != nil || k.services[service].Status().State == supervise.Stopped {
			k.ops.finish(op, nil)
			return
		}
		k.log.Info("restart", "service", service, "why", why)
		k.note(service, "restart", journal.Info, "restarts: "+why)
		k.stopAll([]string{service}, nil)
		k.startAll(why, []string{service}, []string{service}, false)
		k.ops.release(op, k.progress)
	})
}

// portMoved is called when a service gets another port than it had. Those
// that run and have read the old one are restarted; others go on.
func (k *Keeper) portMoved(s *declare.Service) {
	k.writeEnvFile()
	for _, name := range k.plan.WithDependents(s.Name) {
		reads := slices.ContainsFunc(k.decl.Service(name).References(), func(ref string) bool {
			target, _, _ := strings.Cut(ref, ".")
			return target == s.Name
		})
		if state := k.services[name].Status().State; name != s.Name && reads && (state == supervise.Ready || state == supervise.Ailing || state == supervise.Starting) {
			k.restartSoon(name, s.Name+" has another port now, which it reads")
		}
	}
}
