package keep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"neighbour/internal/core/errand"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/core/snapshot"
	"neighbour/internal/core/supervise"
	"neighbour/internal/core/words"
)

// StoredSnapshot is a snapshot, and what is to be known of it here and now.
type StoredSnapshot struct {
	snapshot.Manifest
	// Wrong says why it can't be restored here.
	Wrong string `json:"wrong,omitempty"`
}

// Snapshots lists the snapshots of a project, the newest first, and what is wrong with those that
// can't be read.
func Snapshots(p *project.Project) (all []StoredSnapshot, wrong []string) {
	list, errs := p.Snapshots().List()
	all = []StoredSnapshot{}
	for _, m := range list {
		s := StoredSnapshot{Manifest: m.Public()}
		if err := m.Whole(proc.Boot()); err != nil {
			s.Wrong = err.Error()
		}
		for _, one := range m.Services {
			if err := p.CheckRestore(&m, one); err != nil && s.Wrong == "" {
				s.Wrong = err.Error()
			}
		}
		all = append(all, s)
	}
	for _, err := range errs {
		wrong = append(wrong, err.Error())
	}
	return all, wrong
}

// Snapshots lists the snapshots, and what is wrong with those that can't be read.
func (k *Keeper) Snapshots() (all []StoredSnapshot, wrong []string) { return Snapshots(k.project) }

// savable returns the services whose data a snapshot is asked for: the named ones, or all that
// keep any.
func savable(p *project.Project, names []string) ([]string, error) {
	if err := p.Check(names...); err != nil {
		return nil, err
	}
	var out []string
	for _, s := range p.Services {
		keeps := p.KeepsData(s)
		if len(names) == 0 && keeps {
			out = append(out, s.Name)
		}
		if slices.Contains(names, s.Name) {
			if !keeps {
				return nil, fmt.Errorf("%s is of kind %s, which keeps no data here", s.Name, s.Kind)
			}
			out = append(out, s.Name)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("no service keeps data")
	}
	return out, nil
}

// settled makes sure that nobody is just about to change what services hold in other ways than
// by being used.
func (k *Keeper) settled(names []string, for_ string) error {
	for _, name := range names {
		switch s := k.services[name].Status().State; s {
		case supervise.Ready, supervise.Ailing, supervise.Stopped, supervise.Failed, supervise.Finished:
		default:
			return fmt.Errorf("%s is %s; %s once it is ready or stopped", name, s, for_)
		}
	}
	return nil
}

// saving is a snapshot under way.
type saving struct {
	k       *Keeper
	op      *operation
	draft   *snapshot.Draft
	m       *snapshot.Manifest
	parts   []*part
	unlocks []func()
	done    atomic.Int64
	total   int64
	told    atomic.Int64
}

// part is one of the files or folders that a service's data is kept in.
type part struct {
	snapshot.Tree
	service string
	number  int
	id      string // in the index
}

// SaveSnapshot saves the data of services, of all that keep any if none is named, as it is at one
// moment. A name that is left out is made of the time. Most is copied while the services go on;
// then they stand still for as long as it takes to copy what has changed meanwhile.
func (k *Keeper) SaveSnapshot(ctx context.Context, name string, services ...string) (*snapshot.Manifest, error) {
	set, err := savable(k.project, services)
	if err != nil {
		return nil, err
	}
	name = cmp.Or(name, time.Now().Format("2006-01-02-150405"))
	if err := snapshot.CheckName(name); err != nil {
		return nil, err
	}
	if name == snapshot.Replaced {
		return nil, fmt.Errorf("%s is what the last restore has replaced; give the snapshot another name", name)
	}
	store := k.project.SnapshotsOf(name)
	if _, err := os.Lstat(store.Path(name)); err == nil {
		return nil, fmt.Errorf("%q: %w", name, snapshot.ErrExists)
	}
	op, err := k.ops.begin(ctx, "save "+name+":", set)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	k.ops.stoppedBy(op, cancel)
	m, err := k.take(ctx, op, store, name, set)
	if k.ops.isCancelled(op)() && err != nil {
		err = errors.New("it was cancelled")
	}
	k.ops.finish(op, err)
	if err != nil {
		return nil, fmt.Errorf("the snapshot %s was not saved: %w", name, roomFor(err, store.Dir))
	}
	if !project.IsTemplate(m.Name) { // what is lost of one is made again
		k.background.Go(func() {
			if err := store.Settle(m.Name); err != nil {
				k.log.Warn("settling a snapshot", "name", m.Name, "why", err)
			}
		})
	}
	for _, s := range m.Services {
		k.note(s.Name, "saved", journal.Info, fmt.Sprintf("its data was saved as %s (%s)", m.Name, s.How))
	}
	return m, nil
}

// roomFor says of a full disk what is to be done.
func roomFor(err error, dir string) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return fmt.Errorf("the disk of %s is full; nothing has changed: %w", dir, err)
	}
	return err
}

