package machine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/trust"
)

func newPurge(a *command.App) *cobra.Command {
	var all, yes bool
	cmd := &cobra.Command{
		Use: "purge", Short: "Delete everything that was ever made for the project", Args: command.Takes(cobra.NoArgs),
		Long: `Purge stops the project and deletes everything that was ever made for it: data, snapshots,
fresh copies, logs, history, and what is remembered elsewhere. It lists all of it with
sizes, and asks. The declaration and the project's own files stay, and so does
neighbour.local.toml unless you say otherwise; lines of Neighbour's own in an env file go.

With --all it does so for all projects of yours, and deletes what there is for you as a
whole: the certificate authority, which it takes away from all lists, ports, the list of
projects. Nothing is left then but the program.`,
		Example: "  neighbour purge\n  neighbour purge --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if all {
				return purgeAll(cmd.Context(), a, yes)
			}
			p, err := a.Project()
			var none *declare.MissingError
			if left := project.Undeclared(a.Dir); left != nil && errors.As(err, &none) {
				err = &command.UndeclaredError{Left: left, Err: err} // whether it runs or not
			}
			if err != nil {
				if p, err = a.WithoutDeclaration(err); err != nil {
					return err
				}
				fmt.Fprintln(a.Err, "the declaration is gone or has errors now; data that it keeps outside of "+p.StateFolder()+" is not known, and stays")
			}
			if p.Copy != "" {
				return command.Misuse(fmt.Errorf("%s is a copy, of which nothing stays: neighbour --copy %s stop", p.Copy, p.Copy))
			}
			if !sayLeavings(a, p) {
				fmt.Fprintln(a.Err, "nothing was made for it")
				return nil
			}
			if !yes {
				if ok, err := a.Confirm("Stop " + nameOf(p) + ", and delete all of this?"); err != nil || !ok {
					return err
				}
			}
			local := filepath.Join(p.Dir, declare.LocalFileName)
			if !yes && fileExists(local) {
				ok, err := a.AskYes(fmt.Sprintf("%s has what is declared for this machine alone. Delete it, too?", display.Homely(local)))
				if err != nil {
					return err
				}
				if ok {
					defer os.Remove(local) // once the project is stopped as it was declared
				}
			}
			return purgeOne(cmd.Context(), a, p)
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "all projects of yours, and what there is for you as a whole")
	cmd.Flags().BoolVar(&yes, "yes", false, "don't ask")
	return cmd
}

func nameOf(p *project.Project) string {
	if p.Name != "" {
		return p.Name
	}
	return filepath.Base(p.Dir)
}

// sayLeavings lists what was made for a project, and reports whether that is anything.
func sayLeavings(a *command.App, p *project.Project) bool {
	left := p.Leavings()
	if len(left) == 0 {
		return false
	}
	rows := [][]string{{nameOf(p), "size", "where"}}
	for _, l := range left {
		where := display.Homely(l.Paths[0])
		if n := len(l.Paths) - 1; n > 0 {
			where += fmt.Sprintf(" and %d more", n)
		}
		rows = append(rows, []string{l.What, words.Bytes(l.Bytes), where})
	}
	_ = command.PrintTable(a.Out, rows, 1)
	a.Out.Flush()
	return true
}

// purgeOne stops a project with its copies, and deletes all that was made for it.
func purgeOne(ctx context.Context, a *command.App, p *project.Project) error {
	if _, err := api.StopProject(ctx, p); err != nil {
		return err
	}
	for _, dir := range p.Copies() {
		c, err := project.Open(dir)
		if err != nil {
			c = project.At(dir) // it can be stopped without
		}
		if _, err := api.StopProject(ctx, c); err != nil {
			return fmt.Errorf("the copy %s: %w", c.Copy, err)
		}
		if err := c.RemoveCopy(); err != nil {
			return err
		}
	}
	a.ClearHosts(p)
	if err := p.Purge(); err != nil {
		return fmt.Errorf("%s is not purged as a whole; once that is set right, do it again: %w", nameOf(p), err)
	}
	but := ""
	for _, name := range []string{declare.FileName, declare.LocalFileName} {
		if file := filepath.Join(p.Dir, name); fileExists(file) {
			but += map[bool]string{true: " but ", false: " and "}[but == ""] + display.Homely(file)
		}
	}
	fmt.Fprintf(a.Out, "%s: nothing of Neighbour is left of it%s\n", nameOf(p), but)
	return nil
}

// gateEnd is how long the gate may take to end after the last project.
const gateEnd = 15 * time.Second

func purgeAll(ctx context.Context, a *command.App, yes bool) error {
	var all []*project.Project
	for _, dir := range project.Enlisted() {
		p, err := project.Open(dir)
		if err != nil {
			p = project.At(dir)
			fmt.Fprintf(a.Err, "%s: %v\n", display.Homely(dir), err)
		}
		all = append(all, p)
		sayLeavings(a, p)
	}
	fmt.Fprintf(a.Out, "for you as a whole: %s in %s\n", words.Bytes(project.Size(project.UserDir())), display.Homely(project.UserDir()))
	if !yes {
		if ok, err := a.Confirm(fmt.Sprintf("Stop %s, and delete all of this?", words.Count(len(all), "project"))); err != nil || !ok {
			return err
		}
	}
	var failed error
	for _, p := range all {
		if err := purgeOne(ctx, a, p); err != nil {
			failed = errors.Join(failed, err)
		}
	}
	for _, dir := range project.EverEnlisted() { // those whose folder is gone
		failed = errors.Join(failed, project.At(dir).Purge())
	}
	if failed != nil {
		return failed
	}
	if _, err := os.Stat(project.AuthorityDir()); err == nil {
		if _, au, err := ownAuthority(); err == nil && slices.ContainsFunc(trust.Here().Stores(ctx, au), func(s trust.Store) bool { return s.Trusted || s.Earlier }) {
			if err := changeTrust(ctx, a, nil, true, yes); err != nil {
				return err
			}
		}
	}
	gate := control.NewClient()
	defer gate.Close()
	for deadline := time.Now().Add(gateEnd); ; time.Sleep(100 * time.Millisecond) {
		if _, err := gate.State(ctx); errors.Is(err, control.ErrNoGate) {
			break
		}
		if time.Now().After(deadline) {
			return errors.New("the gate does not end, since another project uses it; neighbour gate says which")
		}
	}
	if err := project.PurgeUser(); err != nil {
		return err
	}
	if _, err := os.Stat(lowPortsFile); err == nil { // which is all users'
		fmt.Fprintf(a.Out, "%s stays, by which all users of this machine may listen on the ports from 80 on; take that back with: neighbour gate low-ports --remove\n", lowPortsFile)
	}
	fmt.Fprintln(a.Out, strings.TrimSpace("nothing of Neighbour is left but the program "+display.Clean(os.Args[0])))
	return nil
}

func fileExists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
