package keep

import (
	"path/filepath"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/reload"
)

// watchFiles restarts services whose files of reload change.
func (k *Keeper) watchFiles() {
	var sets []reload.Set
	for _, s := range k.decl.Services {
		if len(s.Reload) > 0 {
			sets = append(sets, reload.Set{Service: s.Name, Patterns: words(s.Reload), Except: words(s.Writes)})
		}
	}
	if len(sets) == 0 {
		return
	}
	warn := func(err error) {
		k.log.Error("reload", "why", err)
		k.warn(err.Error())
	}
	w, err := reload.New(k.decl.Dir, sets, k.reload, warn)
	if err != nil {
		warn(err)
		return
	}
	w.Run(k.ctx)
}

func words(all []declare.Word) []string {
	var out []string
	for _, w := range all {
		out = append(out, filepath.ToSlash(w.Value))
	}
	return out
}

// reload restarts a service whose files have changed, unless it is stopped.
// Of changes that come while its restart has to wait, nothing more follows.
func (k *Keeper) reload(c reload.Change) {
	switch k.units[c.Service].snapshot().State {
	case Stopped, Stopping:
		return
	}
	k.mu.Lock()
	waiting := k.reloading[c.Service]
	k.reloading[c.Service] = true
	k.mu.Unlock()
	if waiting {
		return
	}
	k.background.Go(func() {
		defer k.oneAtATime()()
		k.mu.Lock()
		delete(k.reloading, c.Service)
		k.mu.Unlock()
		if k.ctx.Err() != nil || k.units[c.Service].snapshot().State == Stopped {
			return
		}
		k.log.Info("reload", "service", c.Service, "files", c.Files, "count", c.Count)
		k.note(c.Service, "reload", journal.Info, "restarts: "+c.InWords())
		k.stopAll([]string{c.Service})
		k.startAll([]string{c.Service}, []string{c.Service})
	})
}
