package look

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/history"
	"neighbour/internal/core/record/starts"
)

func newStarts(a *command.App) *cobra.Command {
	var asJSON bool
	var n int
	cmd := &cobra.Command{
		Use: "starts [NUMBER]", Short: "How long starts took, and what decided it",
		Long: `Starts lists the latest starts of the project, and says of the newest what
decided how long it took. With a number it tells all of that start: what each
service waited for, what was prepared, how much slower it could have been without
delaying the whole (its slack), and how long it usually takes. The services that
decided are marked with ━: each waited for the one before.`,
		Example: "  neighbour starts\n  neighbour starts 24\n  neighbour starts compare 23 24",
		Args:    command.Takes(cobra.MaximumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				r, err := startReport(a, cmd, p, args[0])
				if err != nil {
					return err
				}
				if asJSON {
					return a.JSON(r)
				}
				return printStart(a, p, r)
			}
			if n < 1 {
				return command.Misuse(fmt.Errorf("-n %d: write how many starts, 1 or more", n))
			}
			all, err := api.Ask(cmd.Context(), p).Starts(cmd.Context(), n)
			if err != nil {
				return err
			}
			if asJSON {
				return a.JSON(all)
			}
			return printStarts(a, cmd, p, all)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	cmd.Flags().IntVarP(&n, "lines", "n", 20, "how many of the latest starts")
	cmd.AddCommand(newCompareStarts(a))
	return cmd
}

// startReport asks for a start by what a user calls it.
func startReport(a *command.App, cmd *cobra.Command, p *project.Project, number string) (starts.Report, error) {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil || id < 0 {
		return starts.Report{}, command.Misuse(fmt.Errorf("%q is not the number of a start; \"neighbour starts\" lists them, and 0 is the latest", number))
	}
	r, err := api.Ask(cmd.Context(), p).StartReport(cmd.Context(), id)
	if err != nil {
		return r, fmt.Errorf("%s: %w; \"neighbour starts\" lists them", number, err)
	}
	return r, nil
}

func printStarts(a *command.App, cmd *cobra.Command, p *project.Project, all []history.Summary) error {
	if len(all) == 0 {
		fmt.Fprintf(a.Err, "%s: nothing was started yet\n", p.Name)
		return nil
	}
	rows := [][]string{{"", "began", "took", "", "services", ""}}
	for _, s := range all {
		rows = append(rows, []string{startNumber(s.ID), s.Began.Local().Format("2006-01-02 15:04:05"), tookInWords(s.Took), warmth(s.Cold), strconv.Itoa(s.Services), resultInWords(s.Result)})
	}
	if err := command.PrintTable(a.Out, rows, 0, 2, 4); err != nil {
		return err
	}
	r, err := startReport(a, cmd, p, strconv.FormatInt(all[len(all)-1].ID, 10))
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "\n%s\n", r.Summary)
	return nil
}

func startNumber(id int64) string {
	if id == 0 {
		return "now"
	}
	return strconv.FormatInt(id, 10)
}

func tookInWords(ms float64) string {
	if ms == 0 {
		return "-"
	}
	return words.Millis(ms)
}

func warmth(cold bool) string {
	if cold {
		return "cold"
	}
	return "warm"
}

func resultInWords(r starts.Result) string {
	if r == starts.Ready {
		return ""
	}
	return string(r)
}

func printStart(a *command.App, p *project.Project, r starts.Report) error {
	s := &r.Start
	head := fmt.Sprintf("%s, start %s at %s", p.Name, startNumber(s.ID), s.Began.Local().Format("2006-01-02 15:04:05"))
	if s.By != "" {
		head += " by " + s.By
	}
	if s.Profile != "" {
		head += ", profile " + s.Profile
	}
	fmt.Fprintln(a.Out, head)
	if len(s.Changed) > 0 {
		fmt.Fprintln(a.Out, "changed since the start before:", strings.Join(s.Changed, ", "))
	}
	fmt.Fprintf(a.Out, "%s\n\n", r.Summary)
	rows := [][]string{{"", "service", "waited", "prepared", "started", "at", "slack", "usually", ""}}
	for _, v := range s.Services {
		mark := ""
		if slices.Contains(r.Analysis.Path, v.Name) {
			mark = "━"
		}
		lengths := map[starts.Kind]float64{}
		for _, ph := range v.Phases {
			is := ph.Is
			if is.Prepares() {
				is = starts.Preparing
			}
			lengths[is] += ph.Length(r.Now)
		}
		slack, usually := "", ""
		if left, ran := r.Analysis.Slack[v.Name]; ran && mark == "" && s.Result != starts.UnderWay {
			slack = words.Millis(left)
		}
		if u := r.Usual.Services[v.Name]; u.Of > 0 {
			usually = words.Millis(u.Median)
		}
		rows = append(rows, []string{mark, v.Name, length(lengths[starts.Waiting]), length(lengths[starts.Preparing]), length(lengths[starts.Starting]), length(v.End()), slack, usually, outcome(v)})
	}
	if err := command.PrintTable(a.Out, rows, 2, 3, 4, 5, 6, 7); err != nil {
		return err
	}
	if len(r.WhatIfs) > 0 {
		fmt.Fprintln(a.Out)
	}
	for i, w := range r.WhatIfs {
		if i == 5 {
			break
		}
		what := w.Service
		if w.What != "" {
			what += "'s " + w.What
		}
		fmt.Fprintf(a.Out, "without %s: %s instead of %s\n", what, words.Millis(w.Took), words.Millis(s.Took))
	}
	return nil
}

func length(ms float64) string {
	if ms < 0.5 {
		return ""
	}
	return words.Millis(ms)
}

// outcome says what there is to say of a service that did not just become ready.
func outcome(v starts.Service) string {
	switch v.Result {
	case starts.Ready:
		return ""
	case starts.Failed:
		return "failed: " + v.Reason
	case starts.Cancelled:
		return "cancelled"
	}
	if n := len(v.Phases); n > 0 {
		return strings.TrimSpace(string(v.Phases[n-1].Is) + " " + v.Phases[n-1].What)
	}
	return ""
}

func newCompareStarts(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "compare NUMBER NUMBER", Short: "Compare two starts, service by service",
		Long: `Compare shows what each service took in two starts from when all that it needs
was there, the largest difference first.`,
		Example: "  neighbour starts compare 23 24", Args: command.Takes(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			var both [2]starts.Report
			for i, number := range args {
				if both[i], err = startReport(a, cmd, p, number); err != nil {
					return err
				}
			}
			d := starts.Differences(&both[0], &both[1])
			if asJSON {
				return a.JSON(d)
			}
			for _, r := range both {
				fmt.Fprintf(a.Out, "start %s, %s: %s\n", startNumber(r.Start.ID), r.Start.Began.Local().Format(time.DateTime), r.Summary)
			}
			rows := [][]string{{"service", startNumber(both[0].Start.ID), startNumber(both[1].Start.ID), "difference"}}
			for _, s := range d {
				rows = append(rows, []string{s.Service, tookInWords(s.Before), tookInWords(s.After), difference(s)})
			}
			fmt.Fprintln(a.Out)
			return command.PrintTable(a.Out, rows, 1, 2, 3)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func difference(d starts.Difference) string {
	switch {
	case d.Before == 0:
		return "only in the second"
	case d.After == 0:
		return "only in the first"
	case math.Abs(d.After-d.Before) < 5:
		return ""
	}
	return fmt.Sprintf("%+.2f s", (d.After-d.Before)/1000)
}
