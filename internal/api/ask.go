package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/launch"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/core/record/usage"
)

// Questions are those about a project that change nothing, and that can be
// answered whether a keeper runs or not.
type Questions interface {
	Looks
	// Environment lists the variables that a service gets, and those that lead
	// to it if it is a server. With files, what each hides in env files is told.
	Environment(ctx context.Context, service string, files bool) ([]project.Explained, error)
	// Starts returns the latest starts, the newest last.
	Starts(ctx context.Context, n int) ([]history.Summary, error)
	// StartReport tells how a start went; the id 0 is the one that began last.
	StartReport(ctx context.Context, id int64) (starts.Report, error)
	// Wiring tells how the project is wired.
	Wiring(ctx context.Context) (insight.Wiring, error)
	// Errands lists the errands, each with its latest runs.
	Errands(ctx context.Context) ([]insight.Errand, error)
	// ErrandOutput returns how a run of an errand is, and what it has printed from
	// a place on.
	ErrandOutput(ctx context.Context, id, from int64) (keep.ErrandOutput, error)
	// Migrations lists the migrations of a database.
	Migrations(ctx context.Context, service string) (launch.Migrations, error)
	// Logs asks for a part of the time line of what services printed.
	Logs(ctx context.Context, q LogQuery) (journal.Answer, error)
	// TailLogs gives write what comes after a place from now on, until the context
	// ends or who answers is gone.
	TailLogs(ctx context.Context, q LogQuery, write func(journal.Entry)) error
	// Checks makes all checks.
	Checks(ctx context.Context) ([]check.Finding, error)
}

// Ask returns who answers questions about a project: its keeper, if one runs
// that has read the declaration as it is now; else the same code in this
// process.
func Ask(ctx context.Context, p *project.Project) Questions {
	c := NewClient(p.Socket())
	hello, err := c.Hello(ctx)
	if err == nil && !hello.Stale && hello.Profile == p.Profile {
		return c
	}
	c.Close()
	return here{p}
}

// AskOf returns who answers questions about the data of a service: the project's keeper, also one
// that has not read the declaration as it is now, if the service runs under it, since what runs is
// asked as it runs; else whoever Ask returns.
func AskOf(ctx context.Context, p *project.Project, service string) Questions {
	ask := Ask(ctx, p)
	if _, offline := ask.(here); !offline {
		return ask
	}
	c := NewClient(p.Socket())
	if s, err := c.Status(ctx); err == nil {
		i := slices.IndexFunc(s.Services, func(st Status) bool { return st.Name == service })
		if i >= 0 && s.Services[i].State.Running() {
			return c
		}
	}
	c.Close()
	return ask
}

// here answers questions in this process.
type here struct{ project *project.Project }

func (h here) Environment(_ context.Context, service string, files bool) ([]project.Explained, error) {
	return h.project.EnvironmentWith(service, files)
}

func (h here) Starts(ctx context.Context, n int) ([]history.Summary, error) {
	db := history.New(h.project.HistoryFile(), nil)
	defer db.Close()
	return db.List(ctx, n)
}

func (h here) StartReport(ctx context.Context, id int64) (starts.Report, error) {
	db := history.New(h.project.HistoryFile(), nil)
	defer db.Close()
	return db.Report(ctx, id)
}

func (h here) Logs(ctx context.Context, q LogQuery) (journal.Answer, error) {
	query, err := readLogQuery(q.values())
	if err != nil {
		return journal.Answer{}, err
	}
	return journal.Read(ctx, h.project.LogDir(), query)
}

func (h here) TailLogs(ctx context.Context, q LogQuery, write func(journal.Entry)) error {
	query, err := readLogQuery(q.values())
	if err != nil {
		return err
	}
	if err := h.project.EnsureDirs(); err != nil {
		return err
	}
	return journal.Tail(ctx, h.project.LogDir(), query, write)
}

func (h here) Wiring(context.Context) (insight.Wiring, error) {
	return insight.WiringOf(h.project, nil)
}

func (h here) Checks(ctx context.Context) ([]check.Finding, error) {
	services, _, err := Look(ctx, h.project)
	if err != nil {
		return nil, err
	}
	return check.Run(ctx, h.project, func(name string) check.Seen { return keep.SeenBy(services[name]) }), nil
}

// Usage returns what the services and the machine used over a period up to now, in
// so many parts.
func (c *Client) Usage(ctx context.Context, period time.Duration, parts int) (usage.Report, error) {
	e := usageEndpoint
	e.path += fmt.Sprintf("?period=%d&parts=%d", int(period.Seconds()), parts)
	return call(ctx, c, e, none{})
}

// Starts returns the latest starts, the newest last.
func (c *Client) Starts(ctx context.Context, n int) ([]history.Summary, error) {
	e := startsEndpoint
	e.path += "?n=" + strconv.Itoa(n)
	return call(ctx, c, e, none{})
}

// StartReport tells how a start went; the id 0 is the one that began last.
func (c *Client) StartReport(ctx context.Context, id int64) (starts.Report, error) {
	return call(ctx, c, startReportEndpoint, none{}, strconv.FormatInt(id, 10))
}

// Environment lists the variables that a service gets; see Questions.
func (c *Client) Environment(ctx context.Context, service string, files bool) ([]project.Explained, error) {
	e := environmentEndpoint
	if files {
		e.path += "?files=true"
	}
	return call(ctx, c, e, none{}, service)
}

// Look returns how the services of a project are, by name: as its keeper says, with what else that
// tells, or, without one, as they were left.
func Look(ctx context.Context, p *project.Project) (map[string]Status, Overview, error) {
	current := map[string]Status{}
	client, err := Find(ctx, p)
	if errors.Is(err, ErrNoKeeper) {
		for _, st := range keep.Rest(p) {
			current[st.Name] = Status(st)
		}
		return current, Overview{}, nil
	}
	if err != nil {
		return nil, Overview{}, err
	}
	defer client.Close()
	s, err := client.Status(ctx)
	if errors.Is(err, ErrNoKeeper) || errors.Is(err, ErrLost) { // it was just ending
		if err = AwaitEnd(p); err == nil {
			return Look(ctx, p)
		}
	}
	for _, st := range s.Services {
		current[st.Name] = st
	}
	return current, s.Overview, err
}
