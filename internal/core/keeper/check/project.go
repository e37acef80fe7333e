package check

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/project/drift"
)

// leastSpace is how much should be free where data is kept, in bytes.
const leastSpace = 1 << 30

// disk looks for the space where data is kept.
func disk(_ context.Context, p *project.Project) []Finding {
	seen := map[uint64]bool{}
	var out []Finding
	for _, dir := range p.DataDirs() {
		var st syscall.Statfs_t
		info, err := os.Stat(dir)
		if err != nil || syscall.Statfs(dir, &st) != nil {
			continue
		}
		device, ok := info.Sys().(*syscall.Stat_t)
		free := st.Bavail * uint64(st.Bsize)
		if !ok || seen[uint64(device.Dev)] || free >= leastSpace {
			continue
		}
		seen[uint64(device.Dev)] = true
		out = append(out, Finding{ID: "disk/" + dir, Level: Warns, Where: dir,
			What: fmt.Sprintf("only %d MB are free where data is kept", free>>20), Why: "a database that runs out of space stops, or loses what it was writing", Remedy: "make room on the file system of " + dir})
	}
	return out
}

// leastFiles is how many files a server should be able to have open.
const leastFiles = 1024

// openFiles looks at the limit that services inherit.
func openFiles(context.Context, *project.Project) []Finding {
	var limit syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit) != nil || limit.Max >= leastFiles {
		return nil
	}
	return []Finding{{ID: "files/limit", Level: Warns, What: fmt.Sprintf("a process may have only %d files open", limit.Max),
		Why: "servers need one for each connection", Remedy: fmt.Sprintf("raise the limit before the keeper starts: ulimit -n %d", leastFiles)}}
}

// skew is how far ahead of the clock a file's time may be.
const skew = 5 * time.Minute

// clock looks for data that is newer than now: then the clock was turned
// back, or is wrong.
func clock(_ context.Context, p *project.Project) []Finding {
	var newest time.Time
	var path string
	for _, dir := range p.DataDirs() {
		count := 0
		_ = filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
			if err != nil {
				return fs.SkipDir
			}
			if count++; count > 200 || strings.Count(strings.TrimPrefix(at, dir), "/") > 3 {
				return fs.SkipDir
			}
			if info, err := d.Info(); err == nil && info.ModTime().After(newest) {
				newest, path = info.ModTime(), at
			}
			return nil
		})
	}
	ahead := time.Until(newest)
	if newest.IsZero() || ahead < skew {
		return nil
	}
	return []Finding{{ID: "clock/data", Level: Warns, Where: path, What: fmt.Sprintf("the clock is %s behind the time of a data file", ahead.Round(time.Minute)),
		Why: "what is stored gets times in the wrong order, and certificates and tokens don't hold", Remedy: "set the clock (it says " + time.Now().Format("2006-01-02 15:04") + ")"}}
}

// anchor looks whether a start can make what it needs beside the declaration.
func anchor(_ context.Context, p *project.Project) []Finding {
	err := p.Anchorable()
	if err == nil {
		return nil
	}
	f := Finding{ID: "folder", Level: Stops, Where: p.Dir, Why: "nothing can be kept for the project"}
	f.What, f.Remedy, _ = strings.Cut(err.Error(), "; ")
	return []Finding{f}
}

// environment compares the env files with what the declaration provides.
func environment(_ context.Context, p *project.Project) []Finding {
	var out []Finding
	seen := map[string]bool{}
	add := func(f Finding) {
		if !seen[f.ID] {
			seen[f.ID] = true
			out = append(out, f)
		}
	}
	// The services that don't get a line's variable from the declaration are told at once.
	type concerns struct {
		at       int // in out
		services []string
	}
	concerned := map[string]*concerns{}
	asked := map[int]bool{}
	free := func(number int) bool { // many lines may name the same port
		is, known := asked[number]
		if !known {
			is = port.Free(number)
			asked[number] = is
		}
		return is
	}
	for _, file := range p.EnvFiles() {
		if file.Problem != "" {
			where := file.Path
			if file.Line != 0 {
				where += ":" + fmt.Sprint(file.Line)
			}
			add(Finding{ID: "envfile/" + where, Level: Warns, Where: where, What: file.Problem, Why: "readers of env files stop here, or read something else than is meant", Remedy: "write NAME=value on a line each"})
			continue
		}
		for _, d := range file.Drift {
			if d.Result != drift.Elsewhere || file.Production {
				continue
			}
			id := "env/" + file.Path + "/" + d.Name
			if !d.Provided {
				c := concerned[id]
				if c == nil {
					c = &concerns{at: len(out)}
					concerned[id] = c
				}
				if c.services = append(c.services, file.Service); len(c.services) > 1 {
					continue
				}
				if seen[id] { // as what others get from the declaration
					id += "/" + file.Service
				}
			}
			f := Finding{ID: id, Level: Warns, Service: file.Service, Where: fmt.Sprintf("%s:%d", file.Path, d.Line),
				What:   fmt.Sprintf("%s points elsewhere than %s: %s", d.Name, d.Service, strings.Join(d.Parts, "; ")),
				Why:    fmt.Sprintf("%s uses it, so it doesn't reach %s", file.Service, d.Service),
				Remedy: fmt.Sprintf("let the declaration give it: env.%s in [service.%s], with a reference to %s, and remove the line", d.Name, file.Service, d.Service)}
			if d.Port != 0 && free(d.Port) {
				f.What += "; nothing listens on port " + strconv.Itoa(d.Port)
			}
			if file.Service == "" {
				f.Why = "whoever reads the file doesn't reach " + d.Service
				f.Remedy = "remove the line, or correct it"
			}
			if d.Provided {
				f.Level, f.Why, f.Remedy = Note, "the declaration's goes before it for most readers of env files, but not for those that let the file win", "remove the line, so that only one is there"
			}
			add(f)
		}
	}
	for _, c := range concerned {
		if first := c.services[0]; len(c.services) > 1 {
			out[c.at].Why = strings.Replace(out[c.at].Why, first+" uses it, so it doesn't reach", words.Few(c.services, 3)+" use it, so they don't reach", 1)
		}
	}
	return out
}

