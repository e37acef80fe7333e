package data

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
)

func newConsole(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "console SERVICE", Example: "  neighbour console ledger", Short: "Open the interactive client of a server, logged in",
		Long: `Console opens the interactive client of a running server, logged in. For a
program it is a shell in its folder, with its environment. A server whose kind
has no client of its own gets a line to its port: what is typed is sent.`,
		Args: command.Takes(cobra.ExactArgs(1)), ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, current, err := running(a, cmd, names[0])
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
					return command.Misuse(fmt.Errorf("a service of kind %s has no console", s.Kind))
				}
				return talk(cmd.Context(), "127.0.0.1:"+strconv.Itoa(in.Port), os.Stdin, a.Raw, a.Err)
			}
			argv, err := c.Console(in)
			if err != nil {
				return err
			}
			env, err := command.EnvironmentWith(cmd.Context(), p, s.Name)
			if err != nil {
				return err
			}
			return command.Replace(argv, env, p.WorkingDir(s))
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

// running opens the project and asks how a service is.
func running(a *command.App, cmd *cobra.Command, name string) (*project.Project, api.Status, error) {
	p, err := a.Project()
	if err != nil {
		return nil, api.Status{}, err
	}
	if err := p.Check(name); err != nil {
		return nil, api.Status{}, err
	}
	current, _, err := api.Look(cmd.Context(), p)
	return p, current[name], err
}
