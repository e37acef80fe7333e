package day

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project/discover"
)

func newInit(a *command.App) *cobra.Command {
	var yes, asJSON bool
	cmd := &cobra.Command{
		Use: "init", Example: "  neighbour init\n  neighbour init --yes\n  neighbour init --json", Short: "Make a first declaration from what the project's files say", Args: command.Takes(cobra.NoArgs),
		Long: `Init reads the project's manifests, the scripts that they name, and its env
files, and shows on one screen what it found, what it proposes, and the file
that comes of it. Nothing is run, and no password is copied. A declaration that
is there is never overwritten.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !asJSON && !yes {
				if !command.FullScreen() {
					return command.Misuse(errors.New("the screen needs a terminal that can show one; --yes takes the proposal as it is, --json prints it"))
				}
				_, err := propose(cmd.Context(), a)
				return err
			}
			p, err := discover.Read(a.Dir)
			if err != nil {
				return err
			}
			if asJSON {
				return printProposal(a, p)
			}
			return writeProposal(a, p, filepath.Join(p.Dir, declare.FileName))
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "write the proposal as it is, without the screen")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the proposal as JSON, and write nothing")
	return cmd
}

// propose shows a first declaration on the screen, and reports whether it was
// written.
func propose(ctx context.Context, a *command.App) (written bool, err error) {
	p, err := discover.Read(a.Dir)
	if err != nil {
		return false, err
	}
	path := filepath.Join(p.Dir, declare.FileName)
	if _, err := os.Lstat(path); err == nil {
		return false, existsError(path)
	}
	yes, err := a.Screens.Setup(ctx, p)
	if err != nil {
		return false, err
	}
	if !yes {
		fmt.Fprintln(a.Err, "nothing was written")
		return false, nil
	}
	return true, writeProposal(a, p, path)
}

func existsError(path string) error {
	return fmt.Errorf("%s is there already, and is never overwritten; change it with an editor or on the screen (neighbour, then e, n or x), or move it away", path)
}

func writeProposal(a *command.App, p *discover.Proposal, path string) error {
	on := 0
	for _, s := range p.Services {
		if s.On {
			on++
		}
	}
	if on == 0 {
		return errors.New("nothing was found that a declaration could be made of; without --yes the screen lets you choose, and docs/KINDS.md tells what there is")
	}
	if err := p.Check(); err != nil {
		return err
	}
	text, _ := p.Render()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return existsError(path)
	}
	if err != nil {
		return fmt.Errorf("the declaration can't be written: %w", err)
	}
	_, err = f.WriteString(text)
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("the declaration can't be written: %w", err)
	}
	fmt.Fprintf(a.Out, "%s is written, with %s: %s\n", path, words.Count(on, "service"), strings.Join(named(p), ", "))
	for _, n := range p.Notes {
		fmt.Fprintf(a.Err, "%s: %s\n", n.Place(), n.What)
	}
	what, packages := p.Missing()
	for _, w := range what {
		fmt.Fprintln(a.Err, w)
	}
	if install := kind.InstallCommand(packages...); install != "" {
		fmt.Fprintf(a.Err, "To install what is missing:\n\n    %s\n\n", install)
	}
	fmt.Fprintln(a.Out, `"neighbour start" starts them`)
	return nil
}

func named(p *discover.Proposal) []string {
	var names []string
	for _, s := range p.Services {
		if s.On {
			names = append(names, s.Name)
		}
	}
	return names
}

// proposedService is a service with what is installed for it.
type proposedService struct {
	*discover.Service
	Installed string `json:"installed,omitempty"`
	Missing   string `json:"missing,omitempty"`
}

func printProposal(a *command.App, p *discover.Proposal) error {
	text, _ := p.Render()
	services := make([]proposedService, len(p.Services))
	for i, s := range p.Services {
		services[i].Service = s
		here := s.Here()
		services[i].Installed, services[i].Missing = here.Version, here.Missing
	}
	return a.JSON(struct {
		*discover.Proposal
		Services []proposedService `json:"services"`
		File     string            `json:"file"`
	}{p, services, text})
}
