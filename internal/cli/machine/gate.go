package machine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/route"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/hosts"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
	"neighbour/internal/gate/control"
	"neighbour/internal/signs"
)

func newGate(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "gate", Short: "Where the names of your running projects lead", Args: command.Takes(cobra.NoArgs),
		Long: `Gate lists the names by which your running projects are reached, and where each
leads. The gate is one process for all of them. It starts with the first project
that has a service which speaks HTTP, and ends with the last.`,
		Example: "  neighbour gate\n  neighbour gate hosts --write\n  neighbour gate low-ports",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c := control.NewClient()
			defer c.Close()
			state, err := c.State(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				out := json.NewEncoder(a.Out)
				out.SetIndent("", "  ")
				return out.Encode(state)
			}
			return printGate(a, state)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.AddCommand(newGateHosts(a), newLowPorts(a), newGatePhone(a))
	return cmd
}

func printGate(a *command.App, state control.State) error {
	fmt.Fprintf(a.Out, "ports %d (https) and %d (http), pid %d\n", state.Ports.HTTPS, state.Ports.HTTP, state.PID)
	for _, p := range state.Problems {
		fmt.Fprintln(a.Out, "▲ "+p)
	}
	for _, p := range state.Projects {
		lost := ""
		if p.LANURL != "" {
			defer fmt.Fprintf(a.Out, "\n▲ %s: whoever is in this machine's network can open its front at %s\n", p.Name, p.LANURL)
		}
		if p.Lost {
			lost = ", whose keeper does not answer"
		}
		fmt.Fprintf(a.Out, "\n%s in %s%s\n", p.Name, p.Dir, lost)
		rows := [][]string{{"", "name", "leads to", "", ""}}
		for _, n := range p.Names {
			address := n.URL
			if address == "" {
				address = n.Name
			}
			to, why := n.Service, n.Because
			if to == "" {
				to = n.Target
			}
			sign := "●"
			if n.State != "" {
				sign = signs.State(supervise.State(n.State))
			}
			if n.Taken != "" {
				sign, why = "▲", "it leads to "+n.Taken+", which had it first"
			}
			rows = append(rows, []string{sign, address, to, n.To, why})
		}
		if err := command.PrintTable(a.Out, rows); err != nil {
			return err
		}
	}
	return nil
}

func newGateHosts(a *command.App) *cobra.Command {
	var write, remove, yes bool
	var of string
	cmd := &cobra.Command{
		Use: "hosts", Short: "Have this machine's resolver know the project's names",
		Long: `Hosts shows which names of the project this machine does not lead to itself.
Browsers know names that end in .localhost; other programs ask the system. With
--write, lines for those names are added to ` + hosts.File + ` between marks that name the
project, after they were shown; --remove takes them out again.`,
		Example: "  neighbour gate hosts\n  neighbour gate hosts --write\n  neighbour gate hosts --remove",
		RunE: func(cmd *cobra.Command, args []string) error {
			if write && remove {
				return command.Misuse(errors.New("--write and --remove are two wishes; choose one"))
			}
			if of != "" {
				return writeHosts(of, args)
			}
			if err := cobra.NoArgs(cmd, args); err != nil {
				return command.Misuse(err)
			}
			p, err := a.Project()
			if err != nil {
				return err
			}
			return changeHosts(cmd.Context(), a, p, write, remove, yes)
		},
	}
	cmd.Flags().BoolVar(&write, "write", false, "add what is missing")
	cmd.Flags().StringVar(&of, "of", "", "write these names of a project of this `name`, without reading it")
	_ = cmd.Flags().MarkHidden("of") // for changeHosts
	cmd.Flags().BoolVar(&remove, "remove", false, "take the project's lines out")
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return cmd
}

