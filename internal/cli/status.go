package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
	"neighbour/internal/signs"
)

func (a *app) json(v any) error {
	e := json.NewEncoder(a.raw)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// withoutDeclaration returns the project of -C although its declaration has
// problems, for what can be done without it.
func (a *app) withoutDeclaration(problem error) (*project.Project, error) {
	var problems declare.Problems
	var profile *declare.UnknownProfileError
	var runs *undeclaredError
	if errors.As(problem, &runs) {
		return runs.project, nil
	}
	if !errors.As(problem, &problems) && !errors.As(problem, &profile) {
		return nil, problem
	}
	return project.Nearest(a.dir)
}

func (a *app) status() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "status", Example: "  neighbour status\n  neighbour status --json", Short: "Show how the services are", Args: takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.project()
			if err != nil {
				return err
			}
			current, whole, err := api.Look(cmd.Context(), p)
			if err != nil {
				return err
			}
			if asJSON {
				return a.printStatus(p, current, whole.PID)
			}
			defer a.sayOverview(whole)
			return a.statusTable(current)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON, with the facts as they are")
	return cmd
}

// sayOverview tells what the user should know of the project as a whole: what
// the keeper warns of, and that the declaration was changed.
func (a *app) sayOverview(s api.Overview) {
	if s.Warning != "" {
		fmt.Fprintln(a.err, s.Warning)
	}
	if s.Changed && s.Mistake == "" {
		fmt.Fprintf(a.err, "%s was changed; neighbour apply uses it for what runs\n", declare.FileName)
	}
}

// jsonStatus is the stable shape of status --json.
type jsonStatus struct {
	Project  string        `json:"project"`
	Keeper   *jsonKeeper   `json:"keeper"` // null without one
	Services []jsonService `json:"services"`
}

type jsonKeeper struct {
	PID int `json:"pid"`
}

type jsonService struct {
	Name     string              `json:"name"`
	Kind     string              `json:"kind"`
	State    string              `json:"state"`
	Reason   string              `json:"reason"`
	Needs    []string            `json:"needs"`
	Step     int                 `json:"step"`
	Port     int                 `json:"port"`
	PID      int                 `json:"pid"`
	Version  string              `json:"version"`
	ReadyMS  float64             `json:"ready_ms"`
	Restarts int                 `json:"restarts"`
	Exposed  string              `json:"exposed,omitempty"`
	Held     bool                `json:"held,omitempty"`
	Runtimes []supervise.Runtime `json:"runtimes,omitempty"`
	Done     []supervise.Step    `json:"done,omitempty"`
	Facts    map[string]string   `json:"facts"`
}

func (a *app) printStatus(p *project.Project, current map[string]api.Status, pid int) error {
	out := jsonStatus{Project: p.Name, Services: []jsonService{}}
	if pid != 0 {
		out.Keeper = &jsonKeeper{pid}
	}
	for _, st := range byStep(current) {
		facts := map[string]string{}
		for _, f := range st.Facts {
			facts[f.Name] = f.Value
		}
		state := string(st.State)
		if st.Held { // its process is ready, and what needs it waits
			state = "held"
		}
		out.Services = append(out.Services, jsonService{
			Name: st.Name, Kind: st.Kind, State: state, Reason: st.Reason, Needs: st.Needs, Step: st.Step,
			Port: st.Port, PID: st.PID, Version: st.Version, ReadyMS: st.ReadyMS, Restarts: st.Restarts, Exposed: st.Exposed, Held: st.Held, Runtimes: st.Runtimes, Done: st.Done, Facts: facts,
		})
	}
	return a.json(out)
}

func inOrder(p *project.Project) []string { return p.Plan.WithNeeds(p.Names()...) }

// byStep returns the services as they run, which may be others than the file
// declares by now, by step and name.
func byStep(current map[string]api.Status) []api.Status {
	return slices.SortedFunc(maps.Values(current), func(a, b api.Status) int {
		return cmp.Or(a.Step-b.Step, strings.Compare(a.Name, b.Name))
	})
}

