package data

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/traffic"
	"neighbour/internal/display"
)

func newTrigger(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "trigger", Short: "What happens when: the triggers, their events, and their clock",
		Long: `Trigger lists the triggers of the declaration: what makes each happen, where that is
sent, how many events wait or were put aside, and when it comes next.`,
		Example: "  neighbour trigger\n  neighbour trigger next\n  neighbour trigger fire overdue\n  neighbour trigger clock \"monday 8:00\"",
		Args:    command.Takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.WithKeeper(cmd.Context(), func(c *api.Client) error {
				all, err := c.Triggers(cmd.Context())
				switch {
				case err != nil:
					return err
				case asJSON:
					return a.JSON(all)
				}
				return printTriggers(a, all)
			})
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	cmd.AddCommand(newTriggerNext(a), newTriggerFire(a), newTriggerPause(a, true), newTriggerPause(a, false), newTriggerHistory(a), newTriggerRetry(a), newTriggerDrop(a), newTriggerClock(a))
	return cmd
}

func printTriggers(a *command.App, all keep.Triggers) error {
	if len(all.Triggers) == 0 {
		fmt.Fprintln(a.Err, "no triggers are declared; [trigger.NAME] with on and call is one")
		return nil
	}
	rows := [][]string{{"trigger", "on", "target", "arrived", "waiting", "aside", "last", "next", ""}}
	for _, t := range all.Triggers {
		last, next := "", ""
		if t.Last != nil {
			last = words.Span(time.Since(*t.Last)) + " ago"
		}
		if t.Next != nil {
			next = t.Next.Local().Format("Mon 02 Jan 15:04")
		}
		says := t.Problem
		switch {
		case t.Paused != "":
			says = t.Paused
		case says == "" && !t.Watched:
			says = "is watched when its service is ready"
		}
		rows = append(rows, []string{t.Name, display.Plain(t.On), display.Plain(t.Target), strconv.Itoa(t.Done), strconv.Itoa(t.Waiting), strconv.Itoa(t.Aside), last, next, display.Plain(says)})
	}
	if all.AheadMS != 0 {
		fmt.Fprintf(a.Err, "for schedules it is %s; \"neighbour trigger clock now\" sets that right\n", all.Clock.Local().Format("Mon 02 Jan 2006 15:04 MST"))
	}
	return command.PrintTable(a.Out, rows, 3, 4, 5)
}

func newTriggerNext(a *command.App) *cobra.Command {
	var asJSON bool
	n := 10
	cmd := &cobra.Command{
		Use: "next", Short: "What comes next by the clock", Args: command.Takes(cobra.NoArgs), Example: "  neighbour trigger next -n 20",
		Long: "Next lists what comes next by the clock of schedules, also while nothing runs.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if n < 1 {
				return command.Misuse(errors.New("-n is at least 1"))
			}
			p, err := a.Project()
			if err != nil {
				return err
			}
			all := keep.ComingTriggers(p.Declaration, time.Now(), n)
			var idle *command.IdleError
			err = a.WithKeeper(cmd.Context(), func(c *api.Client) error {
				if len(all) == 0 {
					return nil
				}
				all, err = c.NextTriggers(cmd.Context(), n)
				return err
			})
			if err != nil && !errors.As(err, &idle) {
				return err
			}
			if asJSON {
				return a.JSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.Err, "nothing comes by the clock")
				return nil
			}
			rows := [][]string{{"when", "trigger", "target"}}
			for _, c := range all {
				rows = append(rows, []string{c.At.Local().Format("Mon 02 Jan 2006 15:04:05 MST"), c.Trigger, display.Plain(c.Target)})
			}
			return command.PrintTable(a.Out, rows)
		},
	}
	cmd.Flags().IntVarP(&n, "number", "n", n, "how `many`")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func newTriggerFire(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "fire NAME [JSON]", Short: "Send an event by hand", Args: command.Takes(cobra.RangeArgs(1, 2)), ValidArgsFunction: a.CompleteTriggers,
		Long:    "Fire sends an event as if it had happened: with the data that is written behind the\nname, or else with that of the trigger's latest event.",
		Example: "  neighbour trigger fire overdue\n  neighbour trigger fire reindex '{\"change\": \"insert\"}'",
		RunE: func(cmd *cobra.Command, args []string) error {
			var data json.RawMessage
			if len(args) == 2 {
				if !json.Valid([]byte(args[1])) {
					return command.Misuse(errors.New("what is written behind the name is no JSON: {\"id\": 1}"))
				}
				data = []byte(args[1])
			}
			return a.WithKeeper(cmd.Context(), func(c *api.Client) error {
				id, err := c.FireTrigger(cmd.Context(), args[0], data)
				if err != nil {
					return err
				}
				return awaitEvent(cmd.Context(), a, c, id)
			})
		},
	}
}