func (k *Keeper) take(ctx context.Context, op *operation, store snapshot.Store, name string, set []string) (m *snapshot.Manifest, err error) {
	if err := k.settled(set, "its data can be saved"); err != nil {
		return nil, err
	}
	s := &saving{k: k, op: op, m: &snapshot.Manifest{Name: name, Project: k.decl.Name, Made: time.Now(), By: op.By, Boot: proc.Boot()}}
	began := time.Now()
	if s.draft, err = store.Begin(); err != nil {
		return nil, err
	}
	defer s.draft.Discard()
	for _, name := range set {
		if err := s.add(store, name); err != nil {
			return nil, err
		}
	}
	if s.m.Errands, err = k.project.KeptErrands(set...); err != nil {
		return nil, err
	}
	// What changes little is through after this.
	if err := s.copy(ctx, func(uint64) bool { return false }, false); err != nil {
		return nil, err
	}
	if err := s.still(ctx); err != nil {
		return nil, err
	}
	index := map[string]map[string]snapshot.Stamp{}
	for _, p := range s.parts {
		one := s.m.Service(p.service)
		one.Bytes, one.Files = one.Bytes+p.Bytes, one.Files+p.Count()
		s.m.Bytes, s.m.Copied = s.m.Bytes+p.Bytes, s.m.Copied+p.Copied
		index[p.id] = p.Files
	}
	s.m.TookMS = float64(time.Since(began).Microseconds()) / 1000
	return s.m, s.draft.Finish(s.m, index)
}

// add has a service's data be part of the snapshot.
func (s *saving) add(store snapshot.Store, name string) error {
	p := s.k.project
	in, err := p.Instance(p.Service(name))
	if err != nil {
		return err
	}
	one, err := p.Describe(in)
	if err != nil {
		return err
	}
	one.How = "did not run"
	base, earlier := latest(store, name, one.Data)
	for i, path := range p.DataOf(in) {
		to := snapshot.PartDir(s.draft.Dir, name, i)
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		t := &part{service: name, number: i, id: name + "/" + strconv.Itoa(i)}
		t.From, t.To, t.Progress = path, to, s.progress
		if base != "" {
			t.Base, t.Earlier = snapshot.PartDir(base, name, i), earlier[t.id]
		}
		if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
			one.Parts[i] = ""
		}
		s.total += int64(project.Size(path))
		s.parts = append(s.parts, t)
	}
	s.m.Services = append(s.m.Services, one)
	return nil
}

// latest returns the newest snapshot with the same data of a service, and what its files were;
// "" if there is none.
func latest(store snapshot.Store, service, id string) (dir string, index map[string]map[string]snapshot.Stamp) {
	all, _ := store.List()
	for _, m := range all {
		if s := m.Service(service); s != nil && id != "" && s.Data == id && m.Whole(proc.Boot()) == nil {
			return store.Path(m.Name), store.Index(m.Name)
		}
	}
	return "", nil
}

// progress tells how far the copy has come, now and then.
func (s *saving) progress(bytes int64) {
	done, last, now := s.done.Add(bytes), s.told.Load(), time.Now().UnixMilli()
	if now-last > 100 && s.told.CompareAndSwap(last, now) {
		s.k.ops.says(s.op, fmt.Sprintf("%s of %s", words.Bytes(uint64(done)), words.Bytes(uint64(max(done, s.total)))))
	}
}

// copy brings all parts up to date.
func (s *saving) copy(ctx context.Context, mapped func(uint64) bool, quiet bool) error {
	for _, p := range s.parts {
		if err := p.Update(ctx, mapped, quiet); err != nil {
			return err
		}
	}
	return nil
}

// stillLimit is how long a service may take to stand still.
const stillLimit = 30 * time.Second

// still has the services stand still, copies what has changed, and lets them go on.
func (s *saving) still(ctx context.Context) (err error) {
	k := s.k
	defer func() {
		for _, unlock := range slices.Backward(s.unlocks) {
			unlock()
		}
	}()
	began := time.Now()
	defer func() { s.m.HeldMS = float64(time.Since(began).Microseconds()) / 1000 }()
	if err := s.stopSome(ctx); err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, stillLimit)
	defer cancel()
	if err := s.lock(limited); err != nil {
		return err
	}
	list := func() ([]proc.ID, error) {
		census, err := proc.TakeCensus()
		if err != nil {
			return nil, err
		}
		var ids []proc.ID
		for _, one := range s.m.Services {
			if id := k.services[one.Name].Process(); id.PID != 0 {
				ids = append(ids, census.Belonging(id, k.project.Mark(one.Name))...)
			}
		}
		return ids, nil
	}
	for i := range s.m.Services {
		one := &s.m.Services[i]
		if k.services[one.Name].Process().PID != 0 {
			if one.How == "did not run" {
				one.How = "held"
			}
			s.unlocks = append(s.unlocks, k.services[one.Name].Hold())
		}
	}
	pids, thaw, err := proc.Freeze(list)
	if err != nil {
		return err
	}
	s.unlocks = append(s.unlocks, thaw)
	s.m.Made = time.Now()
	return s.copy(ctx, snapshot.Mapped(pids), true)
}