func changeHosts(ctx context.Context, a *command.App, p *project.Project, write, remove, yes bool) error {
	b, err := os.ReadFile(hosts.File)
	if err != nil {
		return err
	}
	there := hosts.Names(string(b), p.Name)
	missing := hosts.Unresolved(ctx, p.GateHosts())
	var names []string
	switch {
	case remove && len(there) == 0:
		fmt.Fprintf(a.Out, "%s has no lines of %s\n", hosts.File, p.Name)
		return nil
	case remove:
		fmt.Fprintf(a.Out, "out of %s:\n\n", hosts.File)
		for _, l := range hosts.Lines(p.Name, there) {
			fmt.Fprintln(a.Out, "  "+l)
		}
	case len(missing) == 0:
		fmt.Fprintln(a.Out, "this machine leads all names of the project to itself")
		return nil
	default:
		names = append(append(names, there...), missing...)
		fmt.Fprintf(a.Out, "this machine does not know %s; lines for %s:\n\n", strings.Join(missing, ", "), hosts.File)
		for _, l := range hosts.Lines(p.Name, names) {
			fmt.Fprintln(a.Out, "  "+l)
		}
		if !write {
			fmt.Fprintln(a.Out, "\nadd them with: neighbour gate hosts --write")
			return nil
		}
	}
	a.Out.Flush()
	if !yes {
		if ok, err := a.Confirm("\nChange " + hosts.File + "?"); err != nil || !ok {
			return err
		}
	}
	if _, err := hosts.Write(hosts.File, p.Name, names); err == nil {
		fmt.Fprintln(a.Out, "done")
		return nil
	} else if !errors.Is(err, os.ErrPermission) {
		return err
	}
	// As the administrator nothing of the project is read, which belongs to another user.
	if err := a.RunAside(ctx, append([]string{"sudo", p.Self, "gate", "hosts", "--of", p.Name, "--"}, names...)); err != nil {
		return err
	}
	fmt.Fprintln(a.Out, "done")
	return nil
}

// writeHosts has the hosts file have these names of a project, and no others of it.
func writeHosts(project string, names []string) error {
	if strings.ContainsFunc(project, unicode.IsControl) {
		return command.Misuse(fmt.Errorf("%q is no name of a project", project))
	}
	for _, n := range names {
		if host, err := route.Host(n); err != nil || host != n {
			return command.Misuse(fmt.Errorf("%q is no name of a host", n))
		}
	}
	_, err := hosts.Write(hosts.File, project, names)
	return err
}