// awaitLimit is how long it is waited for an event to arrive.
const awaitLimit = time.Minute

// awaitEvent waits until an event has arrived, and says how that went.
func awaitEvent(ctx context.Context, a *command.App, c *api.Client, id int64) error {
	for end := time.Now().Add(awaitLimit); ; {
		e, err := c.Exchange(ctx, id)
		if err != nil {
			return err
		}
		switch {
		case e.State == "done":
			fmt.Fprintf(a.Out, "%s: arrived after %s\n", e.Event, traffic.Took(e.TookMS))
			return nil
		case e.State == traffic.Aside:
			return fmt.Errorf("%s: put aside: %s", e.Event, e.Problem)
		case e.Tries > 0 && e.Problem != "":
			return fmt.Errorf("%s: %s; it is tried again (neighbour trigger history)", e.Event, e.Problem)
		case time.Now().After(end):
			return fmt.Errorf("%s: it waits", e.Event)
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func newTriggerPause(a *command.App, paused bool) *cobra.Command {
	use, short := "resume NAME", "Have a trigger go on"
	long := "Resume has a trigger go on that was paused, or that was stopped since it caused its\nown events."
	if paused {
		use, short, long = "pause NAME", "Have a trigger send nothing", "Pause has a trigger send nothing. What happens meanwhile is kept, and sent when it\ngoes on."
	}
	return &cobra.Command{Use: use, Short: short, Long: long, Args: command.Takes(cobra.ExactArgs(1)), ValidArgsFunction: a.CompleteTriggers, Example: "  neighbour trigger " + strings.Fields(use)[0] + " overdue",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.WithKeeper(cmd.Context(), func(c *api.Client) error { return c.PauseTrigger(cmd.Context(), args[0], paused) })
		}}
}

func newTriggerHistory(a *command.App) *cobra.Command {
	var asJSON bool
	n := 20
	cmd := &cobra.Command{
		Use: "history [NAME]", Short: "The latest events, and what became of each", Args: command.Takes(cobra.MaximumNArgs(1)), ValidArgsFunction: a.CompleteTriggers, Example: "  neighbour trigger history reindex -n 50",
		Long: "History lists the latest events of a trigger, or of all, the newest last: how often\neach was tried, what it was answered, and its number, for retry and drop.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.WithKeeper(cmd.Context(), func(c *api.Client) error {
				filter := "event"
				if len(args) == 1 {
					filter += " → " + args[0]
				}
				t, err := c.Traffic(cmd.Context(), filter, 0, 5000)
				if err != nil {
					return err
				}
				all := slices.DeleteFunc(t.Exchanges, func(e traffic.Exchange) bool {
					return e.What != traffic.Event || len(args) == 1 && !strings.HasSuffix(e.Event, "→ "+args[0])
				})
				all = all[:min(n, len(all))]
				if asJSON {
					return a.JSON(all)
				}
				slices.Reverse(all)
				rows := [][]string{{"number", "at", "event", "state", "tries", "answer", "took", ""}}
				for _, e := range all {
					status := ""
					if e.Status > 0 {
						status = strconv.Itoa(e.Status)
					}
					rows = append(rows, []string{strconv.FormatInt(e.ID, 10), e.Began.Local().Format("15:04:05"), display.Plain(e.Event), e.State, strconv.Itoa(e.Tries), status, traffic.Took(e.TookMS), display.Plain(e.Problem)})
				}
				return command.PrintTable(a.Out, rows, 4, 5, 6)
			})
		},
	}
	cmd.Flags().IntVarP(&n, "number", "n", n, "how `many`")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func eventNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, command.Misuse(fmt.Errorf("%q is not the number of an event; neighbour trigger history tells them", text))
	}
	return id, nil
}

