package project

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/atomicfile"
)

// Snapshots is where the project's snapshots are.
func (p *Project) Snapshots() snapshot.Store { return p.storeIn("snapshots") }

func (p *Project) storeIn(folder string) snapshot.Store {
	return snapshot.Store{Dir: filepath.Join(p.base, folder), HoldsNothing: func(name string) bool {
		k := kind.All().Kind(name)
		return k != nil && k.Info().NoData
	}}
}

// RestoreFile is the file that says how far a restore has come.
func (p *Project) RestoreFile() string { return filepath.Join(p.state, "restore.json") }

// KeptData is the data that a service keeps on the disk.
type KeptData struct {
	Service string `json:"service"`
	Kind    string `json:"kind"`
	Version string `json:"version,omitempty"` // that has used it last
	Bytes   uint64 `json:"bytes"`
	// Began is when the data was begun, Changed when one of its files was written last.
	Began   time.Time `json:"began,omitzero"`
	Changed time.Time `json:"changed,omitzero"`
	// ID tells it from other data of the service: it changes when that is emptied.
	ID    string `json:"id,omitempty"`
	Where string `json:"where"`
	// Snapshots have data of the service, the newest first; those of the data itself are in Same.
	Snapshots []string `json:"snapshots"`
	Same      []string `json:"same"`
}

// KeptData lists the data that services keep on the disk.
func (p *Project) KeptData() ([]KeptData, error) {
	saved, _ := p.Snapshots().List()
	out := []KeptData{}
	for _, s := range p.Services {
		if !p.KeepsData(s) {
			continue
		}
		in := p.place(s)
		_, m, err := p.madeBy(s.Name)
		if err != nil {
			return nil, err
		}
		parts := p.DataOf(in)
		one := KeptData{Service: s.Name, Kind: s.Kind, Version: m.Version, Bytes: Size(parts...), Began: m.At, ID: m.ID, Snapshots: []string{}, Same: []string{}}
		for _, path := range parts {
			if newest := newestIn(path); newest.After(one.Changed) {
				one.Changed = newest
			}
		}
		if len(parts) > 0 {
			one.Where = parts[0]
		}
		for _, snap := range saved {
			if of := snap.Service(s.Name); of != nil {
				one.Snapshots = append(one.Snapshots, snap.Name)
				if of.Data == m.ID && m.ID != "" {
					one.Same = append(one.Same, snap.Name)
				}
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// newestIn returns when one of the files in a folder was written last.
func newestIn(dir string) (newest time.Time) {
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if info, err := e.Info(); err == nil && info.ModTime().After(newest) {
			newest = info.ModTime()
		}
		return nil
	})
	return newest
}

// Describe returns what a snapshot says of a service beside its files.
func (p *Project) Describe(in *kind.Instance) (snapshot.Service, error) {
	name := in.Service.Name
	_, m, err := p.madeBy(name)
	if err != nil {
		return snapshot.Service{}, err
	}
	out := snapshot.Service{Name: name, Kind: in.Service.Kind, Version: m.Version, Data: m.ID, Began: m.At}
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
	if err := removeFleeting(to, p.Kind(in.Service).Info().Fleeting); err != nil {
		return err
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
			if all[s.Name] = (made{s.Kind, s.Version, s.Data, s.Began}); s.Data == "" {
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
