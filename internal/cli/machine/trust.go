package machine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/machine/authority"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/gate/control"
	"neighbour/internal/gate/trust"
)

var trustKinds = []string{"system", "browsers", "java"}

func newTrust(a *command.App) *cobra.Command {
	var remove, renew, yes bool
	var only, also []string
	cmd := &cobra.Command{
		Use: "trust", Short: "Have this machine's programs trust the gate's certificates",
		Long: `Trust lists where programs of this machine look up which certificate authorities
they trust, says whether yours is there, and adds it to those that you confirm.
It is an authority of yours alone, made on this machine; it can vouch only for
names that end in .localhost or .test, and for loopback addresses. Names that end in
.local, .home.arpa or .internal may be other machines of your network: --renew --also
issues certificates for them, too. Programs of a project need none of this: they trust it by
variables.`,
		Example: "  neighbour trust\n  neighbour trust --only browsers --yes\n  neighbour trust --remove",
		Args:    command.Takes(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			for _, kind := range only {
				if !slices.Contains(trustKinds, kind) {
					return command.Misuse(fmt.Errorf("--only %s: write %s", kind, words.Or(trustKinds)))
				}
			}
			for _, domain := range also {
				if !slices.Contains(authority.NetworkDomains, domain) {
					return command.Misuse(fmt.Errorf("--also %s: write %s", domain, words.Or(authority.NetworkDomains)))
				}
			}
			if len(also) > 0 && !renew {
				return command.Misuse(errors.New("--also takes a new certificate: neighbour trust --renew --also " + strings.Join(also, ",")))
			}
			if remove && renew {
				return command.Misuse(errors.New("--remove and --renew are two wishes; choose one"))
			}
			if renew {
				if err := renewAuthority(cmd.Context(), a, yes, also); err != nil {
					return err
				}
			}
			return changeTrust(cmd.Context(), a, only, remove, yes)
		},
	}
	cmd.Flags().BoolVar(&remove, "remove", false, "take it away again, everywhere")
	cmd.Flags().BoolVar(&renew, "renew", false, "give the authority a new certificate first, and take the old one away")
	cmd.Flags().StringSliceVar(&also, "also", nil, "with --renew, names that end in these `domains`, too: local, home.arpa, internal")
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	cmd.Flags().StringSliceVar(&only, "only", nil, "only these `lists`: system, browsers, java")
	return cmd
}

// renewAuthority takes the authority's certificate away from all lists, and makes a new one.
func renewAuthority(ctx context.Context, a *command.App, yes bool, also []string) error {
	own, _, err := ownAuthority()
	if err != nil {
		return err
	}
	if !yes {
		if ok, err := a.Confirm("Give the authority a new certificate? What trusts the old one has to trust the new one."); err != nil || !ok {
			return err
		}
	}
	if err := changeTrust(ctx, a, nil, true, yes); err != nil {
		return err
	}
	if err := own.Renew(also...); err != nil {
		return err
	}
	c := control.NewClient()
	defer c.Close()
	if state, err := c.State(ctx); err == nil { // its keepers start it again
		if id, err := proc.Identify(state.PID); err == nil {
			proc.Signal([]proc.ID{id}, "TERM")
		}
	}
	fmt.Fprintln(a.Out, "\nthe authority has a new certificate; services that run trust the new one when they are started again: neighbour restart")
	return nil
}

// ownAuthority opens this user's authority.
func ownAuthority() (*authority.Authority, trust.Authority, error) {
	dir := project.AuthorityDir()
	if dir == "" {
		return nil, trust.Authority{}, errors.New("there is no home to keep a certificate authority in; set HOME or XDG_STATE_HOME")
	}
	own, err := authority.Open(dir)
	if err != nil {
		return nil, trust.Authority{}, err
	}
	c := own.Certificate()
	return own, trust.Authority{Certificate: c, File: own.Path(), Name: c.Subject.CommonName}, nil
}

func changeTrust(ctx context.Context, a *command.App, only []string, remove, yes bool) error {
	own, au, err := ownAuthority()
	if err != nil {
		return err
	}
	if err := own.WriteFiles(); err != nil {
		return err
	}
	if err := own.Valid(); err != nil && !remove { // no list is to have it
		return err
	}
	fmt.Fprintf(a.Out, "%s, until %s\n%s\nIt issues certificates for names that end in %s, and for loopback addresses.\n", au.Name, au.Certificate.NotAfter.Format("2 January 2006"), au.File, words.Join(own.Domains()))
	if slices.ContainsFunc(own.Domains(), func(d string) bool { return slices.Contains(authority.NetworkDomains, d) }) {
		fmt.Fprintln(a.Out, "Some of these may be other machines of your network; for this machine's names alone: neighbour trust --renew")
	}
	fmt.Fprintln(a.Out)
	stores := slices.DeleteFunc(trust.Here().Stores(ctx, au), func(s trust.Store) bool { return len(only) > 0 && !slices.Contains(only, s.Kind) })
	rows := [][]string{{"", "who", "list", ""}}
	for _, s := range stores {
		sign, says := "○", "does not trust it"
		switch {
		case s.Trusted:
			sign, says = "●", "trusts it"
			if s.Earlier {
				sign, says = "▲", "trusts it, and an earlier certificate of this user's authority"
			}
		case s.Problem != "":
			sign, says = "▲", s.Problem
		case s.Earlier:
			says = "does not trust it, but an earlier certificate of this user's authority"
		}
		rows = append(rows, []string{sign, s.About, s.Place, says})
	}
	if err := command.PrintTable(a.Out, rows); err != nil {
		return err
	}
	for _, s := range stores {
		if s.Problem != "" {
			fmt.Fprintf(a.Out, "   %s: %s\n", s.Place, s.Remedy)
		}
	}
	failed := false
	done := 0
	if remove || slices.ContainsFunc(stores, func(s trust.Store) bool { return s.Earlier }) { // what makes the system's list anew may change that of Java, too
		slices.Reverse(stores)
	}
	for _, s := range stores {
		steps, does := s.Add, "Add it to "+s.Place+"?"
		if remove {
			steps, does = s.Remove, "Take it away from "+s.Place+"?"
		}
		if s.Problem != "" || s.Trusted != remove && !s.Earlier || len(steps) == 0 {
			continue
		}
		fmt.Fprintln(a.Out)
		for _, step := range steps {
			text := step.String()
			if step.Root && os.Getuid() != 0 {
				text = "as the administrator: " + text
			}
			fmt.Fprintln(a.Out, "  "+text)
		}
		a.Out.Flush()
		if !yes {
			ok, err := a.Confirm(does)
			var silent command.Silent
			if errors.As(err, &silent) {
				continue
			}
			if err != nil {
				return err
			}
			if !ok {
				continue
			}
		}
		if err := trust.Do(ctx, au, steps, a.RunAside); err != nil {
			fmt.Fprintln(a.Err, "neighbour:", err)
			failed = true
			continue
		}
		done++
	}
	if done > 0 {
		fmt.Fprintf(a.Out, "\n%s changed; programs that run see it when they are started again\n", words.Count(done, "list"))
	} else if !failed && !remove && !slices.ContainsFunc(stores, func(s trust.Store) bool { return (!s.Trusted || s.Earlier) && s.Problem == "" }) {
		fmt.Fprintln(a.Out, "\nnothing is left to add")
	}
	if failed {
		return command.Silent{}
	}
	return nil
}
