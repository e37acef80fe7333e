package look

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/display"
	"neighbour/internal/gate/control"
)

func newTraffic(a *command.App) *cobra.Command {
	var asJSON, routes bool
	var har, read string
	n := 20
	cmd := &cobra.Command{
		Use: "traffic [WORD…]", Short: "What passed the gate, and between services",
		Long: `Traffic lists the latest requests to the project's names, calls of functions, requests
to stubs, webhooks and events, the newest last. Words choose some: a part of the
method, the name, the path, the service or the status; event, call, stub or webhook;
5xx is a class of statuses, ">200ms" what took longer, ">1MB" what was larger, and
behind -- a word after a minus leaves out what it matches. An archive of --har has
headers, cookies and bodies in it as they are, secrets too.`,
		Example: "  neighbour traffic\n  neighbour traffic POST 5xx\n  neighbour traffic --routes\n  neighbour traffic --har monday.har",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			filter := strings.Join(args, " ")
			if _, err := traffic.ParseFilter(filter); err != nil {
				return command.Misuse(err)
			}
			c := control.NewClient()
			defer c.Close()
			ctx := cmd.Context()
			switch {
			case har != "" && read != "":
				return command.Misuse(errors.New("--har and --read are two wishes; choose one"))
			case read != "":
				f, err := os.Open(read)
				if err != nil {
					return err
				}
				defer f.Close()
				added, err := c.Import(ctx, p.Dir, f)
				if err != nil {
					return fmt.Errorf("%s: %w", read, err)
				}
				fmt.Fprintln(a.Out, words.Count(added, "request"), "read")
				return nil
			case har != "":
				b, err := c.HAR(ctx, p.Dir)
				if err != nil {
					return err
				}
				if har == "-" {
					_, err = a.Raw.Write(b)
					return err
				}
				if _, err := os.Lstat(har); !errors.Is(err, fs.ErrNotExist) {
					return fmt.Errorf("%s is there already; write another name", har)
				}
				if err := atomicfile.Write(har, b, 0o600); err != nil {
					return err
				}
				fmt.Fprintf(a.Err, "%s: %d KB, with passwords and cookies in it\n", har, (len(b)+1023)/1024)
				return nil
			}
			if routes {
				n = 5000
			}
			t, err := passed(ctx, p, c, filter, n)
			if err != nil {
				return err
			}
			switch {
			case routes && asJSON:
				return a.JSON(traffic.Routes(t.Exchanges))
			case routes:
				return printRoutes(a, traffic.Routes(t.Exchanges))
			case asJSON:
				return a.JSON(t.Exchanges)
			}
			return printTraffic(a, t)
		},
	}
	cmd.Flags().IntVarP(&n, "number", "n", n, "how `many`")
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().BoolVar(&routes, "routes", false, "summed up by route, the slowest first")
	cmd.Flags().StringVar(&har, "har", "", "write all that is remembered to a `file`, as an HTTP archive; - is standard output")
	cmd.Flags().StringVar(&read, "read", "", "read an HTTP archive from a `file`")
	return cmd
}

// passed lists what passed: as the keeper tells it, or, without one, the gate.
func passed(ctx context.Context, p *project.Project, gate *control.Client, filter string, n int) (control.Traffic, error) {
	keeper, err := api.Find(ctx, p)
	if errors.Is(err, api.ErrNoKeeper) {
		return gate.Traffic(ctx, p.Dir, filter, 0, n)
	}
	if err != nil {
		return control.Traffic{}, err
	}
	defer keeper.Close()
	return keeper.Traffic(ctx, filter, 0, n)
}

func printTraffic(a *command.App, t control.Traffic) error {
	if len(t.Exchanges) == 0 {
		fmt.Fprintln(a.Err, "no request has passed that matches")
		return nil
	}
	slices.Reverse(t.Exchanges)
	rows := [][]string{{"", "", "", "status", "took", "size", "service"}}
	for i := range t.Exchanges {
		e := &t.Exchanges[i]
		status := strconv.Itoa(e.Status)
		if e.Status == 0 {
			status = "–"
		}
		if e.State != "" && e.Status == 0 {
			status = e.State
		}
		rows = append(rows, []string{e.Began.Local().Format("15:04:05"), e.Kind(), display.Plain(e.Where(false)), status, traffic.Took(e.TookMS), words.Bytes(uint64(e.Received)), e.Service})
	}
	return command.PrintTable(a.Out, rows, 3, 4, 5)
}

func printRoutes(a *command.App, all []traffic.RouteSummary) error {
	rows := [][]string{{"", "route", "requests", "failed", "median", "slowest", "service"}}
	for _, r := range all {
		rows = append(rows, []string{r.Method, display.Plain(r.Host + r.Route), strconv.Itoa(r.Count), strconv.Itoa(r.Failed), traffic.Took(r.MedianMS), traffic.Took(r.MostMS), r.Service})
	}
	return command.PrintTable(a.Out, rows, 2, 3, 4, 5)
}
