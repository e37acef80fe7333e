package machine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
)

func newProjects(a *command.App) *cobra.Command {
	var asJSON, forget bool
	cmd := &cobra.Command{
		Use: "projects", Short: "All projects of yours on this machine", Args: command.Takes(cobra.NoArgs),
		Long: `Projects lists the projects that you have started on this machine: how their services
are, their ports, how much memory and room they take, and when each was used last. It
says which of them want the same port, and which nobody has used for long. On the full
screen the same is the view behind the key 0, where they are started and stopped.`,
		Example: "  neighbour projects\n  neighbour projects --json\n  neighbour projects --forget",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all := api.ListProjects(cmd.Context(), true)
			if forget {
				return forgetProjects(a, all.Projects)
			}
			if asJSON {
				return a.JSON(all)
			}
			return printProjects(a, all)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print all that is known as JSON")
	cmd.Flags().BoolVar(&forget, "forget", false, "take those out of the list whose folder is gone")
	return cmd
}

func forgetProjects(a *command.App, all []api.Listed) error {
	n := 0
	for _, l := range all {
		if l.Gone {
			for _, left := range l.Left {
				fmt.Fprintf(a.Err, "%s: %s in %s\n", left.What, words.Bytes(left.Bytes), display.Homely(left.Paths[0]))
			}
			if err := api.ForgetProject(l.Dir); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "forgotten: %s\n", display.Homely(l.Dir))
			n++
		}
	}
	if n == 0 {
		fmt.Fprintln(a.Out, "no project's folder is gone")
	}
	return nil
}

func printProjects(a *command.App, all api.ListedProjects) error {
	if len(all.Projects) == 0 {
		fmt.Fprintln(a.Err, "you have started no project on this machine yet")
		return nil
	}
	rows := [][]string{{"", "project", "services", "folder", "ports", "memory", "disk", "used"}}
	for i := range all.Projects {
		rows = append(rows, projectRow(&all.Projects[i]))
	}
	if err := command.PrintTable(a.Out, rows, 5, 6); err != nil {
		return err
	}
	a.Out.Flush()
	fmt.Fprintln(a.Err, strings.Join(all.Says, "; "))
	return nil
}

func projectRow(l *api.Listed) []string {
	sign, states, memory, disk, last := "○", "", "–", "–", ""
	ready := 0
	for _, s := range l.Services {
		if s.Shown().Well() {
			ready++
		}
	}
	switch n := len(l.Services); {
	case l.Running():
		sign, states = "●", fmt.Sprintf("%d of %d ready", ready, n)
		for _, s := range l.Services { // the worst of them
			switch s.Shown() {
			case supervise.Failed:
				sign = "✖"
			case supervise.Ailing, supervise.Held:
				if sign == "●" {
					sign = "▲"
				}
			}
		}
	case n > 0:
		states = words.Count(n, "service")
	}
	if l.Memory > 0 {
		memory = words.Bytes(l.Memory)
	}
	if l.Disk >= 0 {
		disk = words.Bytes(uint64(l.Disk))
	}
	switch {
	case l.Gone:
		sign, last = "▲", "its folder is gone; neighbour projects --forget"
	case l.Problem != "":
		sign, last = "▲", display.Plain(l.Problem)
	default:
		last = l.When(time.Now())
	}
	return []string{sign, l.Name, states, display.Homely(l.Dir), display.Truncate(l.Where(), 32), memory, disk, last}
}

func newRest(a *command.App) *cobra.Command {
	var asJSON, yes bool
	cmd := &cobra.Command{
		Use: "rest", Short: "Stop everything of yours, in all projects", Args: command.Takes(cobra.NoArgs), Example: "  neighbour rest",
		Long: `Rest stops the services of all projects of yours on this machine, in the order of each,
and ends their keepers. Data stays. On a terminal it says first what it will stop, in which
projects, and asks.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !yes && !asJSON && command.Terminal(os.Stdin) {
				running := sayRunning(cmd.Context(), a)
				if running == 0 {
					fmt.Fprintln(a.Out, "nothing was running")
					return nil
				}
				if ok, err := a.Confirm("Stop all of this?"); err != nil || !ok {
					return err
				}
			}
			return restAll(cmd.Context(), a, asJSON)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "don't ask")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print what was stopped, by project, as JSON")
	return cmd
}

// sayRunning lists what runs in which projects, and returns how many services that are.
func sayRunning(ctx context.Context, a *command.App) int {
	n := 0
	rows := [][]string{{"project", "where", "runs"}}
	for _, l := range api.Projects(ctx, false) {
		var names []string
		for _, s := range l.Services {
			if s.State.Running() {
				names = append(names, s.Name)
			}
		}
		if len(names) > 0 {
			n += len(names)
			rows = append(rows, []string{l.Name, display.Homely(l.Dir), strings.Join(names, ", ")})
		}
	}
	if n > 0 {
		_ = command.PrintTable(a.Out, rows)
		a.Out.Flush()
	}
	return n
}

// rested is what became of a project.
type rested struct {
	Name    string   `json:"name"`
	Dir     string   `json:"dir"`
	Stopped []string `json:"stopped"`
	Problem string   `json:"problem,omitempty"`
}

func restAll(ctx context.Context, a *command.App, asJSON bool) error {
	var all []rested
	for _, l := range api.Projects(ctx, false) {
		if !l.Gone {
			all = append(all, rested{Name: l.Name, Dir: l.Dir, Stopped: []string{}})
		}
	}
	projects := make([]*project.Project, len(all))
	var wait sync.WaitGroup
	for i := range all {
		wait.Go(func() {
			p := project.At(all[i].Dir)
			if opened, err := project.Open(all[i].Dir); err == nil {
				p = opened
			}
			d, err := api.StopProject(ctx, p)
			if err != nil {
				all[i].Problem = err.Error()
			}
			all[i].Stopped = append(all[i].Stopped, d.Services...)
			projects[i] = p
		})
	}
	wait.Wait()
	for i, p := range projects {
		if len(all[i].Stopped) > 0 && p.Declaration != nil {
			a.ClearHosts(p)
		}
	}
	all = slices.DeleteFunc(all, func(r rested) bool { return len(r.Stopped) == 0 && r.Problem == "" })
	failed := slices.ContainsFunc(all, func(r rested) bool { return r.Problem != "" })
	if asJSON {
		if err := a.JSON(append([]rested{}, all...)); err != nil {
			return err
		}
	} else {
		for _, r := range all {
			if len(r.Stopped) > 0 {
				fmt.Fprintf(a.Out, "%s: stopped %s\n", r.Name, strings.Join(r.Stopped, ", "))
			}
			if r.Problem != "" {
				fmt.Fprintf(a.Err, "%s: %s\n", r.Name, r.Problem)
			}
		}
		if len(all) == 0 {
			fmt.Fprintln(a.Out, "nothing was running")
		}
	}
	if failed {
		return errPartly
	}
	return nil
}

// errPartly says that some projects could not be stopped, which was told of each.
var errPartly = errors.New("not everything could be stopped")
