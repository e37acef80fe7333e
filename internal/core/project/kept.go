package project

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/atomicfile"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/snapshot"
)

// Snapshots is where the project's snapshots are.
func (p *Project) Snapshots() snapshot.Store {
	return snapshot.Store{Dir: filepath.Join(p.base, "snapshots")}
}

// RestoreFile is the file that says how far a restore has come.
func (p *Project) RestoreFile() string { return filepath.Join(p.state, "restore.json") }

// Describe returns what a snapshot says of a service beside its files.
func (p *Project) Describe(in *kind.Instance) (snapshot.Service, error) {
	name := in.Service.Name
	_, m, err := p.madeBy(name)
	if err != nil {
		return snapshot.Service{}, err
	}
	out := snapshot.Service{Name: name, Kind: in.Service.Kind, Version: m.Version, Data: m.ID}
	for _, path := range p.DataOf(in) {
		out.Parts = append(out.Parts, filepath.Base(path))
	}
	out.Secrets, err = p.vault.of(name)
	return out, err
}

// Unpack copies a part of a service's data out of a snapshot, so that the service's server can begin
// from it.
func (p *Project) Unpack(ctx context.Context, in *kind.Instance, from, to string, progress func(bytes int64)) error {
	t := snapshot.Tree{From: from, To: to, Progress: progress}
	if err := t.Update(ctx, func(uint64) bool { return false }, true); err != nil {
		return err
	}
	for _, pattern := range p.Kind(in.Service).Info().Fleeting {
		found, _ := filepath.Glob(filepath.Join(to, pattern))
		for _, f := range found {
			if err := os.Remove(f); err != nil {
				return err
			}
		}
	}
	if in.Account != nil {
		return in.Account.OwnAll(to)
	}
	return nil
}

// CheckRestore reports why data of a snapshot can't be put in the place of a service's.
func (p *Project) CheckRestore(m *snapshot.Manifest, from snapshot.Service) error {
	s := p.Service(from.Name)
	if s == nil {
		return fmt.Errorf("the snapshot %s has data of %s, which is no service here; name those that you want: %s", m.Name, from.Name, strings.Join(m.Names(), ", "))
	}
	if s.Kind != from.Kind {
		return fmt.Errorf("%s is of kind %s, and the snapshot %s has data of the kind %s", s.Name, s.Kind, m.Name, from.Kind)
	}
	if !p.KeepsData(s) {
		return fmt.Errorf("%s runs elsewhere, or keeps no data here", s.Name)
	}
	if p.Kind(s).Info().Machine && m.Platform != "" && m.Platform != snapshot.Platform() {
		return fmt.Errorf("the data of %s was made on %s, and this is %s: %s keeps it in another form there", s.Name, m.Platform, snapshot.Platform(), s.Kind)
	}
	in, err := p.Instance(s)
	if err != nil {
		return err
	}
	if parts := p.DataOf(in); len(parts) != len(from.Parts) {
		return fmt.Errorf("the snapshot %s keeps the data of %s in %d parts, and here it has %d", m.Name, s.Name, len(from.Parts), len(parts))
	}
	if from.Version == "" {
		return nil
	}
	program, err := p.Kind(s).Find(in)
	if err != nil {
		return err
	}
	if now := program.Version; now != "" && p.Kind(s).Info().Machine && major(now) != major(from.Version) {
		return fmt.Errorf("the data of %s was used by %s %s, and here is %s; install that version, or export the data with the server's own programs", s.Name, s.Kind, from.Version, now)
	} else if now != "" && kind.CompareVersions(minor(now), minor(from.Version)) < 0 {
		return fmt.Errorf("the data of %s was used by %s %s, and here is %s, which may not be able to read it; install the newer one", s.Name, s.Kind, from.Version, now)
	}
	return nil
}

// major returns the part of a version that says in which form data is kept.
func major(version string) string {
	first, rest, _ := strings.Cut(version, ".")
	if first == "0" {
		second, _, _ := strings.Cut(rest, ".")
		return first + "." + second
	}
	return first
}

// KeptErrands returns what is remembered of the errands that ran on the data of services.
func (p *Project) KeptErrands(services ...string) (map[string]json.RawMessage, error) {
	all := map[string]json.RawMessage{}
	if err := atomicfile.ReadJSON(p.errandFile(), &all); err != nil {
		return nil, err
	}
	maps.DeleteFunc(all, func(name string, _ json.RawMessage) bool { return !p.errandNeeds(name, services) })
	return all, nil
}

// errandNeeds reports whether an errand needs one of these services.
func (p *Project) errandNeeds(name string, services []string) bool {
	for _, e := range p.Errands {
		if e.Name == name && slices.ContainsFunc(e.Needs, func(n string) bool { return slices.Contains(services, n) }) {
			return true
		}
	}
	return false
}

// NoteRestored remembers of the data of services what a snapshot says of it.
func (p *Project) NoteRestored(m *snapshot.Manifest) error {
	if _, err := atomicfile.UpdateMap(p.madeFile(), func(all map[string]made) (bool, error) {
		for _, s := range m.Services {
			if all[s.Name] = (made{s.Kind, s.Version, s.Data}); s.Data == "" {
				delete(all, s.Name)
			}
		}
		return true, nil
	}); err != nil {
		return err
	}
	for _, s := range m.Services {
		if err := p.vault.set(s.Name, s.Secrets); err != nil {
			return err
		}
	}
	_, err := atomicfile.UpdateMap(p.errandFile(), func(all map[string]json.RawMessage) (bool, error) {
		maps.DeleteFunc(all, func(name string, _ json.RawMessage) bool { return p.errandNeeds(name, m.Names()) })
		for name, done := range m.Errands {
			if p.errandNeeds(name, m.Names()) {
				all[name] = done
			}
		}
		return true, nil
	})
	return err
}

// of returns the passwords of a service, by their names.
func (v *vault) of(service string) (map[string]string, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	all := map[string]string{}
	if err := atomicfile.ReadJSON(v.path, &all); err != nil {
		return nil, err
	}
	v.all = all
	out := map[string]string{}
	for name, secret := range all {
		if rest, ok := strings.CutPrefix(name, service+"."); ok {
			out[rest] = secret
		}
	}
	return out, nil
}

// set has a service have these passwords beside those that it has.
func (v *vault) set(service string, secrets map[string]string) error {
	if len(secrets) == 0 {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	all, err := atomicfile.UpdateMap(v.path, func(all map[string]string) (bool, error) {
		changed := false
		for name, secret := range secrets {
			changed = changed || all[service+"."+name] != secret
			all[service+"."+name] = secret
		}
		return changed, nil
	})
	if err == nil {
		v.all = all
	}
	return err
}
