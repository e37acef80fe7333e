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
	"time"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
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
	if _, err := os.Lstat(k.project.SnapshotsOf(name).Path(name)); err == nil {
		return nil, fmt.Errorf("%q: %w", name, snapshot.ErrExists)
	}
	return k.saveAs(ctx, &snapshot.Manifest{Name: name}, set)
}

// saveAs saves the data of services as a snapshot of which the name and what it is for are given.
func (k *Keeper) saveAs(ctx context.Context, m *snapshot.Manifest, set []string) (*snapshot.Manifest, error) {
	store, name := k.project.SnapshotsOf(m.Name), m.Title()
	op, err := k.ops.begin(ctx, Save, name, set)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	k.ops.stoppedBy(op, cancel)
	m, err = k.take(ctx, op, store, m, set)
	if k.ops.isCancelled(op)() && err != nil {
		err = errors.New("it was cancelled")
	}
	k.ops.finish(op, err)
	if err != nil {
		return nil, fmt.Errorf("%s was not saved: %w", name, snapshot.ExplainFull(err, store.Dir))
	}
	if !project.IsTemplate(m.Name) { // what is lost of one is made again
		k.background.Go(func() {
			if err := store.Settle(m.Name); err != nil {
				k.log.Warn("settling a snapshot", "name", m.Name, "why", err)
			}
		})
	}
	for _, s := range m.Services {
		k.note(s.Name, "saved", journal.Info, fmt.Sprintf("its data was saved as %s (%s)", name, s.How))
	}
	return m, nil
}

func (k *Keeper) take(ctx context.Context, op *operation, store snapshot.Store, m *snapshot.Manifest, set []string) (_ *snapshot.Manifest, err error) {
	if err := k.settled(set, "its data can be saved"); err != nil {
		return nil, err
	}
	m.Project, m.Made, m.By, m.Boot = k.decl.Name, time.Now(), op.By, proc.Boot()
	s := &saving{k: k, op: op, m: m}
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

// DropSnapshot deletes a snapshot.
func (k *Keeper) DropSnapshot(_ context.Context, name string) error {
	return k.project.Snapshots().Drop(name)
}
