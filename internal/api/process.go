package api

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/gate/control"
)

// KeepCommand is the hidden command that runs a keeper.
const KeepCommand = "keep"

// idleEnd is how long a keeper stays with nothing running and nobody
// watching.
const idleEnd = 5 * time.Minute

// startWait is how long a keeper may take to answer after its start.
const startWait = 10 * time.Second

// Keep runs the keeper's process: it supervises the project in dir until the
// context ends, all is stopped, or nothing has run for a while.
func Keep(ctx context.Context, dir, profile string, start []string) (err error) {
	p, err := project.OpenProfile(dir, profile)
	if err != nil {
		return err
	}
	if err := p.EnsureDirs(); err != nil {
		return err
	}
	lock, err := takeLock(p)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := p.KeepProfile(); err != nil {
		return err
	}
	log, closeLog, err := openLog(p)
	if err != nil {
		return err
	}
	defer closeLog()
	folder, err := os.Open(p.Dir)
	if err != nil {
		return err
	}
	defer folder.Close()
	g := &guard{project: p, log: log, lock: lock, dir: folder}
	l, err := g.listen()
	if err != nil {
		return err
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	if err := p.EnsureAuthority(); err != nil {
		log.Error("authority", "why", err)
	}
	p.Keepers = keepers{p.Name}
	k := keep.New(ctx, p, log)
	log.Info("keeper", "project", p.Name, "dir", p.Dir, "pid", os.Getpid())
	defer log.Info("keeper ends")
	supervised := make(chan error, 1)
	adopted := make(chan struct{})
	go func() { supervised <- k.Run(adopted) }()
	endStopped := func() {
		p.ForgetChoices()
		end()
	}
	go endWhenIdle(ctx, k, endStopped)
	if p.Copy != "" {
		// At the very end: what is still written there would bring it back. Services that go on
		// without this keeper are found by what is there.
		defer func() {
			if p.Forsaken() && err == nil && !keep.Orphaned(p) {
				err = p.RemoveCopy()
			}
		}()
	}
	<-adopted
	if p.Copy != "" { // not before: what an earlier keeper left is to be stopped, too
		go endAbandoned(ctx, k, p, endStopped)
	}
	if len(start) > 0 {
		if _, err := k.Start(keep.AskedBy(ctx, "apply"), false, start...); err != nil {
			log.Error("start", "why", err)
		}
	}
	server := NewServer(k, endStopped, log)
	server.replace = end
	var all sync.WaitGroup
	g.keeper, g.end = k, end
	g.serve = func(l net.Listener) { all.Go(func() { _ = server.Serve(ctx, l) }) }
	g.anew = func() { server.replaceBy([]string{}) }
	all.Go(func() { g.watch(ctx) })
	if p.UsesGate() {
		r := control.Registration{Dir: p.Dir, Name: p.Name, Socket: p.Socket(), PID: os.Getpid()}
		all.Go(func() {
			control.Attend(ctx, p, r, log, func(t control.Told) { k.TellGate(t.Ports, t.Problems, t.LANURL) }, k.Busy)
		})
	}
	err = server.Serve(ctx, l)
	end()
	all.Wait()
	if err := errors.Join(err, <-supervised); err != nil || server.next.Load() == nil {
		return err
	}
	return become(p, g.lock, *server.next.Load())
}

// lockVariable tells a keeper that takes another's place which file
// descriptor holds the lock.
const lockVariable = "NEIGHBOUR_LOCK"

// become makes this process a keeper that has read the declaration anew. Its
// services stay its children, and nobody can take the lock meanwhile.
func become(p *project.Project, lock *os.File, start []string) error {
	if _, _, errno := syscall.Syscall(syscall.SYS_FCNTL, lock.Fd(), syscall.F_SETFD, 0); errno != 0 {
		return fmt.Errorf("the keeper can't hand over its lock: %w", errno)
	}
	self := p.Self
	if _, err := os.Stat(self); err != nil {
		self = "/proc/self/exe" // it was moved or replaced; what runs is still there
	}
	argv := []string{self, KeepCommand, "-C", p.Home(), "--profile", p.Profile, "--start", strings.Join(start, ",")}
	return syscall.Exec(self, argv, append(os.Environ(), lockVariable+"="+strconv.Itoa(int(lock.Fd()))))
}

func endWhenIdle(ctx context.Context, k *keep.Keeper, end context.CancelFunc) {
	tick := time.NewTicker(idleEnd / 10)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if k.Idle() > idleEnd {
				end()
			}
		}
	}
}

