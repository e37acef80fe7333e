package look

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/display"
)

func newLogs(a *command.App) *cobra.Command {
	var want wantedLogs
	var grep, text, level, since, until string
	cmd := &cobra.Command{
		Use: "logs [SERVICE...]", Short: "Print what services wrote",
		Example:           "  neighbour logs api -f\n  neighbour logs --level error --since 10m\n  neighbour logs --text 'hammer drill'",
		ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if err := p.Check(names...); err != nil {
				return err
			}
			if _, err := journal.Expression(grep); err != nil {
				return command.Misuse(fmt.Errorf("--grep: %w", err))
			}
			if grep != "" {
				want.Patterns = append(want.Patterns, "/"+grep+"/")
			}
			if text != "" {
				want.Patterns = append(want.Patterns, journal.Quote(text))
			}
			if err := want.Level.UnmarshalText([]byte(level)); err != nil {
				return command.Misuse(fmt.Errorf("--level: %w", err))
			}
			if want.N < 0 {
				return command.Misuse(fmt.Errorf("-n %d: write how many entries, 0 or more", want.N))
			}
			now := time.Now()
			for _, bound := range []struct {
				flag, value string
				to          *journal.Place
			}{{"--since", since, &want.From}, {"--until", until, &want.Before}} {
				if bound.value == "" {
					continue
				}
				at, err := journal.ParseTime(bound.value, now)
				if err != nil {
					return command.Misuse(fmt.Errorf("%s: %w", bound.flag, err))
				}
				*bound.to = journal.At(at)
			}
			want.Services = names
			if len(names) == 0 {
				want.Services = command.InOrder(p)
			}
			return printLogs(cmd.Context(), a, p, want)
		},
	}
	cmd.Flags().IntVarP(&want.N, "lines", "n", 100, "how many of the latest entries")
	cmd.Flags().BoolVarP(&want.follow, "follow", "f", false, "go on with what comes")
	cmd.Flags().StringVar(&since, "since", "", "only what came since a `time`, for example 10m or 14:05")
	cmd.Flags().StringVar(&until, "until", "", "only what came before a `time`")
	cmd.Flags().BoolVar(&want.json, "json", false, "print a JSON object for each entry")
	cmd.Flags().StringVar(&grep, "grep", "", "only entries that match a regular `expression`")
	cmd.Flags().StringVar(&text, "text", "", "only entries with a `text`; lower case also matches upper case")
	cmd.Flags().StringVar(&level, "level", "", "only entries of a `level` or a worse one: debug, info, warn, error")
	cmd.Flags().BoolVar(&want.Events, "events", false, "also what happened to the services: started, ready, failed")
	cmd.Flags().BoolVar(&want.even, "even", false, "times and levels as columns, rather than the lines as they are")
	_ = cmd.RegisterFlagCompletionFunc("level", cobra.FixedCompletions([]string{"debug", "info", "warn", "error"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// wantedLogs says which entries of the logs to print, and how.
type wantedLogs struct {
	api.LogQuery
	follow, json, even bool
}

// mostEntries is how many entries are asked for at a time.
const mostEntries = 10_000

func printLogs(ctx context.Context, a *command.App, p *project.Project, want wantedLogs) error {
	write := entryWriter(a, want)
	if want.N > 0 {
		entries, err := latest(ctx, api.Ask(ctx, p), want.LogQuery)
		if err != nil {
			return err
		}
		for _, e := range entries {
			write(e)
		}
		if n := len(entries); n > 0 {
			want.From = entries[n-1].Place
		}
	}
	if !want.follow {
		return nil
	}
	if want.N == 0 {
		want.From = journal.Place{}
	}
	want.N = 0
	for ctx.Err() == nil { // keepers come and go
		err := api.Ask(ctx, p).TailLogs(ctx, want.LogQuery, func(e journal.Entry) {
			write(e)
			want.From = e.Place
		})
		if err != nil && !errors.Is(err, api.ErrNoKeeper) && !errors.Is(err, api.ErrLost) {
			return err
		}
	}
	return nil
}

// latest returns the latest entries of a query, the oldest first.
func latest(ctx context.Context, ask api.Questions, q api.LogQuery) ([]journal.Entry, error) {
	var parts [][]journal.Entry
	for left := q.N; left > 0; {
		q.N = min(left, mostEntries)
		answer, err := ask.Logs(ctx, q)
		if err != nil {
			return nil, err
		}
		parts = append(parts, answer.Entries)
		left -= len(answer.Entries)
		if !answer.More || len(answer.Entries) == 0 {
			break
		}
		q.Before = answer.Entries[0].Place
	}
	slices.Reverse(parts)
	return slices.Concat(parts...), nil
}

// entryWriter writes entries as they are wanted.
func entryWriter(a *command.App, want wantedLogs) func(journal.Entry) {
	clean := display.Clean
	if !command.Terminal(a.Raw) { // it may end up on one all the same
		clean = func(line string) string {
			parts := strings.Split(line, "\t")
			for i, part := range parts {
				parts[i] = display.Plain(part)
			}
			return strings.Join(parts, "\t")
		}
	}
	pad := 0
	for _, name := range want.Services {
		pad = max(pad, len(name))
	}
	encoder := json.NewEncoder(a.Raw)
	encoder.SetEscapeHTML(false)
	return func(e journal.Entry) {
		if want.json {
			_ = encoder.Encode(e)
			return
		}
		at := "--:--:--"
		if !e.At.IsZero() {
			at = e.At.Local().Format("15:04:05")
		}
		body := e.Text
		if want.even {
			body = fmt.Sprintf("%-5s  %s", e.Level, strings.TrimSpace(e.Message+"  "+e.Fields))
		}
		if e.Event != "" {
			body = "-- " + e.Text
		}
		for line := range strings.SplitSeq(body, "\n") {
			fmt.Fprintf(a.Raw, "%s  %-*s  %s\n", at, pad, e.Service, clean(line))
		}
	}
}
