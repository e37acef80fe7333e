package project

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"strings"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/data/snapshot"
)

// templatePrefix begins the names of the snapshots that fresh copies begin with.
const templatePrefix = "template-"

// IsTemplate reports whether a name is that of what fresh copies begin with.
func IsTemplate(name string) bool { return strings.HasPrefix(name, templatePrefix) }

// SnapshotsOf returns where the snapshot of a name is. Those that fresh copies begin with, and the
// data of branches, are not among the user's.
func (p *Project) SnapshotsOf(name string) snapshot.Store {
	if IsTemplate(name) {
		return p.storeIn("templates")
	}
	if IsBranchSet(name) {
		return p.Branches()
	}
	return p.Snapshots()
}

// Template returns the name of the snapshot in which the data of these services is as it was when
// they had been migrated and seeded as they are declared now; "" if nothing says what they hold
// then. Another declaration, program, migration or seed makes another name.
func (p *Project) Template(services ...string) (string, error) {
	sum := sha256.New()
	holds := false
	for _, name := range services {
		s := p.Service(name)
		if !p.KeepsData(s) {
			continue
		}
		holds = true
		in, err := p.Instance(s)
		if err != nil {
			return "", err
		}
		program, err := p.Kind(s).Find(in)
		if err != nil {
			return "", err
		}
		settings, err := json.Marshal(s.Settings)
		if err != nil {
			return "", err
		}
		part := []string{s.Name, s.Kind, program.Version, string(settings)}
		scripts := s.Scripts()
		if !scripts.Seed.Run.IsZero() {
			return "", nil // what a command does nobody knows before
		}
		if dir := scripts.Migrations.Value; dir != "" {
			files, err := migrate.ReadDir(p.Dir, dir)
			if err != nil {
				return "", err
			}
			for _, f := range files {
				part = append(part, f.Name, f.Checksum)
			}
		}
		if file := scripts.Seed.File.Value; file != "" {
			f, err := migrate.ReadFile(p.Dir, file)
			if err != nil {
				return "", err
			}
			part = append(part, f.Name, f.Checksum)
		}
		_ = json.NewEncoder(sum).Encode(part) // a hash takes all
	}
	for _, e := range p.Errands {
		if len(e.Before) > 0 { // what it does is done for the data, too
			due, err := p.fingerprint(p.errandFolder(e), "errand."+e.Name, e.When)
			if err != nil || len(e.When) == 0 {
				return "", err
			}
			_, _ = io.WriteString(sum, e.Name+due)
		}
	}
	if !holds {
		return "", nil
	}
	return templatePrefix + hex.EncodeToString(sum.Sum(nil)[:10]), nil
}

// mostTemplates is how many templates are kept.
const mostTemplates = 3

// PruneTemplates deletes templates that newer ones have taken the place of.
func (p *Project) PruneTemplates() error {
	store := p.SnapshotsOf(templatePrefix)
	all, _ := store.List()
	for i, m := range all {
		if i >= mostTemplates {
			if err := store.Drop(m.Name); err != nil {
				return err
			}
		}
	}
	return nil
}
