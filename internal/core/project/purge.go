package project

import (
	"cmp"
	"errors"
	"io/fs"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/login"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/tree"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Leaving is something that Neighbour has made for a project.
type Leaving struct {
	What  string   `json:"what"` // "the data of ledger"
	Paths []string `json:"paths"`
	Bytes uint64   `json:"bytes"`
}

// Leavings lists all that was made for the project and is there: data, snapshots, logs, what is
// remembered. Of a project whose declaration can't be read it has what needs none.
func (p *Project) Leavings() []Leaving {
	var out []Leaving
	add := func(what string, paths ...string) {
		paths = slices.DeleteFunc(paths, func(path string) bool {
			_, err := os.Lstat(path)
			return path == "" || err != nil
		})
		if len(paths) > 0 {
			out = append(out, Leaving{what, paths, Size(paths...)})
		}
	}
	var within []string // what is told of by itself
	for _, s := range p.Services {
		if !p.KeepsData(s) {
			continue
		}
		in := p.place(s)
		paths := p.DataOf(in)
		add("the data of "+s.Name, paths...)
		within = append(within, paths...)
	}
	for name, what := range map[string]string{"snapshots": "snapshots", "branches": "data of git branches", "templates": "what fresh copies begin with", copiesDir: "fresh copies", "logs": "logs"} {
		path := filepath.Join(p.base, name)
		if Size(path) > 0 {
			add(what, path)
			within = append(within, path)
		}
	}
	slices.SortStableFunc(out, func(a, b Leaving) int { return cmp.Compare(b.Bytes, a.Bytes) })
	state := []string{p.base}
	if !p.within() {
		state = append(state, p.anchor())
	}
	add("the rest of its state", state...)
	if n := len(out) - 1; n >= 0 && out[n].Paths[0] == p.base {
		for _, path := range within {
			if strings.HasPrefix(path, p.base+string(filepath.Separator)) {
				out[n].Bytes -= min(out[n].Bytes, Size(path))
			}
		}
	}
	if shared := p.sharedDir(); os.Getuid() == 0 && !slices.ContainsFunc(within, func(path string) bool { return strings.HasPrefix(path, shared+string(filepath.Separator)) }) {
		add("data of servers that ran under other accounts", shared)
	}
	if path, has := p.envBlock(); has {
		add("variables of its services, in lines of Neighbour's own", path)
	}
	add("sockets", p.sockets()...)
	add("what is remembered of it", p.remembered()...)
	return out
}

// place returns an instance as far as where its data is needs it; no port is chosen for it.
func (p *Project) place(s *declare.Service) *kind.Instance {
	in := &kind.Instance{Service: s, Root: p.Dir, Home: p.Home(), Copy: p.Copy != "", Data: filepath.Join(p.state, "data", s.Name), Run: filepath.Join(p.state, "run", s.Name)}
	if accounts := p.Kind(s).Info().Accounts; len(accounts) > 0 && os.Getuid() == 0 {
		if a, err := proc.FindAccount(accounts...); err == nil {
			in.Account = a
			p.shareData(in)
		}
	}
	return in
}

// sockets are the folders of sockets that are outside of the project.
func (p *Project) sockets() []string {
	out := []string{p.shortRunDir("keeper")}
	for _, s := range p.Services {
		out = append(out, p.shortRunDir(s.Name))
	}
	return out
}

// remembered are the files outside of the project in which this user's Neighbour knows it.
func (p *Project) remembered() []string {
	if listDir() == "" {
		return nil
	}
	out := []string{listPath(p.Dir), vouchPath(p.Dir)}
	if e, err := login.Of(p.Name, p.Dir, p.Self); err == nil {
		out = append(out, e.Link, e.Path)
	}
	if id, err := p.id(); err == nil {
		out = append(out, recordPath(id))
	}
	return out
}

// Purge deletes all that Leavings lists. Nothing of the project, nor of its copies, may run. It
// may be repeated if it was interrupted.
func (p *Project) Purge() error {
	if p.Copy != "" {
		return errors.New("of a copy nothing stays; neighbour stop ends it")
	}
	// The folder is known by these, so that they are found before it is gone.
	remembered := p.remembered()
	for _, s := range p.Services {
		if !p.KeepsData(s) {
			continue
		}
		in := p.place(s)
		if in.Account != nil {
			if err := tree.Remove(filepath.Dir(filepath.Dir(in.Data))); err != nil {
				return err
			}
		}
		for _, path := range p.DataOf(in) {
			if err := tree.Remove(path); err != nil {
				return err
			}
		}
	}
	elsewhere := p.sockets()
	if os.Getuid() == 0 {
		elsewhere = append(elsewhere, p.sharedDir()) // of services that are no more, too
	}
	for _, path := range elsewhere {
		if err := tree.Remove(path); err != nil {
			return err
		}
	}
	aside := p.base + ".purged"
	if err := tree.Remove(aside); err != nil {
		return err
	}
	if err := os.Rename(p.base, aside); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, path := range []string{aside, p.anchor()} {
		if err := tree.Remove(path); err != nil {
			return err
		}
	}
	if err := p.removeEnvBlock(); err != nil {
		return err
	}
	if e, err := login.Of(p.Name, p.Dir, p.Self); err == nil {
		if err := e.Remove(); err != nil {
			return err
		}
	}
	for _, path := range remembered {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Copies lists the homes of the project's fresh copies.
func (p *Project) Copies() []string {
	var out []string
	entries, _ := os.ReadDir(filepath.Join(p.base, copiesDir))
	for _, e := range entries {
		if e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
			out = append(out, copyHome(p.Dir, e.Name()))
		}
	}
	return out
}

// removeSockets deletes this user's folder for sockets, but for what somebody listens on: that is
// of projects that are in another list of his.
func removeSockets(base string) {
	all, _ := filepath.Glob(filepath.Join(base, "*"))
	for _, dir := range all {
		inUse := false
		_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err == nil && e.Type()&fs.ModeSocket != 0 && !inUse {
				if c, err := net.Dial("unix", path); err == nil {
					c.Close()
					inUse = true
				}
			}
			return nil
		})
		if !inUse {
			_ = tree.Remove(dir)
		}
	}
	_ = os.Remove(base) // unless something stays
}

// PurgeUser deletes what is remembered for this user as a whole: the list of projects, the gate's
// certificate authority and ports. No project may be left.
func PurgeUser() error {
	cache, err := os.UserCacheDir() // what versions programs have
	if err == nil {
		cache = filepath.Join(cache, "neighbour")
	}
	removeSockets(shortBase())
	for _, dir := range []string{UserDir(), cache} {
		if dir == "" {
			continue
		}
		if err := tree.Remove(dir); err != nil {
			return err
		}
	}
	if os.Getuid() == 0 {
		_ = os.Remove(sharedBase) // unless others of root have something in it
	}
	return nil
}
