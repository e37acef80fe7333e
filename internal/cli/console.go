package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/core/keep"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
)

func (a *app) console() *cobra.Command {
	return &cobra.Command{
		Use: "console SERVICE", Short: "Open the interactive client of a server, logged in",
		Args: words(cobra.ExactArgs(1)), ValidArgsFunction: a.services,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, current, err := a.running(cmd, names[0])
			if err != nil {
				return err
			}
			s := p.Service(names[0])
			c, ok := p.Kind(s).(kind.Consoler)
			if !ok {
				return usageError{fmt.Errorf("a service of kind %s has no console", s.Kind)}
			}
			if current.State != keep.Ready {
				return fmt.Errorf("%s is %s; start it with: neighbour start %s", s.Name, current.State, s.Name)
			}
			in, err := p.Instance(s)
			if err != nil {
				return err
			}
			argv, err := c.Console(in)
			if err != nil {
				return err
			}
			return replace(argv, os.Environ(), ".")
		},
	}
}

func (a *app) run() *cobra.Command {
	var with string
	cmd := &cobra.Command{
		Use: "run --with SERVICE -- COMMAND...", Short: "Run a command with the environment that a service gets",
		Long: `Run runs a command in the folder and with the environment of a service. Its exit
code is the command's.`,
		Args: words(cobra.MinimumNArgs(1)),
		RunE: func(_ *cobra.Command, argv []string) error {
			if with == "" {
				return usageError{errors.New("say with which service's environment: neighbour run --with SERVICE -- COMMAND")}
			}
			p, err := a.project()
			if err != nil {
				return err
			}
			if err := p.Check(with); err != nil {
				return err
			}
			s := p.Service(with)
			vars, err := p.Variables(s)
			if err != nil {
				return err
			}
			env := os.Environ()
			for _, v := range vars {
				env = append(env, v.Name+"="+v.Value)
			}
			return replace(argv, env, p.WorkingDir(s))
		},
	}
	cmd.Flags().StringVar(&with, "with", "", "the `service`")
	_ = cmd.RegisterFlagCompletionFunc("with", a.services)
	return cmd
}

// running opens the project and asks how a service is.
func (a *app) running(cmd *cobra.Command, name string) (*project.Project, api.Status, error) {
	p, err := a.project()
	if err != nil {
		return nil, api.Status{}, err
	}
	if err := p.Check(name); err != nil {
		return nil, api.Status{}, err
	}
	current, _, err := a.look(cmd.Context(), p)
	return p, current[name], err
}

// replace makes this process the command, so that the terminal, its signals
// and the exit code are the command's own.
func replace(argv, env []string, dir string) error {
	if err := os.Chdir(dir); err != nil {
		return err
	}
	path, err := exec.LookPath(argv[0])
	if err != nil && !errors.Is(err, exec.ErrDot) {
		return fmt.Errorf("there is no command %s", argv[0])
	}
	return syscall.Exec(path, argv, env)
}
