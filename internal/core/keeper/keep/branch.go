package keep

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
)

// BranchData is of which git branch the data is, and the data that is kept for others.
type BranchData struct {
	project.Branch
	// On says that the declaration has each branch have its own data, Switch that the data follows
	// a checkout by itself.
	On     bool        `json:"on"`
	Switch bool        `json:"switch,omitempty"`
	Sets   []BranchSet `json:"sets"`
}

// BranchSet is the data of a branch that is kept for when it is checked out again.
type BranchSet struct {
	Branch string    `json:"branch"`
	Made   time.Time `json:"made"` // when it was left
	Bytes  int64     `json:"bytes"`
	// Gone says that git has no such branch any more.
	Gone     bool     `json:"gone,omitempty"`
	Services []string `json:"services"`
}

// Branches tells of which git branch a project's data is, and what is kept for others.
func Branches(p *project.Project) (BranchData, error) {
	out := BranchData{Sets: []BranchSet{}}
	out.On, out.Switch = p.ByBranch()
	var err error
	if out.Branch, err = p.Branch(); err != nil {
		return out, err
	}
	all, _ := p.Branches().List()
	for _, m := range all {
		if m.Branch != out.Data { // of the one that the services hold there may be an older one
			out.Sets = append(out.Sets, BranchSet{m.Branch, m.Made, m.Bytes, !p.HasGitBranch(m.Branch), m.Names()})
		}
	}
	return out, nil
}

// Switched says what a switch to the data of another branch has done.
type Switched struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Source is the branch of whose data a copy was made; "" if the branch had its own.
	Source string    `json:"source,omitempty"`
	Began  time.Time `json:"began,omitzero"` // when what was stopped began to start again
}

// errSameBranch says that there is nothing to switch.
var errSameBranch = errors.New("the data is that of the branch that is checked out")

// KeepData has the data be that of the branch that is checked out: it is taken along.
func (k *Keeper) KeepData(ctx context.Context) (Switched, error) {
	b, err := k.differing()
	if err != nil {
		return Switched{}, err
	}
	if err := k.project.SetBranch(b.Now); err != nil {
		return Switched{}, err
	}
	k.lookAtBranch()
	began, err := k.startDue(ctx)
	return Switched{From: b.Data, To: b.Now, Source: b.Data, Began: began}, err
}

// startDue does, once data and branch agree again, what was not done for the branch: it
// starts services of which something was held back, as migrations are while the data is another
// branch's, and restarts those that were left running, and that an errand goes before which is due.
// It returns when they began to start, and zero if none did.
func (k *Keeper) startDue(ctx context.Context) (began time.Time, err error) {
	var held, overdue []string
	k.each(func(s *supervise.Service) {
		switch st := s.Status(); {
		case st.Held:
			held = append(held, st.Name)
		case (st.State == supervise.Ready || st.State == supervise.Ailing) && len(k.project.DueBefore(st.Name)) > 0:
			overdue = append(overdue, st.Name)
		}
	})
	if len(held) > 0 {
		began, err = k.startNamed(ctx, false, k.plan.WithDependents(held...))
	}
	if len(overdue) > 0 {
		_, at, failed := k.Restart(ctx, false, false, overdue...)
		if began.IsZero() {
			began = at
		}
		err = errors.Join(err, failed)
	}
	return began, err
}

func (k *Keeper) differing() (project.Branch, error) {
	b, err := k.project.Branch()
	switch on, _ := k.project.ByBranch(); {
	case err != nil:
		return b, err
	case !on:
		return b, errors.New("the declaration keeps no data apart for branches; [snapshots] on = { branch = true } does")
	case k.project.Copy != "":
		return b, errors.New("a copy has no data of branches")
	case b.Now == "":
		return b, errors.New("no git branch is checked out")
	case b.Data == "":
		return b, k.project.SetBranch(b.Now)
	case !b.Differs():
		return b, errSameBranch
	}
	return b, nil
}

// SwitchBranch keeps the data that services hold for its branch, and puts that of the branch which
// is checked out in its place. A branch that has none yet gets a copy of the data of the branch
// that it was come to from. What reads the data is stopped for it, and started again.
func (k *Keeper) SwitchBranch(ctx context.Context) (Switched, error) {
	k.switching.Lock()
	defer k.switching.Unlock()
	b, err := k.differing()
	if err != nil {
		return Switched{}, err
	}
	out := Switched{From: b.Data, To: b.Now}
	names, err := savable(k.project, nil)
	if err != nil {
		return out, err
	}
	m, err := k.setOf(b.Now)
	if errors.Is(err, snapshot.ErrNone) {
		if out.Source = b.Data; b.From != "" && b.From != b.Data {
			if m, err = k.setOf(b.From); err == nil {
				out.Source = b.From
			}
		}
	}
	if err != nil && !errors.Is(err, snapshot.ErrNone) {
		return out, err
	}
	left := &snapshot.Manifest{Name: project.BranchSet(b.Data), Branch: b.Data, Why: "left for the branch " + b.Now}
	switch {
	case m == nil: // what services hold goes on as the other's
		if _, err = k.saveAs(ctx, left, names); err == nil {
			err = k.project.SetBranch(b.Now)
		}
	case len(m.Services) < len(names): // some of it goes on as the other's
		out.Began, err = k.switchSome(ctx, b.Now, m, left, names)
	default:
		var r Restored
		r, err = k.replace(ctx, Switch, m, left, b.Now)
		out.Began = r.Began
	}
	if err == nil {
		var began time.Time
		if began, err = k.startDue(ctx); out.Began.IsZero() {
			out.Began = began
		}
	}
	if err != nil {
		return out, err
	}
	k.note("", "branch", journal.Info, fmt.Sprintf("the data is that of the branch %s now", b.Now))
	k.lookAtBranch()
	return out, nil
}

