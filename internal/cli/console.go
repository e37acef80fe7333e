package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
)

func (a *app) console() *cobra.Command {
	return &cobra.Command{
		Use: "console SERVICE", Example: "  neighbour console ledger", Short: "Open the interactive client of a server, logged in",
		Long: `Console opens the interactive client of a running server, logged in. For a
program it is a shell in its folder, with its environment. A server whose kind
has no client of its own gets a line to its port: what is typed is sent.`,
		Args: takes(cobra.ExactArgs(1)), ValidArgsFunction: a.services,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, current, err := a.running(cmd, names[0])
			if err != nil {
				return err
			}
			s := p.Service(names[0])
			in, err := p.Instance(s)
			if err != nil {
				return err
			}
			k := p.Kind(s)
			if in.Program, err = k.Find(in); err != nil {
				return err
			}
			c, ok := k.(kind.Consoler)
			if s.Kind != "program" && s.Kind != "php" && current.State != supervise.Ready {
				return fmt.Errorf("%s is %s; start it with: neighbour start %s", s.Name, current.State, s.Name)
			}
			if !ok {
				if in.Port == 0 {
					return usageError{fmt.Errorf("a service of kind %s has no console", s.Kind)}
				}
				return talk(cmd.Context(), "127.0.0.1:"+strconv.Itoa(in.Port), os.Stdin, a.raw, a.err)
			}
			argv, err := c.Console(in)
			if err != nil {
				return err
			}
			env, err := environmentWith(cmd.Context(), p, s.Name)
			if err != nil {
				return err
			}
			return replace(argv, env, p.WorkingDir(s))
		},
	}
}

// talk sends lines to a server and prints what it answers, until one of them
// has nothing more to say.
func talk(ctx context.Context, address string, in io.Reader, out, notes io.Writer) error {
	conn, err := new(net.Dialer).DialContext(ctx, "tcp", address)
	if err != nil {
		return err
	}
	defer conn.Close()
	fmt.Fprintf(notes, "a line to %s: what you type is sent, control+D ends it\n", address)
	answered := make(chan error, 1)
	go func() {
		_, err := io.Copy(out, conn)
		answered <- err
	}()
	typed := make(chan error, 1)
	go func() {
		lines := bufio.NewScanner(in)
		for lines.Scan() {
			// Nearly every protocol of lines ends them so.
			if _, err := io.WriteString(conn, lines.Text()+"\r\n"); err != nil {
				typed <- err
				return
			}
		}
		typed <- lines.Err()
	}()
	select {
	case err := <-answered:
		fmt.Fprintln(notes, "the server has ended it")
		return err
	case err = <-typed:
	case <-ctx.Done():
		return nil
	}
	// What was asked last may still be answered.
	_ = conn.(*net.TCPConn).CloseWrite()
	select {
	case <-answered:
	case <-time.After(time.Second):
	}
	return err
}

// environmentWith returns what a command gets that is run with a service: the
// user's own environment, and what the service gets or what leads to it.
func environmentWith(ctx context.Context, p *project.Project, service string) ([]string, error) {
	vars, err := api.Ask(ctx, p).Environment(ctx, service, false)
	if err != nil {
		return nil, err
	}
	return project.Merge(os.Environ(), vars), nil
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
	current, _, err := api.Look(cmd.Context(), p)
	return p, current[name], err
}

// replace makes this process the command, so that the terminal, its signals
// and the exit code are the command's own.
func replace(argv, env []string, dir string) error {
	if err := os.Chdir(dir); err != nil {
		return err
	}
	// The command is looked for where it will look itself.
	for _, v := range env {
		if path, ok := strings.CutPrefix(v, "PATH="); ok {
			if err := os.Setenv("PATH", path); err != nil {
				return err
			}
		}
	}
	path, err := exec.LookPath(argv[0])
	if err != nil && !errors.Is(err, exec.ErrDot) {
		return fmt.Errorf("there is no command %s", argv[0])
	}
	return syscall.Exec(path, argv, env)
}
