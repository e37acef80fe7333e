package keep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/project"
)

// looks are the looks into services that are open.
type looks struct {
	mu   sync.Mutex
	open map[string]*look
}

// look is a source that is open. It is closed when nobody used it for a while,
// or when the service has another process.
type look struct {
	source store.Source
	pid    int
	users  int
	stale  bool // it is closed when nobody uses it any more
	idle   *time.Timer
}

// lookIdle is how long a look stays open that nobody uses.
const lookIdle = 30 * time.Second

// Holding returns the services of a project into which one can look.
func Holding(p *project.Project) []string {
	var out []string
	for _, s := range p.Services {
		if _, ok := p.Kind(s).(kind.Holding); ok {
			out = append(out, s.Name)
		}
	}
	return out
}

// NoDataError says why one can't look into a service.
type NoDataError struct{ Why string }

func (e *NoDataError) Error() string { return e.Why }

// OpenSource opens a look into a service of a project.
func OpenSource(p *project.Project, service string) (store.Source, error) {
	if err := p.Check(service); err != nil {
		return nil, err
	}
	s := p.Service(service)
	k, ok := p.Kind(s).(kind.Holding)
	if !ok {
		return nil, &NoDataError{fmt.Sprintf("%s is of the kind %s, into which one can't look", service, s.Kind)}
	}
	in, err := p.Instance(s)
	if err != nil {
		return nil, err
	}
	return k.Source(in)
}

// Look lends a look into a service that runs.
func (k *Keeper) Look(ctx context.Context, service string, do func(store.Source) error) error {
	if err := k.decl.Check(service); err != nil {
		return err
	}
	s := k.services[service].Status()
	if s.State != supervise.Ready && s.State != supervise.Ailing {
		why := fmt.Sprintf("%s is %s; one can look into it once it is ready", service, s.State)
		if !s.State.Running() {
			why += "; neighbour start " + service + " starts it"
		}
		return &NoDataError{why}
	}
	l, err := k.looks.take(service, s.PID, func() (store.Source, error) { return OpenSource(k.project, service) })
	if err != nil {
		return err
	}
	defer k.looks.giveBack(service, l)
	err = do(l.source)
	if now := k.services[service].Status(); err != nil && now.PID != s.PID && ctx.Err() == nil {
		return &NoDataError{fmt.Sprintf("%s was stopped or restarted meanwhile (%s now)", service, now.State)}
	}
	return err
}

func (l *looks) take(service string, pid int, open func() (store.Source, error)) (*look, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	one := l.open[service]
	if one != nil && one.pid != pid {
		l.discard(service, one)
		one = nil
	}
	if one == nil {
		source, err := open()
		if err != nil {
			return nil, err
		}
		one = &look{source: source, pid: pid}
		if l.open == nil {
			l.open = map[string]*look{}
		}
		l.open[service] = one
	}
	one.users++
	if one.idle != nil {
		one.idle.Stop()
	}
	return one, nil
}

// discard has a look closed as soon as nobody uses it.
func (l *looks) discard(service string, one *look) {
	if l.open[service] == one {
		delete(l.open, service)
	}
	one.stale = true
	if one.users == 0 {
		_ = one.source.Close()
	}
}

func (l *looks) giveBack(service string, one *look) {
	l.mu.Lock()
	defer l.mu.Unlock()
	one.users--
	switch {
	case one.users > 0:
	case one.stale:
		_ = one.source.Close()
	default:
		one.idle = time.AfterFunc(lookIdle, func() {
			l.mu.Lock()
			defer l.mu.Unlock()
			if one.users == 0 && !one.stale {
				l.discard(service, one)
			}
		})
	}
}

// close closes the look into a service, and all for "".
func (l *looks) close(service string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, one := range l.open {
		if service == "" || name == service {
			if one.idle != nil {
				one.idle.Stop()
			}
			l.discard(name, one)
		}
	}
}

