package look

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/starts"
	"neighbour/internal/core/record/usage"
	"neighbour/internal/draw"
)

// drawings are what can be drawn.
var drawings = []string{"map", "start", "usage", "wiring"}

// wantedDrawing says what to draw, and where to.
type wantedDrawing struct {
	out, format    string
	dark           bool
	start, compare string
	period         time.Duration
}

func newDraw(a *command.App) *cobra.Command {
	var want wantedDrawing
	cmd := &cobra.Command{
		Use: "draw WHAT", Short: "Draw the map, a start, the usage or the wiring, as SVG or PDF",
		Long: `Draw writes a drawing for a README, a ticket or a slide:

  map     the services by step, and what they need; without a keeper, as declared
  start   how a start went, and what decided how long it took
  usage   what the services used over the last hour, or over --period
  wiring  which variables read which facts, without the values

The format is that of the file's name, or that of --format. With "-" as the file
the drawing goes to standard output.`,
		Example: "  neighbour draw map -o toolshed.svg\n  neighbour draw start --start 24 --compare 23 -o start.pdf\n  neighbour draw map --format svg -o -",
		Args:    command.Takes(cobra.ExactArgs(1)), ValidArgs: drawings,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(drawings, args[0]) {
				return command.Misuse(fmt.Errorf("there is no drawing %q; write %s", args[0], words.Or(drawings)))
			}
			for option, of := range map[string]string{"start": "start", "compare": "start", "period": "usage"} {
				if cmd.Flags().Changed(option) && args[0] != of {
					return command.Misuse(fmt.Errorf("--%s says nothing about a drawing of the %s; it is for: neighbour draw %s", option, args[0], of))
				}
			}
			if err := want.complete(args[0]); err != nil {
				return err
			}
			p, err := a.Project()
			if err != nil {
				return err
			}
			f, err := figure(a, cmd, p, args[0], want)
			if err != nil {
				return err
			}
			var b bytes.Buffer
			if err := f.Write(&b, want.format); err != nil {
				return err
			}
			if want.out == "-" {
				_, err := a.Raw.Write(b.Bytes())
				return err
			}
			if err := atomicfile.Write(want.out, b.Bytes(), 0o644); err != nil {
				var path *fs.PathError
				if errors.As(err, &path) { // it names a file beside the one that was asked for
					err = path.Err
				}
				return fmt.Errorf("%s can't be written: %w", want.out, err)
			}
			fmt.Fprintf(a.Err, "%s: %.0f × %.0f points, %d KB\n", want.out, f.Width, f.Height, (b.Len()+1023)/1024)
			return nil
		},
	}
	cmd.Flags().StringVarP(&want.out, "output", "o", "", "the `file`, or - for standard output")
	cmd.Flags().StringVar(&want.format, "format", "", "svg or pdf")
	cmd.Flags().BoolVar(&want.dark, "dark", false, "on a dark ground")
	cmd.Flags().StringVar(&want.start, "start", "0", "the `number` of the start to draw; 0 is the latest")
	cmd.Flags().StringVar(&want.compare, "compare", "", "the `number` of a start to draw beside it")
	cmd.Flags().DurationVar(&want.period, "period", time.Hour, "how long the `time` is that usage is drawn of, up to 24h")
	return cmd
}

// complete finds the format and the file where one is left out.
func (w *wantedDrawing) complete(what string) error {
	ending := strings.ToLower(strings.TrimPrefix(filepath.Ext(w.out), "."))
	if w.format == "" {
		w.format = ending
		if w.out == "" {
			w.format = draw.Formats[0]
		}
	}
	if w.format != ending && !slices.Contains(draw.Formats, w.format) {
		return command.Misuse(fmt.Errorf("--format %s: there are %s", w.format, strings.Join(draw.Formats, " and ")))
	}
	if !slices.Contains(draw.Formats, w.format) {
		return command.Misuse(fmt.Errorf("%q says no format; end the file's name with .svg or .pdf, or write --format", w.out))
	}
	if w.out == "" {
		w.out = what + "." + w.format
	}
	return nil
}

func figure(a *command.App, cmd *cobra.Command, p *project.Project, what string, want wantedDrawing) (*draw.Figure, error) {
	o := draw.Options{Project: p.Name, At: time.Now(), Dark: want.dark}
	switch what {
	case "usage":
		return usageFigure(cmd.Context(), a, p, want.period, o)
	case "wiring":
		w, err := api.Ask(cmd.Context(), p).Wiring(cmd.Context())
		return draw.Wiring(w, o), err
	case "map":
		current, _, err := api.Look(cmd.Context(), p)
		return draw.Map(draw.Nodes(command.InOrder(p), current), o), err
	}
	r, err := startReport(a, cmd, p, want.start)
	if err != nil {
		return nil, err
	}
	var other *starts.Report
	if want.compare != "" {
		c, err := startReport(a, cmd, p, want.compare)
		if err != nil {
			return nil, err
		}
		other = &c
	}
	return draw.Start(&r, other, o), nil
}

func usageFigure(ctx context.Context, a *command.App, p *project.Project, period time.Duration, o draw.Options) (*draw.Figure, error) {
	if period < time.Minute || period > usage.KeepCoarse {
		return nil, command.Misuse(fmt.Errorf("--period %s: write a length of time from 1m to 24h", period))
	}
	client, err := api.Find(ctx, p)
	if errors.Is(err, api.ErrNoKeeper) {
		return nil, fmt.Errorf("nothing runs, so there is no usage to draw; start it with: neighbour start")
	}
	if err != nil {
		return nil, err
	}
	defer client.Close()
	r, err := client.Usage(ctx, period, 120)
	return draw.Usage(&r, o), err
}