// ownerEvery is how often the keeper of a fresh copy looks whether who made it is there.
const ownerEvery = time.Second

// endAbandoned ends the keeper of a fresh copy when the process that has made it has ended without
// doing so.
func endAbandoned(ctx context.Context, k *keep.Keeper, p *project.Project, end context.CancelFunc) {
	tick := time.NewTicker(ownerEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if !p.Forsaken() {
				continue
			}
			if _, err := k.Stop(keep.AskedBy(ctx, "nobody: its run was killed")); err == nil {
				end()
				return
			}
		}
	}
}

// errHeld says that another keeper has the project.
var errHeld = errors.New("another keeper has this project")

// takeLock makes this process the project's only keeper. One that is just
// ending is waited for.
func takeLock(p *project.Project) (*os.File, error) {
	if n, err := strconv.Atoi(os.Getenv(lockVariable)); err == nil {
		os.Unsetenv(lockVariable)
		syscall.CloseOnExec(n)
		return os.NewFile(uintptr(n), p.LockFile()), nil
	}
	f, err := os.OpenFile(p.LockFile(), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	for range 100 {
		if err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err == nil {
			return f, nil
		}
		if conn, err := net.Dial("unix", p.Socket()); err == nil {
			conn.Close()
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	f.Close()
	return nil, errHeld
}

// Find connects to the project's keeper if there is one, and starts one if
// services of an earlier keeper still run; otherwise it returns ErrNoKeeper.
func Find(ctx context.Context, p *project.Project) (*Client, error) {
	if c, err := dial(ctx, p); err == nil || !errors.Is(err, ErrNoKeeper) {
		return c, err
	}
	if !keep.Orphaned(p) {
		return nil, ErrNoKeeper
	}
	return Connect(ctx, p)
}

// Busy reports whether the project has a keeper, or services whose keeper is gone. It starts
// none.
func Busy(ctx context.Context, p *project.Project) bool {
	if c, err := dial(ctx, p); err == nil {
		c.Close()
		return true
	}
	return keep.Orphaned(p)
}

// dial connects to the project's keeper and makes sure that it answers: one
// that is just ending accepts a connection and then drops it.
func dial(ctx context.Context, p *project.Project) (*Client, error) {
	ctx, cancel := context.WithTimeout(ctx, startWait)
	defer cancel()
	c := NewClient(p.Socket())
	_, err := c.Hello(ctx)
	if err == nil {
		return c, nil
	}
	c.Close()
	var version *VersionError
	var problem *Problem
	var strange *StrangeKeeperError
	if errors.As(err, &version) || errors.As(err, &problem) || errors.As(err, &strange) {
		return nil, err // it answers, if not as it should
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf("the keeper does not answer within %s; end its process and try again: the services go on; see %s", startWait, p.KeeperLog())
	}
	return nil, ErrNoKeeper
}

// Connect connects to the project's keeper, and starts one if there is none.
func Connect(ctx context.Context, p *project.Project) (*Client, error) {
	if c, err := dial(ctx, p); err == nil || !errors.Is(err, ErrNoKeeper) {
		return c, err
	}
	if err := p.EnsureDirs(); err != nil {
		return nil, err
	}
	// Of many clients at once, one starts it and the others wait.
	spawning, err := os.OpenFile(filepath.Join(filepath.Dir(p.LockFile()), "spawn.lock"), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the keeper can't be started: %w", err)
	}
	defer spawning.Close()
	for deadline := time.Now().Add(startWait); syscall.Flock(int(spawning.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil && time.Now().Before(deadline); {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
		if c, err := dial(ctx, p); err == nil || !errors.Is(err, ErrNoKeeper) {
			return c, err
		}
	}
	if c, err := dial(ctx, p); err == nil || !errors.Is(err, ErrNoKeeper) {
		return c, err // who was quicker has started it
	}
	said, err := os.OpenFile(filepath.Join(p.LogDir(), "keeper.err"), os.O_CREATE|os.O_TRUNC|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the keeper can't be started: %w", err)
	}
	defer said.Close()
	cmd := exec.Command(p.Self, KeepCommand, "-C", p.Home(), "--profile", p.Profile)
	cmd.Dir = p.Dir
	cmd.Stdout, cmd.Stderr = said, said
	proc.Detach(cmd) // it may be started from within another project's service
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("the keeper can't be started: %w", err)
	}
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	deadline := time.After(startWait)
	for {
		if c, err := dial(ctx, p); err == nil || !errors.Is(err, ErrNoKeeper) {
			return c, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-ended:
			// Another client's keeper may have been quicker.
			if c, err := dial(ctx, p); err == nil {
				return c, nil
			}
			b, _ := os.ReadFile(said.Name())
			if !strings.Contains(string(b), errHeld.Error()) {
				return nil, fmt.Errorf("the keeper ended at once: %s", strings.TrimSpace(string(b)))
			}
			// There is a keeper, and it will have its socket again.
			ended = nil
		case <-deadline:
			return nil, fmt.Errorf("the keeper does not answer after %s; see %s", startWait, p.KeeperLog())
		case <-time.After(time.Millisecond):
		}
	}
}

// ProfileError says that services run with another profile than the one that
// is asked for.
type ProfileError struct{ Running, Wanted string }

func (e *ProfileError) Error() string {
	with := func(profile string) string {
		if profile == "" {
			return "without a profile"
		}
		return "with the profile " + profile
	}
	return fmt.Sprintf("services run %s; to start them %s, stop them first: neighbour stop", with(e.Running), with(e.Wanted))
}

// Refresh sees to it that the project's keeper has read the declaration as it
// is now, with the project's profile, as far as that touches no service that
// runs, other than those that are named. Effects are what the changed
// declaration means; of those, what would have to restart or stop keeps the
// keeper as it was, and done is false. A *ProfileError says that services run
// with another profile.
func Refresh(ctx context.Context, p *project.Project, c *Client, except ...string) (fresh *Client, effects []insight.Effect, done bool, err error) {
	k, err := c.Hello(ctx)
	if err != nil {
		return c, nil, false, err
	}
	if k.Profile != p.Profile {
		if k.Busy {
			return c, nil, false, &ProfileError{Running: k.Profile, Wanted: p.Profile}
		}
		_, err = c.Stop(ctx)
		c.Close()
		if err == nil {
			err = AwaitEnd(p)
		}
		if err == nil {
			fresh, err = Connect(ctx, p)
		}
		return fresh, nil, true, err
	}
	if !k.Stale {
		return c, nil, true, nil
	}
	r, err := c.Reread(ctx, except...)
	if err != nil || !r.Done {
		return c, r.Effects, false, err
	}
	c.Close()
	fresh, err = AwaitFresh(ctx, p)
	return fresh, r.Effects, true, err
}

// AwaitFresh connects to the keeper that has taken another's place and read
// the declaration as it is now.
func AwaitFresh(ctx context.Context, p *project.Project) (*Client, error) {
	ctx, cancel := context.WithTimeout(ctx, startWait)
	defer cancel()
	for {
		c, err := Connect(ctx, p)
		if err == nil {
			if k, hello := c.Hello(ctx); hello == nil && !k.Stale {
				return c, nil
			}
			c.Close()
		}
		select {
		case <-ctx.Done():
			return nil, errors.New("the keeper that has read the declaration does not answer; see " + p.KeeperLog())
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// AwaitEnd waits until the project's keeper has ended.
func AwaitEnd(p *project.Project) error {
	f, err := os.OpenFile(p.LockFile(), os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	for try := range 500 {
		if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
			return nil
		}
		// One that ends answers no longer: who does after a while is another, which
		// somebody has started meanwhile.
		if try > 30 && try%10 == 0 {
			if c, err := dial(context.Background(), p); err == nil {
				c.Close()
				return nil
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("the keeper is stopped and does not end; see " + p.KeeperLog())
}

// StopProject stops services of a project and what needs them; without a name all, and the keeper
// ends. If there is none, nothing runs.
func StopProject(ctx context.Context, p *project.Project, names ...string) (Done, error) {
	d, err := stopOnce(ctx, p, names)
	for tries := 0; errors.Is(err, ErrLost) && tries < 3; tries++ {
		// Another stop was quicker and took the keeper along, or the
		// keeper was killed: see what there is now.
		d, err = stopOnce(ctx, p, names)
	}
	return d, err
}

func stopOnce(ctx context.Context, p *project.Project, names []string) (Done, error) {
	client, err := Find(ctx, p)
	if errors.Is(err, ErrNoKeeper) {
		return Done{}, nil
	}
	if err != nil {
		return Done{}, err
	}
	defer client.Close()
	d, err := client.Stop(ctx, names...)
	if errors.Is(err, ErrNoKeeper) { // gone since it was found
		err = ErrLost
	}
	if err != nil && !errors.Is(err, ErrLost) || len(names) > 0 {
		return d, err
	}
	return d, errors.Join(err, AwaitEnd(p))
}