func newTriggerRetry(a *command.App) *cobra.Command {
	var aside bool
	cmd := &cobra.Command{
		Use: "retry [NUMBER]", Short: "Send an event once more, or all that were put aside", Args: command.Takes(cobra.MaximumNArgs(1)), Example: "  neighbour trigger retry --aside",
		Long: "Retry sends an event once more: one that was put aside as it is, one that has arrived\nas another.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if aside == (len(args) == 1) {
				return command.Misuse(errors.New("write the number of an event, or --aside for all that were put aside"))
			}
			ctx := cmd.Context()
			return a.WithKeeper(ctx, func(c *api.Client) error {
				if len(args) == 1 {
					id, err := eventNumber(args[0])
					if err != nil {
						return err
					}
					if id, err = c.RetryEvent(ctx, id); err != nil {
						return err
					}
					return awaitEvent(ctx, a, c, id)
				}
				t, err := c.Traffic(ctx, "", 0, 1)
				if err != nil {
					return err
				}
				slices.Reverse(t.Aside) // in their order
				for _, e := range t.Aside {
					if _, err := c.RetryEvent(ctx, e.ID); err != nil {
						return err
					}
				}
				fmt.Fprintln(a.Out, words.Count(len(t.Aside), "event"), "tried again")
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&aside, "aside", false, "all that were put aside")
	return cmd
}

func newTriggerDrop(a *command.App) *cobra.Command {
	return &cobra.Command{Use: "drop NUMBER", Short: "Have an event not be sent", Args: command.Takes(cobra.ExactArgs(1)), Example: "  neighbour trigger drop 1795730270054284",
		Long: "Drop has an event that waits, or was put aside, not be sent any more.",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := eventNumber(args[0])
			if err != nil {
				return err
			}
			return a.WithKeeper(cmd.Context(), func(c *api.Client) error { return c.DropEvent(cmd.Context(), id) })
		}}
}

func newTriggerClock(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "clock TIME", Short: "Have schedules take it for another time", Args: command.Takes(cobra.ExactArgs(1)),
		Long: `Clock has schedules take it for another time, from which on it goes as always. What
comes at that very time happens at once. A time is "monday 8:00", "8:00",
"2026-12-24 18:00", in the zone of this machine, or "+3h" from what it is now; "now" is
the machine's time again.`,
		Example: "  neighbour trigger clock \"monday 8:00\"\n  neighbour trigger clock now",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.WithKeeper(cmd.Context(), func(c *api.Client) error {
				if args[0] == "now" {
					return c.SetClock(cmd.Context(), nil)
				}
				is, err := c.Triggers(cmd.Context())
				if err != nil {
					return err
				}
				to, err := parseMoment(args[0], is.Clock.Local())
				if err != nil {
					return command.Misuse(err)
				}
				if err := c.SetClock(cmd.Context(), &to); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "for schedules it is %s\n", to.Format("Mon 02 Jan 2006 15:04 MST"))
				return nil
			})
		},
	}
}

// parseMoment reads a time: the next of a day of the week or of an hour after now, a date, or
// how much later than now.
func parseMoment(text string, now time.Time) (time.Time, error) {
	text = strings.ToLower(strings.TrimSpace(text))
	if later, ok := strings.CutPrefix(text, "+"); ok {
		if days, isDays := strings.CutSuffix(later, "d"); isDays {
			if n, err := strconv.Atoi(days); err == nil {
				return now.AddDate(0, 0, n), nil
			}
		}
		if d, err := time.ParseDuration(later); err == nil {
			return now.Add(d), nil
		}
	}
	for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02t15:04:05z07:00", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, nil
		}
	}
	day, hour, two := strings.Cut(text, " ")
	if !two && strings.Contains(text, ":") {
		day, hour = "", text
	}
	at := time.Time{}
	if text == "" {
		hour = "?"
	}
	if hour != "" {
		var err error
		if at, err = time.Parse("15:04", strings.TrimSpace(hour)); err != nil {
			return at, fmt.Errorf("%q is no time: write \"monday 8:00\", \"8:00\", \"2026-12-24 18:00\" or \"+3h\"", text)
		}
	}
	for ahead := range 8 {
		d := now.AddDate(0, 0, ahead)
		t := time.Date(d.Year(), d.Month(), d.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
		name := strings.ToLower(d.Weekday().String())
		if t.After(now) && (day == "" || len(day) >= 3 && strings.HasPrefix(name, day)) {
			return t, nil
		}
	}
	return now, fmt.Errorf("%q is no time: write \"monday 8:00\", \"8:00\", \"2026-12-24 18:00\" or \"+3h\"", text)
}
