// Package mask strikes out of a snapshot what is not to leave this machine. It works on a copy of
// the data, in servers of its own, so that neither the snapshot nor what runs is touched.
package mask

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/tree"
	"neighbour/internal/core/project"
)

// Limits of how long a server may take to accept connections, and to end.
const (
	startLimit = time.Minute
	endLimit   = time.Minute
)

// Export packs a snapshot of a project into an archive, without what the declaration strikes out.
// Report is told what is being done.
func Export(ctx context.Context, p *project.Project, name string, w io.Writer, report func(step string), progress func(bytes int64)) (*snapshot.Manifest, error) {
	m, err := p.Snapshots().Get(name)
	if err != nil {
		return nil, err
	}
	masks := p.Masks()
	m.Boot, m.Masked = "", map[string][]string{}
	for _, s := range m.Services {
		if rules := masks[s.Name]; len(rules) > 0 {
			m.Masked[s.Name] = rules
		}
	}
	m.Services = slices.DeleteFunc(m.Services, func(s snapshot.Service) bool { return slices.Contains(m.Masked[s.Name], declare.All) })
	if len(m.Services) == 0 {
		return nil, errors.New("all that the snapshot holds is struck out")
	}
	d, err := p.Snapshots().Begin()
	if err != nil {
		return nil, err
	}
	defer d.Discard()
	if slices.ContainsFunc(m.Services, func(s snapshot.Service) bool { return len(m.Masked[s.Name]) > 0 }) {
		if err := strikeOut(ctx, p, m, d, report); err != nil {
			return nil, err
		}
	}
	m.Bytes = 0
	for _, s := range m.Services {
		m.Bytes += s.Bytes
	}
	report("packing")
	return m, d.Export(m, w, progress)
}

// strikeOut puts the data of services of which something is struck out into a draft.
func strikeOut(ctx context.Context, p *project.Project, m *snapshot.Manifest, d *snapshot.Draft, report func(string)) (err error) {
	c, err := p.MakeCopy("export-"+strings.ToLower(rand.Text()[:6]), 1)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, c.RemoveCopy()) }()
	if err := c.EnsureDirs(); err != nil {
		return err
	}
	if err := c.NoteRestored(m); err != nil {
		return err
	}
	for i := range m.Services {
		one := &m.Services[i]
		rules := m.Masked[one.Name]
		if len(rules) == 0 {
			continue
		}
		report("striking out of " + one.Name)
		if err := c.CheckRestore(m, *one); err != nil {
			return err
		}
		if err := service(ctx, c, p.Snapshots().Path(m.Name), one, rules, d); err != nil {
			return fmt.Errorf("%s: %w", one.Name, err)
		}
	}
	return nil
}

// service strikes out of the data of a service.
func service(ctx context.Context, c *project.Project, from string, one *snapshot.Service, rules []string, d *snapshot.Draft) error {
	s := c.Service(one.Name)
	k := c.Kind(s)
	m, ok := k.(kind.Masker)
	if !ok {
		return fmt.Errorf("of a service of kind %s no part can be struck out", s.Kind)
	}
	in, err := c.Instance(s)
	if err != nil {
		return err
	}
	if err := c.EnsureInstanceDirs(in); err != nil {
		return err
	}
	if in.Program, err = k.Find(in); err != nil {
		return err
	}
	parts := c.DataOf(in)
	for i, live := range parts {
		if one.Parts[i] == "" {
			continue
		}
		if err := tree.Remove(live); err != nil {
			return err
		}
		if err := c.Unpack(ctx, in, snapshot.PartDir(from, one.Name, i), live, func(int64) {}); err != nil {
			return err
		}
	}
	prepare := func() error {
		if p, ok := k.(kind.Preparer); ok {
			return p.Prepare(ctx, in, func(string) {})
		}
		return nil
	}
	if err := prepare(); err != nil {
		return err
	}
	var sample []string
	if err := within(ctx, c, k, in, func() (err error) {
		sample, err = m.Mask(ctx, in, rules)
		return err
	}); err != nil {
		return err
	}
	if err := m.Scrub(ctx, in); err != nil {
		return err
	}
	if r, ok := k.(kind.Refiller); ok {
		if err := prepare(); err != nil {
			return err
		}
		if err := within(ctx, c, k, in, func() error { return r.Refill(ctx, in) }); err != nil {
			return err
		}
	}
	one.Bytes, one.Files = 0, 0
	for i, live := range parts {
		one.Parts[i] = ""
		if _, err := os.Lstat(live); err != nil {
			continue
		}
		if err := search(ctx, live, sample); err != nil {
			return err
		}
		if err := d.Take(one, i, live); err != nil {
			return err
		}
	}
	return nil
}

// within does something while a service's server runs, if it has one.
func within(ctx context.Context, c *project.Project, k kind.Kind, in *kind.Instance, do func() error) (err error) {
	if k.Info().NoProcess {
		return do()
	}
	l, err := k.Launch(in)
	if err != nil {
		return err
	}
	env, err := c.Environment(in.Service)
	if err != nil {
		return err
	}
	out, err := os.Create(c.LogFile(in.Service.Name))
	if err != nil {
		return err
	}
	defer out.Close()
	p, err := proc.Start(proc.Spec{Argv: l.Argv, Env: append(env, l.Env...), Dir: l.Dir, Mark: c.Mark(in.Service.Name), Output: out, Account: in.Account})
	if err != nil {
		return err
	}
	defer func() {
		signal := l.Signal
		if signal == "" {
			signal = "TERM"
		}
		_ = p.Signal(signal)
		select {
		case <-p.Done():
		case <-time.After(endLimit):
			err = errors.Join(err, errors.New("its server does not end"))
		}
		if killed := p.KillAll(endLimit); err == nil {
			err = killed
		}
	}()
	check, err := k.Probe(in)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	for {
		_, err := check.Check(limited)
		if err == nil {
			return do()
		}
		select {
		case <-limited.Done():
			return fmt.Errorf("its server does not become ready: %w", err)
		case <-p.Done():
			b, _ := os.ReadFile(out.Name())
			return fmt.Errorf("its server ended: %s\n%s", p.Exit(), b[max(0, len(b)-1000):])
		case <-time.After(20 * time.Millisecond):
		}
	}
}
