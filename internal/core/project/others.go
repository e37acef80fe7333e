package project

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// Keepers are asked by a keeper for what other projects of its user have.
type Keepers interface {
	// Start has a project start a service with what it needs, and returns when it is ready. Report
	// is told how far that is.
	Start(ctx context.Context, p *Project, service string, report func(step string)) error
	// State says how a service of a project is; the error, that it isn't ready.
	State(ctx context.Context, p *Project, service string) (string, error)
	// Vacate has this user's gate leave a port that a project declares, and returns when it has.
	Vacate(ctx context.Context, port int) error
}

// otherProjects are the other projects, as the services of one see them. It is a kind.Others.
type otherProjects struct{ p *Project }

// Facts returns the facts of a service of the project in a folder.
func (o otherProjects) Facts(dir, service string) (map[string]kind.Fact, error) {
	other, err := o.p.other(dir, service, Glance)
	if err != nil {
		return nil, err
	}
	return other.Facts(service)
}

// Start has the project in a folder start a service.
func (o otherProjects) Start(ctx context.Context, dir, service string, report func(step string)) error {
	other, err := o.p.other(dir, service, Open)
	if err != nil {
		return err
	}
	if o.p.Keepers == nil {
		return errors.New("only a keeper starts services of another project")
	}
	return o.p.Keepers.Start(ctx, other, service, report)
}

// State says how a service of the project in a folder is.
func (o otherProjects) State(ctx context.Context, dir, service string) (string, error) {
	if o.p.Keepers == nil {
		return "", errors.New("only a keeper asks other projects")
	}
	return o.p.Keepers.State(ctx, At(real(dir)), service)
}

// real returns a folder without links, or as it is if it isn't there.
func real(dir string) string {
	if r, err := filepath.EvalSymlinks(dir); err == nil {
		return r
	}
	return dir
}

// other opens the project in a folder, which must have a service, and not need one of this one's
// services that needs it.
func (p *Project) other(dir, service string, open func(string) (*Project, error)) (*Project, error) {
	dir = real(dir) // it may be a link
	other, err := open(dir)
	var missing *declare.MissingError
	switch {
	case errors.As(err, &missing), err == nil && other.Dir != dir:
		return nil, fmt.Errorf("%s is no project: it has no %s", dir, declare.FileName)
	case err != nil:
		first, _, _ := strings.Cut(err.Error(), "\n")
		return nil, fmt.Errorf("the project in %s can't be used: %s", dir, first)
	case other.Dir == p.Dir:
		return nil, errors.New("that is this project; a service of its own is named in needs")
	}
	if err := other.Check(service); err != nil {
		return nil, fmt.Errorf("the project in %s: %w", dir, err)
	}
	return other, nil
}

// CheckBorrowed makes sure that what a service of kind "project" stands for is there, and does not
// need the service itself.
func (p *Project) CheckBorrowed(s *declare.Service) error {
	b, ok := s.Settings.(kind.Borrower)
	if !ok {
		return nil
	}
	folder, service := b.Borrowed()
	other, err := p.other(p.path(folder), service, Glance)
	if err != nil {
		return err
	}
	return other.leadsTo(service, p.Dir, s.Name, []string{p.Name + "." + s.Name})
}

// path returns a path of the declaration as an absolute one.
func (p *Project) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(p.Dir, name)
}

// leadsTo fails if a service needs, through other projects, a service of the one in dir that needs
// what is being looked at. Way is how it was come to.
func (p *Project) leadsTo(service, dir, name string, way []string) error {
	here := p.Name + "." + service
	way = append(way, here)
	if p.Dir == dir {
		if slices.Contains(p.Plan.WithNeeds(service), name) {
			return fmt.Errorf("projects need one another in a circle: %s", strings.Join(way, " → "))
		}
		return nil
	}
	if slices.Contains(way[:len(way)-1], here) {
		return nil // a circle of others, of which they tell themselves
	}
	for _, need := range p.Plan.WithNeeds(service) {
		b, ok := p.Service(need).Settings.(kind.Borrower)
		if !ok {
			continue
		}
		folder, lent := b.Borrowed()
		other, err := Glance(p.path(folder))
		if err != nil || other.Service(lent) == nil {
			continue // told there
		}
		if err := other.leadsTo(lent, dir, name, way); err != nil {
			return err
		}
	}
	return nil
}
