package day

import (
	"fmt"
	"os"
	"os/exec"
	"syscall"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/project"
	"neighbour/internal/demo"
)

func newDemo(a *command.App) *cobra.Command {
	var trouble bool
	cmd := &cobra.Command{
		Use: "demo", Example: "  neighbour demo\n  neighbour demo --trouble", Short: "Show a running example that needs nothing else installed",
		Long: `Demo runs the Toolshed, a street's tool-lending library, in a temporary folder:
its programs and its mail server are in this program. Stopping it from the full
screen removes the folder again.`,
		Args: command.Takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			self, err := os.Executable()
			if err != nil {
				return err
			}
			if a.Dir, err = demo.Write(trouble, self); err != nil {
				return err
			}
			p, err := a.Project()
			if err != nil {
				return err
			}
			if trouble {
				if err := stranger(a, p); err != nil {
					return err
				}
			}
			client, err := api.Connect(cmd.Context(), p)
			if err != nil {
				return err
			}
			defer client.Close()
			if !command.FullScreen() {
				err := a.Follow(cmd.Context(), p, client, nil, false, func() (api.Done, error) { return client.Start(cmd.Context(), false) })
				fmt.Fprintf(a.Out, "The demo runs in %s; stop it with: %s -C %s stop\n", p.Dir, command.ProgramName(), p.Dir)
				return err
			}
			if _, err := client.Start(cmd.Context(), false); err != nil {
				return err
			}
			left, err := show(cmd.Context(), a, p, client)
			if err != nil {
				return err
			}
			if left.Next != "" {
				a.Dir = left.Next
				return Open(cmd.Context(), a)
			}
			if !left.Stopped {
				return nil
			}
			if err := api.AwaitEnd(p); err != nil {
				return err
			}
			if err := p.Purge(); err != nil {
				return fmt.Errorf("what the demo has made could not be removed: %w", err)
			}
			if err := demo.Remove(trouble); err != nil {
				return fmt.Errorf("the demo's folder could not be removed: %w", err)
			}
			fmt.Fprintf(a.Out, "%s: everything is stopped, and the demo's folder is removed\n", p.Name)
			return nil
		},
	}
	cmd.Flags().BoolVar(&trouble, "trouble", false, "show what goes wrong in a working day")
	return cmd
}

// stranger starts the process that holds a port of the trouble demo. It ends
// by itself after the demo.
func stranger(a *command.App, p *project.Project) error {
	if _, err := demo.HeldPort(p.Dir); err != nil {
		return err
	}
	dir := demo.StrangerDir(p.Dir)
	cmd := exec.Command(p.Self, demo.Command, "stranger")
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() { _ = cmd.Wait() }()
	return nil
}