func (a *app) statusTable(current map[string]api.Status) error {
	rows := [][]string{{"", "service", "state", "kind", "port", "pid", ""}}
	for _, st := range byStep(current) {
		sentence := display.Clean(st.Sentence(time.Now()))
		rows = append(rows, []string{signs.State(st.Shown()), st.Name, string(st.Shown()), strings.TrimSpace(st.Kind + " " + st.Version), number(st.Port), number(st.PID), sentence})
	}
	return printTable(a.out, rows)
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func (a *app) env() *cobra.Command {
	var format string
	var why, asJSON bool
	cmd := &cobra.Command{
		Use: "env SERVICE", Short: "Print the environment variables that a service gets",
		Long: `Env prints the variables that Neighbour sets for a service: those declared, with
every reference resolved. A program gets the rest of the environment as it is.
Of a server it prints what leads to it: its facts, as LEDGER_URL for those of
the service ledger, and the variables that its own clients read. Passwords are
printed as they are.`,
		Example: "  neighbour env api\n  neighbour env api --why\n  eval \"$(neighbour env ledger --format shell)\"",
		Args:    takes(cobra.ExactArgs(1)), ValidArgsFunction: a.services,
		RunE: func(cmd *cobra.Command, names []string) error {
			if asJSON {
				format = "json"
			}
			if format != "dotenv" && format != "shell" && format != "json" {
				return usageError{fmt.Errorf("there is no format %q; write dotenv, shell or json", format)}
			}
			p, err := a.project()
			if err != nil {
				return err
			}
			if err := p.Check(names...); err != nil {
				return err
			}
			answers := api.Ask(cmd.Context(), p)
			vars, err := answers.Environment(cmd.Context(), names[0], why)
			if err != nil {
				return err
			}
			if !p.Kind(p.Service(names[0])).Info().InheritEnv { // a shell that takes these over has its own
				vars = slices.DeleteFunc(vars, func(v project.Explained) bool { return v.Name == "PATH" })
			}
			if why && format != "json" {
				if err := a.printOutdated(cmd.Context(), answers, names[0]); err != nil {
					return err
				}
			}
			return a.printEnv(vars, format, why)
		},
	}
	cmd.Flags().StringVar(&format, "format", "dotenv", "dotenv, shell or json")
	cmd.Flags().BoolVar(&asJSON, "json", false, "the same as --format json")
	cmd.Flags().BoolVar(&why, "why", false, "say where each value comes from")
	_ = cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"dotenv", "shell", "json"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// printOutdated says in comments which variables a service that runs was started with that would be
// others now.
func (a *app) printOutdated(ctx context.Context, answers api.Questions, service string) error {
	all, err := answers.Checks(ctx)
	if err != nil {
		return err
	}
	for _, f := range all {
		if f.ID == check.Outdated+"/"+service || f.ID == check.Inherited+"/"+service {
			fmt.Fprintf(a.raw, "# %s; %s\n", display.Plain(f.What), f.Remedy)
		}
	}
	return nil
}

func (a *app) printEnv(vars []project.Explained, format string, why bool) error {
	if format == "json" {
		if why {
			return a.json(append([]project.Explained{}, vars...))
		}
		values := map[string]string{}
		for _, v := range vars {
			values[v.Name] = v.Value
		}
		return a.json(values)
	}
	for _, v := range vars {
		if why {
			fmt.Fprintf(a.raw, "# %s\n", display.Plain(v.Why()))
			for _, h := range v.Hides {
				fmt.Fprintf(a.raw, "# goes before %s\n", display.Plain(h.String()))
			}
		}
		if format == "shell" {
			fmt.Fprintf(a.raw, "export %s=%s\n", v.Name, wire.QuoteShell(v.Value))
		} else {
			text, everywhere := wire.QuoteDotenv(v.Value)
			fmt.Fprintf(a.raw, "%s=%s\n", v.Name, text)
			if !everywhere {
				fmt.Fprintf(a.err, "%s: not all readers of env files take this value alike; --format shell and json are exact\n", v.Name)
			}
		}
	}
	return nil
}
