package data

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	emulator "neighbour/internal/emulator/functions"
	"neighbour/internal/kinds/functions"
)

func newCall(a *command.App) *cobra.Command {
	var service, method string
	cmd := &cobra.Command{
		Use: "call FUNCTION[/PATH] [JSON]", Short: "Call a function",
		Long: `Call calls a function of a service of kind functions and prints its answer. What is
written behind its name is the body of the request; - reads it from standard input.
It is 1 if the function answers with an error.`,
		Example: "  neighbour call greet '{\"name\": \"Ines\"}'\n  neighbour call report/2026?short=yes --method GET\n  neighbour call thumbnail - < drill.jpg > small.jpg",
		Args:    command.Takes(cobra.RangeArgs(1, 2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			name, err := onlyOf(a, p, "functions", service)
			if err != nil {
				return err
			}
			body := ""
			if len(args) == 2 {
				if body = args[1]; body == "-" {
					b, err := io.ReadAll(os.Stdin)
					if err != nil {
						return err
					}
					body = string(b)
				}
			}
			return callFunction(cmd.Context(), a, p, name, method, args[0], body)
		},
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			p, err := a.Project()
			if err != nil || len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			var out []string
			for _, s := range p.Services {
				if set, ok := s.Settings.(*functions.Settings); ok {
					all, _, _ := emulator.Find(p.WorkingDir(s))
					for _, f := range all {
						out = append(out, f.Name)
					}
					for name := range set.Functions {
						out = append(out, name)
					}
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
	}
	cmd.Flags().StringVar(&service, "service", "", "the `service`, if there are several of kind functions")
	cmd.Flags().StringVar(&method, "method", http.MethodPost, "the request's `method`")
	return cmd
}

// onlyOf returns the service of a kind that is meant: the one of a name, or the only one.
func onlyOf(a *command.App, p *project.Project, kind, name string) (string, error) {
	var all []string
	for _, s := range p.Services {
		if s.Kind == kind {
			all = append(all, s.Name)
		}
	}
	if name != "" {
		if err := p.Check(name); err != nil {
			return "", err
		}
		if p.Service(name).Kind != kind {
			return "", fmt.Errorf("%s is no service of kind %s", name, kind)
		}
		return name, nil
	}
	switch len(all) {
	case 0:
		return "", fmt.Errorf("the project has no service of kind %s; declare one with kind = %q", kind, kind)
	case 1:
		return all[0], nil
	}
	return "", command.Misuse(fmt.Errorf("there are several services of kind %s; name one with --service: %s", kind, words.Or(all)))
}

// addressOf returns the address of a service that is ready.
func addressOf(ctx context.Context, p *project.Project, name string) (string, error) {
	current, _, err := api.Look(ctx, p)
	if err != nil {
		return "", err
	}
	st := current[name]
	if st.State != supervise.Ready && st.State != supervise.Ailing {
		return "", fmt.Errorf("%s is %s; start it with: neighbour start %s", name, st.State, name)
	}
	for _, f := range st.Facts {
		if f.Name == "url" {
			return f.Value, nil
		}
	}
	return "", fmt.Errorf("%s has no address", name)
}

// errAnswer says that a function answered with an error, which was printed.
var errAnswer = errors.New("the function answered with an error")

func callFunction(ctx context.Context, a *command.App, p *project.Project, service, method, name, body string) error {
	base, err := addressOf(ctx, p, service)
	if err != nil {
		return err
	}
	name, path := strings.TrimPrefix(name, "/"), ""
	if i := strings.IndexAny(name, "/?"); i >= 0 {
		name, path = name[:i], name[i:]
	}
	r, err := functions.NewCall(ctx, base, strings.ToUpper(method), name, path, body)
	if err != nil {
		return command.Misuse(err)
	}
	began := time.Now()
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return fmt.Errorf("%s does not answer: %s", service, probe.Explain(err))
	}
	defer resp.Body.Close()
	out := io.Writer(a.Raw)
	if resp.StatusCode >= 400 {
		out = a.Err
	}
	w := &lastByte{w: out}
	if _, err := io.Copy(w, resp.Body); err != nil {
		return fmt.Errorf("the answer broke off: %s", probe.Explain(err))
	}
	if w.last != '\n' && w.last != 0 && command.Terminal(a.Raw) {
		fmt.Fprintln(out)
	}
	fmt.Fprintf(a.Err, "%s after %s\n", resp.Status, words.Millis(float64(time.Since(began).Microseconds())/1000))
	if resp.StatusCode >= 400 {
		return errAnswer
	}
	return nil
}

// lastByte remembers the last byte that was written.
type lastByte struct {
	w    io.Writer
	last byte
}

func (l *lastByte) Write(b []byte) (int, error) {
	if len(b) > 0 {
		l.last = b[len(b)-1]
	}
	return l.w.Write(b)
}
