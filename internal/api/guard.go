package api

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/project"
)

// guardEvery is how often a keeper looks whether what it needs is still
// there.
const guardEvery = 500 * time.Millisecond

// guard watches over a keeper's place: its project's folder, its own folder
// in it, and its socket, which others may move or delete.
type guard struct {
	project *project.Project
	keeper  *keep.Keeper
	log     *slog.Logger
	lock    *os.File
	dir     *os.File // the project's folder, wherever it is now
	socket  os.FileInfo
	// serve answers on another listener, anew makes the keeper begin again
	// with its folders, end ends it.
	serve     func(net.Listener)
	anew, end func()
}

// listen opens the keeper's socket. Only the holder of the lock may: what is
// there is stale.
func (g *guard) listen() (net.Listener, error) {
	path := g.project.Socket()
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, fmt.Errorf("the keeper can't listen: %w", err)
	}
	// The next one removes it: a socket at this path may be another's by then.
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	if err := os.Chmod(path, 0o600); err != nil {
		l.Close()
		return nil, err
	}
	g.socket, err = os.Stat(path)
	return l, err
}

// watch looks now and then until the context ends.
func (g *guard) watch(ctx context.Context) {
	tick := time.NewTicker(guardEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		switch {
		case !g.isAt(g.project.Dir, g.dir):
			g.leave()
			return
		case !g.isAt(g.project.LockFile(), g.lock):
			if g.restore() {
				return
			}
		case !g.hasSocket():
			g.log.Warn("the socket was deleted; a new one is made")
			err := g.project.EnsureDirs()
			var l net.Listener
			if err == nil {
				l, err = g.listen()
			}
			if err != nil {
				g.log.Error("the socket", "why", err)
				continue
			}
			g.serve(l)
		}
	}
}

func (g *guard) hasSocket() bool {
	now, err := os.Stat(g.project.Socket())
	return err == nil && os.SameFile(now, g.socket)
}

// isAt reports whether an open file is still what is at the path.
func (g *guard) isAt(path string, f *os.File) bool {
	now, err := os.Stat(path)
	if err != nil {
		return !errors.Is(err, fs.ErrNotExist)
	}
	is, err := f.Stat()
	return err == nil && os.SameFile(now, is)
}

// leave stops everything, since the project's folder is no longer where its
// services were told that it is, and leaves word where it is now.
func (g *guard) leave() {
	now, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", g.dir.Fd()))
	if _, gone := os.Stat(filepath.Join(now, declare.FileName)); err != nil || gone != nil {
		now = ""
	}
	why := fmt.Sprintf("the project's folder %s was deleted while this ran", g.project.Dir)
	if now != "" {
		why = fmt.Sprintf("the project's folder was moved from %s to %s while this ran; neighbour start starts it there", g.project.Dir, now)
	}
	g.log.Warn("leaving", "why", why)
	g.keeper.Leave(why)
	if now != "" {
		if moved, err := project.Open(now); err == nil {
			if err := g.keeper.LeaveWord(moved, why); err != nil {
				g.log.Error("leaving word", "why", err)
			}
		}
	}
	g.end()
}

// restore makes the keeper's folder again when it was deleted, and lets the
// keeper begin anew with what runs. It returns false if that can't be done
// yet.
func (g *guard) restore() bool {
	if err := g.project.EnsureDirs(); err != nil {
		g.log.Error("the folder "+g.project.StateFolder()+" was deleted", "why", err)
		return false
	}
	lock, err := os.OpenFile(g.project.LockFile(), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err == nil {
		err = syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	if err != nil { // another keeper was quicker: the services are its own now
		g.log.Error("the folder "+g.project.StateFolder()+" was deleted, and another keeper has the project now", "why", err)
		g.keeper.Forsake()
		g.end()
		return true
	}
	g.lock = lock
	if err := g.keeper.Restore(); err != nil {
		g.log.Error("the state can't be saved", "why", err)
		return false
	}
	g.anew()
	return true
}