// switchSome keeps the data of all services, and replaces that of some. Nothing may be written in
// between.
func (k *Keeper) switchSome(ctx context.Context, branch string, m, left *snapshot.Manifest, names []string) (began time.Time, err error) {
	var again []string
	for _, name := range k.plan.WithDependents(names...) {
		if k.services[name].Wanted() {
			again = append(again, name)
		}
	}
	if len(again) > 0 {
		if _, err := k.Stop(ctx, again...); err != nil {
			return began, err
		}
	}
	if _, err = k.saveAs(ctx, left, names); err == nil {
		_, err = k.replace(ctx, Switch, m, nil, branch)
	}
	began = time.Now()
	if len(again) == 0 {
		return began, err
	}
	at, failed := k.startNamed(ctx, false, again)
	return at, errors.Join(err, failed)
}

// setOf returns the data that is kept for a branch, as far as there are services for it.
func (k *Keeper) setOf(branch string) (*snapshot.Manifest, error) {
	m, err := k.project.Branches().Get(project.BranchSet(branch))
	if err != nil {
		return nil, err
	}
	if err := m.Whole(proc.Boot()); err != nil {
		return nil, err
	}
	kept := m.Services[:0]
	for _, s := range m.Services {
		if k.project.Service(s.Name) == nil {
			continue // the branch has it, and this one does not declare it any more
		}
		if err := k.project.CheckRestore(m, s); err != nil {
			return nil, err
		}
		kept = append(kept, s)
	}
	m.Services = kept
	return m, nil
}

// followBranch has the data follow the branch that is checked out, where that is declared.
func (k *Keeper) followBranch(ctx context.Context) error {
	if k.project == nil {
		return nil
	}
	if _, byItself := k.project.ByBranch(); !byItself || k.project.Copy != "" {
		return nil
	}
	b, err := k.project.Branch()
	if err != nil || !b.Differs() {
		return err
	}
	if _, err = k.SwitchBranch(ctx); err != nil && !errors.Is(err, errSameBranch) {
		return fmt.Errorf("the data is that of the branch %s, and %s is checked out, to which it can't be switched: %w", b.Data, b.Now, err)
	}
	return nil
}

// followAgain is how often a switch to the data of a branch is tried again that did not work, as
// while something starts.
const followAgain = 3 * time.Second

// watchBranch sees to it that a checkout is noticed.
func (k *Keeper) watchBranch() {
	if on, _ := k.project.ByBranch(); !on || k.project.Copy != "" {
		return
	}
	tick := time.NewTicker(lookAgain)
	defer tick.Stop()
	told, failed := "", ""
	var tried time.Time
	for {
		b := k.lookAtBranch()
		switch {
		case !b.Differs():
			told, tried, failed = "", time.Time{}, ""
		case told != b.Now:
			told, tried, failed = b.Now, time.Time{}, ""
			k.note("", "branch", journal.Info, fmt.Sprintf("the branch %s is checked out, and the data is that of %s", b.Now, b.Data))
		}
		if b.Differs() && time.Since(tried) > followAgain {
			tried = time.Now()
			if err := k.followBranch(AskedBy(k.ctx, "a checkout")); err != nil && k.ctx.Err() == nil && err.Error() != failed {
				failed = err.Error()
				k.note("", "branch", journal.Warn, failed)
				k.log.Warn("branch", "why", err)
			}
		}
		select {
		case <-k.ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// lookAtBranch tells the interfaces of which branch the data is, if that has changed.
func (k *Keeper) lookAtBranch() project.Branch {
	b, err := k.project.Branch()
	if err == nil && b.Data == "" && b.Now != "" {
		err = k.project.SetBranch(b.Now)
		b.Data = b.Now
	}
	if err != nil {
		k.log.Warn("branch", "why", err)
	}
	k.mu.Lock()
	changed := k.overview.Branch != b
	k.overview.Branch = b
	k.mu.Unlock()
	if changed {
		k.touch("")
	}
	return b
}

// settleBranch remembers, after a replacement, of which branch the data is, and lets go of what was
// kept for that.
func (k *Keeper) settleBranch(branch string) error {
	if err := k.project.SetBranch(branch); err != nil {
		return err
	}
	store, name := k.project.Branches(), project.BranchSet(branch)
	if _, err := os.Lstat(store.Path(name)); err != nil {
		return nil
	}
	return store.Drop(name)
}

// Branches tells of which git branch the data is, and what is kept for others.
func (k *Keeper) Branches() (BranchData, error) { return Branches(k.project) }