// lock keeps others from writing to the services whose kinds ask for it.
func (s *saving) lock(ctx context.Context) error {
	k := s.k
	var mu sync.Mutex
	var all sync.WaitGroup
	var failed error
	for i := range s.m.Services {
		one := &s.m.Services[i]
		svc := k.project.Service(one.Name)
		l, ok := k.project.Kind(svc).(kind.Locker)
		running := k.services[one.Name].Process().PID != 0
		if _, holder := l.(kind.Holder); !ok || !running && !holder {
			continue
		}
		in, err := k.project.Instance(svc)
		if err != nil {
			return err
		}
		all.Go(func() {
			unlock, err := l.Lock(ctx, in)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				failed = cmp.Or(failed, fmt.Errorf("%s can't be kept from changing: %w", one.Name, err))
				return
			}
			one.How = "locked"
			s.unlocks = append(s.unlocks, unlock)
		})
	}
	all.Wait()
	return failed
}

// stopSome stops those that have all on the disk only once they have ended.
func (s *saving) stopSome(ctx context.Context) error {
	k := s.k
	for i := range s.m.Services {
		one := &s.m.Services[i]
		if sv := k.services[one.Name]; k.project.Kind(k.project.Service(one.Name)).Info().AtEnd && sv.Wanted() {
			one.How = "stopped"
			k.looks.close(one.Name)
			sv.Stop()
			s.unlocks = append(s.unlocks, func() { sv.Start(supervise.Request{At: time.Now(), Again: true}) })
		}
	}
	return ctx.Err()
}

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
	return k.replace(ctx, "restore "+name+":", m, kept)
}

// replace carries a restore out. Kept is what becomes of the data that was there.
func (k *Keeper) replace(ctx context.Context, does string, m, kept *snapshot.Manifest) (Restored, error) {
	names := m.Names()
	out := Restored{Name: m.Name, Services: names}
	set := k.plan.WithDependents(names...)
	op, err := k.ops.begin(ctx, does, set)
	if err != nil {
		return out, err
	}
	fail := func(err error) (Restored, error) {
		err = roomFor(err, k.decl.Dir)
		k.ops.finish(op, err)
		return out, fmt.Errorf("%s was not restored: %w", m.Name, err)
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
		k.note(name, "restored", journal.Warn, "its data is that of the snapshot "+m.Name+" now")
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
		last, ok := e.Last()
		if ok && last.Result == errand.UnderWay && last.Copy == k.project.Copy && slices.ContainsFunc(k.project.Errand(e.Name).Needs, func(n string) bool { return slices.Contains(names, n) }) {
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
				if err := os.RemoveAll(left); err != nil {
					return r, err
				}
			}
			if swap.Fresh == "" {
				continue
			}
			t := snapshot.Tree{From: snapshot.PartDir(dir, one.Name, i), To: fresh, Progress: progress.progress}
			if err := t.Update(ctx, func(uint64) bool { return false }, true); err != nil {
				return r, err
			}
			for _, pattern := range p.Kind(in.Service).Info().Fleeting {
				found, _ := filepath.Glob(filepath.Join(fresh, pattern))
				for _, f := range found {
					if err := os.Remove(f); err != nil {
						return r, err
					}
				}
			}
			if in.Account != nil {
				if err := in.Account.OwnAll(fresh); err != nil {
					return r, err
				}
			}
		}
	}
	return r, nil
}

// foldUp takes away what was ready for a restore that is not carried out.
func (k *Keeper) foldUp(r *snapshot.Replacement) {
	for _, s := range r.Swaps {
		if s.Fresh != "" {
			_ = os.RemoveAll(s.Fresh)
		}
	}
}

// carry carries out a restore that was written down.
func (k *Keeper) carry(r *snapshot.Replacement) error {
	if err := k.project.Snapshots().Carry(r); err != nil {
		return err
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
				k.note(name, "restored", journal.Warn, "its data is that of the snapshot "+r.Restored.Name+" now")
			}
			k.forgetPlaces(k.ctx, r.Restored.Names())
		}
	}
	if err != nil {
		k.log.Error("a restore that was interrupted can't be finished", "why", err)
		k.warn("a restore that was interrupted can't be finished: " + err.Error())
		return
	}
	if _, err := os.Stat(k.project.Snapshots().Dir); err == nil {
		k.project.Snapshots().Clean()
		k.removeUnfolded()
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
			_ = os.RemoveAll(fresh)
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

// DropSnapshot deletes a snapshot.
func (k *Keeper) DropSnapshot(_ context.Context, name string) error {
	return k.project.Snapshots().Drop(name)
}