func newGatePhone(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "phone", Short: "The address for a phone in this machine's network, as a QR code", Args: command.Takes(cobra.NoArgs),
		Long: `Phone shows the address by which others in this machine's network open the front of
the project, if it is declared to be open to them:

  [gate]
  lan = true

Whoever is in the network can open it then, without TLS, and can do what its pages
let one do. Everything else stays on this machine.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if p.LANName() == "" {
				return errors.New("the project is not open to this machine's network; that is declared with lan = true under [gate]")
			}
			c := control.NewClient()
			defer c.Close()
			state, err := c.State(cmd.Context())
			if err != nil {
				return err
			}
			for _, other := range state.Projects {
				if other.Dir == p.Dir && other.LANURL != "" {
					return printPhone(a, other.LANURL)
				}
			}
			return errors.New("the gate has no address for it in a network; neighbour gate says why")
		},
	}
}

// colours reports whether the output is a terminal that is to have colours.
func colours(a *command.App) bool {
	return command.Terminal(a.Raw) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

func printPhone(a *command.App, address string) error {
	lines, err := display.QR(address)
	if err != nil {
		return err
	}
	for _, l := range lines {
		if colours(a) { // most scanners read no white code on black
			l = "\x1b[30;107m" + l + "\x1b[0m"
		}
		fmt.Fprintln(a.Raw, "  "+l)
	}
	fmt.Fprintf(a.Out, "\n%s\n▲ whoever is in this machine's network can open it\n", address)
	return nil
}

// The setting that lets every user have the ports from 80 on, for good.
const (
	lowPortsFile = "/etc/sysctl.d/50-neighbour.conf"
	lowPortsLine = "net.ipv4.ip_unprivileged_port_start=80"
	usualPorts   = "net.ipv4.ip_unprivileged_port_start=1024" // ip-sysctl.rst of the kernel
)

func newLowPorts(a *command.App) *cobra.Command {
	var yes, remove bool
	cmd := &cobra.Command{
		Use: "low-ports", Short: "Allow the gate the ports 443 and 80, for good", Args: command.Takes(cobra.NoArgs),
		Long: `Low-ports lets the users of this machine listen on the ports from 80 on, so that the
gate's addresses need no port. It says what it does and asks first. --remove takes
that back.`,
		Example: "  neighbour gate low-ports\n  neighbour gate low-ports --remove",
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			if remove {
				if _, err := os.Stat(lowPortsFile); errors.Is(err, fs.ErrNotExist) {
					fmt.Fprintf(a.Out, "there is no %s; nothing is to be taken back\n", lowPortsFile)
					return nil
				}
				steps := [][]string{{"rm", "-f", lowPortsFile}, {"sysctl", "-w", usualPorts}}
				if done, err := asAdministrator(ctx, a, steps, "Do this? Only the administrator may listen on ports below 1024 then.", yes); err != nil || !done {
					return err
				}
				return moveGate(ctx, a)
			}
			if port.Forbidden(443) != nil || port.Forbidden(80) != nil {
				steps := [][]string{{"sh", "-c", "echo " + lowPortsLine + " >" + lowPortsFile}, {"sysctl", "-p", lowPortsFile}}
				if done, err := asAdministrator(ctx, a, steps, "Do this? Every user of this machine may listen on ports from 80 on then.", yes); err != nil || !done {
					return err
				}
			}
			return chooseGatePorts(ctx, a)
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	cmd.Flags().BoolVar(&remove, "remove", false, "take it back")
	return cmd
}

// asAdministrator shows commands, asks, and has the administrator carry them out.
func asAdministrator(ctx context.Context, a *command.App, steps [][]string, question string, yes bool) (done bool, err error) {
	for i := range steps {
		if os.Getuid() != 0 {
			steps[i] = append([]string{"sudo"}, steps[i]...)
		}
		fmt.Fprintln(a.Out, "  "+wire.QuoteCommand(steps[i]))
	}
	a.Out.Flush()
	if !yes {
		if ok, err := a.Confirm("\n" + question); err != nil || !ok {
			return false, err
		}
	}
	for _, step := range steps {
		if err := a.RunAside(ctx, step); err != nil {
			return false, err
		}
	}
	return true, nil
}

// chooseGatePorts has the gate take the ports 443 and 80, if nobody else holds them.
func chooseGatePorts(ctx context.Context, a *command.App) error {
	c := control.NewClient()
	defer c.Close()
	state, err := c.State(ctx)
	switch {
	case errors.Is(err, control.ErrNoGate):
		return moveGate(ctx, a)
	case err != nil:
		return err
	case state.Ports.Low():
		fmt.Fprintln(a.Out, "the gate has the ports 443 and 80")
		return nil
	}
	for _, number := range []int{443, 80} {
		if h := port.FindHolder(number); h != nil {
			return fmt.Errorf("port %d is held by %s; end it, and do this again. Until then the gate has the ports %d and %d", number, h, state.Ports.HTTPS, state.Ports.HTTP)
		}
	}
	return moveGate(ctx, a)
}

// moveGate has the gate choose its ports anew.
func moveGate(ctx context.Context, a *command.App) error {
	c := control.NewClient()
	defer c.Close()
	state, err := c.State(ctx)
	if err != nil && !errors.Is(err, control.ErrNoGate) {
		return err
	}
	ports, err := project.ChooseGatePorts()
	if err != nil {
		return err
	}
	if state.PID == 0 {
		fmt.Fprintf(a.Out, "the gate will have the ports %d and %d\n", ports.HTTPS, ports.HTTP)
		return nil
	}
	// Its keepers start it again.
	id, err := proc.Identify(state.PID)
	if err != nil {
		return err
	}
	proc.Signal([]proc.ID{id}, "TERM")
	fmt.Fprintf(a.Out, "the gate has the ports %d and %d now; services learn their new addresses when they are started again: neighbour restart\n", ports.HTTPS, ports.HTTP)
	return nil
}