// Data is what a service holds.
type Data struct {
	Service string `json:"service"`
	// Language is that in which it can be asked, "" for none; Changes says that
	// what it holds can be changed.
	Language string `json:"language"`
	// Asked are the latest questions, the newest last.
	Asked   []string `json:"asked"`
	Changes bool     `json:"changes"`
	// Describes says that it is known how its collections are made.
	Describes   bool               `json:"describes"`
	Collections []store.Collection `json:"collections"`
}

// DataOf lists what a source holds.
func DataOf(ctx context.Context, service string, source store.Source) (Data, error) {
	d := Data{Service: service, Collections: []store.Collection{}}
	if a, ok := source.(store.Asker); ok {
		d.Language = a.Language()
	}
	_, d.Changes = source.(store.Actor)
	_, d.Describes = source.(store.Describer)
	all, err := source.Collections(ctx)
	if all != nil {
		d.Collections = all
	}
	return d, err
}

// Asked returns the latest questions that a service was asked, the newest last.
func (k *Keeper) Asked(service string) []string {
	all := map[string][]string{}
	if b, err := os.ReadFile(k.project.AskedFile()); err == nil {
		_ = json.Unmarshal(b, &all)
	}
	return all[service]
}

// askedKept is how many questions of a service are kept.
const askedKept = 100

// NoteAsked keeps a question for those who ask again.
func (k *Keeper) NoteAsked(service, statement string) {
	if strings.TrimSpace(statement) == "" || len(statement) > 10_000 {
		return
	}
	_, err := atomicfile.UpdateMap(k.project.AskedFile(), func(all map[string][]string) (bool, error) {
		list := append(slices.DeleteFunc(all[service], func(s string) bool { return s == statement }), statement)
		all[service] = list[max(0, len(list)-askedKept):]
		return true, nil
	})
	if err != nil {
		k.log.Error("a question can't be kept", "why", err)
	}
}

// Answer is what a service answers to a question.
type Answer struct {
	store.Page
	// Writes says that it was not asked, since the question would change data.
	Writes bool `json:"writes"`
	// Refused is the server's refusal, and At its place in the question, in
	// characters counted from 1; 0 if it isn't known.
	Refused string `json:"refused"`
	At      int    `json:"at"`
}

// AskSource asks a source.
func AskSource(ctx context.Context, source store.Source, q store.Question) (Answer, error) {
	asker, ok := source.(store.Asker)
	if !ok {
		return Answer{}, &NoDataError{"a service of this kind has no language to ask in; \"neighbour data\" shows what it holds"}
	}
	page, err := asker.Ask(ctx, q)
	a := Answer{Page: page}
	var writes *store.WritesError
	var refused *store.AnswerError
	switch {
	case errors.As(err, &writes):
		a.Writes = true
		return a, nil
	case errors.As(err, &refused):
		a.Refused, a.At = refused.Message, refused.At
		return a, nil
	}
	return a, err
}

// ActorOf returns a source as one that can be changed.
func ActorOf(source store.Source) (store.Actor, error) {
	if a, ok := source.(store.Actor); ok {
		return a, nil
	}
	return nil, store.ErrNoAction
}

// DescribeSource lists the parts of a collection of a source.
func DescribeSource(ctx context.Context, source store.Source, collection string) (store.Page, error) {
	if d, ok := source.(store.Describer); ok {
		return d.Describe(ctx, collection)
	}
	return store.Page{}, &NoDataError{"collections of this kind have no columns or indexes"}
}

// FillSource adds the items of a file, of CSV or JSON, to a collection of a source.
func FillSource(ctx context.Context, source store.Source, collection, file string, dry bool) (store.Filled, error) {
	filler, ok := source.(store.Filler)
	if !ok {
		return store.Filled{}, &NoDataError{"it takes no items from files"}
	}
	f, err := os.Open(file)
	if err != nil {
		return store.Filled{}, err
	}
	defer f.Close()
	rows, err := store.ReadRows(f)
	if err != nil {
		return store.Filled{}, fmt.Errorf("%s: %w", file, err)
	}
	return filler.Fill(ctx, collection, rows, dry)
}