// committed looks for the file for one machine in what git tracks, and for a
// tracked env file that passwords are written to.
func committed(_ context.Context, p *project.Project) []Finding {
	var out []Finding
	if path := filepath.Join(p.Dir, declare.LocalFileName); exists(path) && project.Tracked(path) {
		out = append(out, Finding{ID: "git/local", Level: Warns, Where: declare.LocalFileName, What: "git tracks it, and it is for this machine only",
			Why: "it would change the project on the machines of others", Remedy: "git rm --cached " + declare.LocalFileName + ", and add it to .gitignore"})
	}
	if e := p.EnvFile; e != nil {
		if path := filepath.Join(p.Dir, e.Write.Value); !filepath.IsAbs(e.Write.Value) && exists(path) && project.Tracked(path) {
			out = append(out, Finding{ID: "git/env", Level: Warns, Where: e.Write.At.String(), What: "git tracks " + e.Write.Value + ", which each start writes to",
				Why: "passwords and ports of this machine would be committed", Remedy: "git rm --cached " + e.Write.Value + ", and add it to .gitignore, or write another file"})
		} else if !filepath.IsAbs(e.Write.Value) && project.Unignored(p.Dir, e.Write.Value) {
			out = append(out, Finding{ID: "git/ignore", Level: Warns, Where: e.Write.At.String(), What: "git does not ignore " + e.Write.Value + ", which each start writes to",
				Why: "the next \"git add\" would take passwords and ports of this machine along", Remedy: "echo " + wire.QuoteShell("/"+e.Write.Value) + " >> .gitignore"})
		}
	}
	return out
}

// errands looks for the programs of errands. What a preparation may make is not
// missed.
func errands(_ context.Context, p *project.Project) []Finding {
	var out []Finding
	for _, e := range p.Errands {
		for i, stray := range p.StraysOfErrand(e) {
			out = append(out, astray(Finding{ID: fmt.Sprintf("when[%d]/errand.%s", i, e.Name), Level: Warns, Where: e.At.String()}, "errand "+e.Name, stray))
		}
		with := p.Service(e.WithService())
		vars := []project.Explained{}
		if with != nil && p.Kind(with).Info().InheritEnv {
			own, err := p.Variables(with)
			if err != nil {
				continue // told of the service
			}
			for _, v := range own {
				vars = append(vars, project.Explained{Variable: v})
			}
		}
		c, err := p.ErrandCommand(e, nil, vars)
		if err == nil {
			err = c.Missing()
		}
		if err == nil || kind.MayBeMade(err) && with != nil && len(with.Prepare) > 0 {
			continue
		}
		f := Finding{ID: "errand/" + e.Name, Level: Warns, Where: e.At.String(), Why: "the errand can't be run without"}
		if len(e.Before) > 0 {
			f.Level, f.Why = Stops, "it runs before services start"
		}
		f.What, f.Remedy, _ = strings.Cut("errand "+e.Name+": "+err.Error(), "; ")
		var missing *kind.MissingError
		if errors.As(err, &missing) {
			f.Packages = missing.Packages
			f.Actions = installation(f)
		}
		out = append(out, f)
	}
	return out
}

// branch says that the data is that of another git branch than the one that is checked out.
func branch(_ context.Context, p *project.Project) []Finding {
	b, err := p.Branch()
	if err != nil || !b.Differs() {
		return nil
	}
	source := "its own data, as it was left"
	if _, err := p.Branches().Get(project.BranchSet(b.Now)); err != nil {
		source = "a copy of the data of the branch that it was come to from"
	}
	return []Finding{{ID: "branch/" + b.Now, Level: Warns, Where: declare.FileName,
		What:   fmt.Sprintf("the branch %s is checked out, and the data is that of %s", b.Now, b.Data),
		Why:    "a migration that runs now changes the data of " + b.Data,
		Remedy: "neighbour snapshot branch switch; neighbour snapshot branch keep takes the data along",
		Actions: []Action{
			{Do: SwitchBranch, Label: "switch the data", Says: fmt.Sprintf("keep the data of %s aside, and give %s %s; what reads it is restarted", b.Data, b.Now, source), Asks: true},
			{Do: KeepBranch, Label: "take it along", Says: fmt.Sprintf("have the data be that of %s from now on; %s gets a copy of it when it is checked out again", b.Now, b.Data), Asks: true},
		}}}
}
