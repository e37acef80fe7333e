package keep

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/tree"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/errand"
	"neighbour/internal/core/record/journal"
)

// Restored says what a restore has done.
type Restored struct {
	Name     string   `json:"name"`
	Services []string `json:"services"`
	// Replaced is the snapshot that the data is in which was there before; "" if there was none.
	Replaced string    `json:"replaced,omitempty"`
	Began    time.Time `json:"began"` // when what was stopped began to start again
}

// Restoring tells what a restore would replace, and what is stopped for it. It fails if it can't be.
func Restoring(ctx context.Context, p *project.Project, state func(string) supervise.State, name string, services ...string) (*snapshot.Manifest, []Loss, error) {
	m, err := chosenOf(p, name, services)
	if err != nil {
		return nil, nil, err
	}
	losses, err := Lose(ctx, p, state, m.Names()...)
	return m, losses, err
}

// chosenOf returns a snapshot with only those of its services that are named, if any is.
func chosenOf(p *project.Project, name string, services []string) (*snapshot.Manifest, error) {
	m, err := p.SnapshotsOf(name).Get(name)
	if err != nil {
		return nil, err
	}
	if err := m.Whole(proc.Boot()); err != nil {
		return nil, err
	}
	for _, s := range services {
		if m.Service(s) == nil {
			return nil, fmt.Errorf("the snapshot %s has no data of %s; it has %s", name, s, words.Join(m.Names()))
		}
	}
	if len(services) > 0 {
		m.Services = slices.DeleteFunc(m.Services, func(s snapshot.Service) bool { return !slices.Contains(services, s.Name) })
	}
	for _, s := range m.Services {
		if err := p.CheckRestore(m, s); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// Restoring tells what a restore would replace.
func (k *Keeper) Restoring(ctx context.Context, name string, services ...string) ([]Loss, error) {
	_, out, err := Restoring(ctx, k.project, func(name string) supervise.State { return k.services[name].Status().State }, name, services...)
	return out, err
}

// RestoreSnapshot puts the data of a snapshot in the place of what services hold, of all that it
// has data of if none is named. What was there becomes the snapshot "replaced". What reads the
// services is stopped for it, and started again; it returns when that has begun.
func (k *Keeper) RestoreSnapshot(ctx context.Context, name string, services ...string) (Restored, error) {
	m, err := chosenOf(k.project, name, services)
	if err != nil {
		return Restored{}, err
	}
	why := "replaced by " + name
	if name == snapshot.Replaced {
		why = "replaced by what was there before"
	}
	kept := &snapshot.Manifest{Name: snapshot.Replaced, Why: why}
	if k.project.Copy != "" { // what it holds is thrown away in any case
		kept = nil
	}
	return k.replace(ctx, Restore, m, kept, "")
}

// replace carries a restore out. Kept is what becomes of the data that was there, branch the git
// branch whose data it is then, "" if that does not change.
func (k *Keeper) replace(ctx context.Context, does OperationKind, m, kept *snapshot.Manifest, branch string) (Restored, error) {
	names := m.Names()
	out := Restored{Name: m.Name, Services: names}
	set := k.plan.WithDependents(names...)
	op, err := k.ops.begin(ctx, does, cmp.Or(branch, m.Title()), set)
	if err != nil {
		return out, err
	}
	fail := func(err error) (Restored, error) {
		err = snapshot.ExplainFull(err, k.decl.Dir)
		k.ops.finish(op, err)
		return out, fmt.Errorf("%s was not restored: %w", m.Title(), err)
	}
	if err := k.settled(names, "data can be restored"); err != nil {
		return fail(err)
	}
	if err := k.unused(names); err != nil {
		return fail(err)
	}
	r, err := k.unfold(ctx, op, m, kept)
	if err != nil {
		k.foldUp(r)
		return fail(err)
	}
	r.Branch = branch
	k.ops.supersede(op)
	var again []string
	for _, name := range set {
		if k.services[name].Wanted() {
			again = append(again, name)
		}
	}
	k.stopAll(set, nil)
	err = snapshot.Commit(k.project.RestoreFile(), r)
	if err != nil {
		k.foldUp(r)
	} else {
		err = k.carry(r)
	}
	if err != nil {
		if _, pending := os.Lstat(k.project.RestoreFile()); pending == nil {
			again = nil // with half of it nothing can start
		}
		if len(again) > 0 {
			k.startAll(op.By, k.plan.WithNeeds(again...), again, false)
		}
		return fail(err)
	}
	for _, name := range names {
		k.noteRestored(name, m)
	}
	k.forgetPlaces(ctx, names)
	if r.Replaced != nil && len(r.Replaced.Services) > 0 {
		out.Replaced = r.Replaced.Name
	}
	out.Began = time.Now()
	if len(again) > 0 {
		out.Began = k.startAll(op.By, k.plan.WithNeeds(again...), again, false)
	}
	k.ops.release(op, k.progress)
	return out, nil
}

// unused makes sure that no errand is under way that needs one of these services.
func (k *Keeper) unused(names []string) error {
	all, err := k.Errands()
	if err != nil {
		return err
	}
	for _, e := range all {
		// Not only the latest: one that began before it, or on a copy, may have ended already.
		under := slices.ContainsFunc(e.Runs, func(r errand.Run) bool { return r.Result == errand.UnderWay && r.Copy == k.project.Copy })
		if under && slices.ContainsFunc(k.project.Errand(e.Name).Needs, func(n string) bool { return slices.Contains(names, n) }) {
			return fmt.Errorf("the errand %s is under way, which needs the data; wait for it, or end it", e.Name)
		}
	}
	return nil
}

// unfold has the data of a snapshot ready beside what is to be replaced by it. Of what fails,
// foldUp takes the rest away.
func (k *Keeper) unfold(ctx context.Context, op *operation, m, kept *snapshot.Manifest) (*snapshot.Replacement, error) {
	p := k.project
	r := &snapshot.Replacement{Restored: m, Replaced: kept}
	if kept != nil {
		kept.Project, kept.Made, kept.By = k.decl.Name, time.Now(), op.By
		errands, err := p.KeptErrands(m.Names()...)
		if err != nil {
			return r, err
		}
		kept.Errands = errands
	}
	progress := &saving{k: k, op: op, total: m.Bytes}
	dir := p.SnapshotsOf(m.Name).Path(m.Name)
	for _, one := range m.Services {
		in, err := p.Instance(p.Service(one.Name))
		if err != nil {
			return r, err
		}
		if err := p.EnsureInstanceDirs(in); err != nil {
			return r, err
		}
		was, err := p.Describe(in)
		if err != nil {
			return r, err
		}
		if was.How = "stopped"; kept != nil {
			kept.Services = append(kept.Services, was)
		}
		for i, live := range p.DataOf(in) {
			fresh, old := snapshot.Prepared(live)
			swap := snapshot.Swap{Live: live, Old: old, Service: one.Name, Part: i}
			if one.Parts[i] != "" {
				swap.Fresh = fresh
			}
			r.Swaps = append(r.Swaps, swap)
			for _, left := range []string{fresh, old} {
				if err := tree.Remove(left); err != nil {
					return r, err
				}
			}
			if swap.Fresh == "" {
				continue
			}
			if err := p.Unpack(ctx, in, snapshot.PartDir(dir, one.Name, i), fresh, progress.progress); err != nil {
				return r, err
			}
		}
	}
	return r, nil
}

// foldUp takes away what was ready for a restore that is not carried out.
func (k *Keeper) foldUp(r *snapshot.Replacement) {
	for _, s := range r.Swaps {
		if s.Fresh != "" {
			_ = tree.Remove(s.Fresh)
		}
	}
}

// noteRestored writes down what a service's data is now.
func (k *Keeper) noteRestored(service string, m *snapshot.Manifest) {
	text := "its data is that of the snapshot " + m.Name + " now"
	if m.Branch != "" {
		text = "its data is a copy of " + m.Title() + " now"
	}
	k.note(service, "restored", journal.Warn, text)
}

// carry carries out a restore that was written down.
func (k *Keeper) carry(r *snapshot.Replacement) error {
	store := k.project.Snapshots()
	if r.Replaced != nil {
		store = k.project.SnapshotsOf(r.Replaced.Name)
	}
	if err := os.MkdirAll(store.Dir, 0o700); err != nil {
		return err
	}
	if err := store.Carry(r); err != nil {
		return err
	}
	if r.Branch != "" {
		if err := k.settleBranch(r.Branch); err != nil {
			return err
		}
	}
	if err := k.project.NoteRestored(r.Restored); err != nil {
		return err
	}
	return os.Remove(k.project.RestoreFile())
}

// finishRestore carries out what a keeper before this one has written down and not finished.
func (k *Keeper) finishRestore() {
	r, err := snapshot.Pending(k.project.RestoreFile())
	if err == nil && r != nil {
		if err = k.carry(r); err == nil {
			k.log.Warn("finished the restore of an earlier keeper", "snapshot", r.Restored.Name)
			for _, name := range r.Restored.Names() {
				k.noteRestored(name, r.Restored)
			}
			k.forgetPlaces(k.ctx, r.Restored.Names())
		}
	}
	if err != nil {
		k.log.Error("a restore that was interrupted can't be finished", "why", err)
		k.warn("restore", "a restore that was interrupted can't be finished: "+err.Error())
		return
	}
	for _, store := range []snapshot.Store{k.project.Snapshots(), k.project.Branches()} {
		if _, err := os.Stat(store.Dir); err == nil {
			store.Clean()
			defer k.removeUnfolded()
		}
	}
}

// removeUnfolded takes away what an earlier keeper had ready for a restore that was not begun.
func (k *Keeper) removeUnfolded() {
	for _, s := range k.project.Services {
		if !k.project.KeepsData(s) {
			continue
		}
		in, err := k.project.Instance(s)
		if err != nil {
			continue
		}
		for _, live := range k.project.DataOf(in) {
			fresh, _ := snapshot.Prepared(live)
			_ = tree.Remove(fresh)
		}
	}
}

// forgetPlaces has triggers go on with what happens to other data from now on: their places are
// those of data that is no more.
func (k *Keeper) forgetPlaces(ctx context.Context, services []string) {
	r, err := k.triggering()
	if err != nil {
		return
	}
	for _, t := range k.decl.Triggers {
		if slices.Contains(services, t.On.ServiceName()) {
			if err := r.Box.Add(ctx, t.Name, nil, ""); err != nil {
				k.log.Warn("forgetting a trigger's place", "trigger", t.Name, "why", err)
			}
		}
	}
}
