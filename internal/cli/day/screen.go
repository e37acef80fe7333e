package day

import (
	"context"
	"errors"
	"fmt"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/project"
)

// Open shows the project on the full screen.
func Open(ctx context.Context, a *command.App) error {
	p, err := a.Project()
	var none *declare.MissingError
	var runs *command.UndeclaredError
	if errors.As(err, &none) && !errors.As(err, &runs) && command.FullScreen() {
		if written, err := propose(ctx, a); err != nil || !written {
			return err
		}
		p, err = a.Project()
	}
	if err != nil {
		return err
	}
	if !command.FullScreen() {
		return command.Misuse(errors.New(`the full screen needs a terminal that can show one; "neighbour status" prints the same as text`))
	}
	client, err := api.Connect(ctx, p)
	if err != nil {
		return err
	}
	left, err := show(ctx, a, p, client)
	client.Close()
	if left.Stopped && err == nil {
		fmt.Fprintf(a.Out, "%s: everything is stopped; the data stays in %s\n", p.Name, p.StateFolder())
	}
	if err != nil || left.Next == "" {
		return err
	}
	a.Dir, a.Copy = left.Next, ""
	return Open(ctx, a)
}

// show runs the full screen, and says afterwards what goes on. When the user
// has stopped everything, it returns once the keeper has ended.
func show(ctx context.Context, a *command.App, p *project.Project, client *api.Client) (command.Left, error) {
	command.CollectLess(96 << 20)
	left, err := a.Screens.Run(ctx, command.ScreenOptions{
		Client:  client,
		Connect: func(ctx context.Context) (*api.Client, error) { return api.Connect(ctx, p) },
		Refresh: func(ctx context.Context, c *api.Client) (*api.Client, error) {
			now, err := project.Open(p.Home())
			if err != nil {
				return c, err
			}
			fresh, _, _, err := api.Refresh(ctx, now, c)
			return fresh, err
		},
	})
	if err != nil || left.Next != "" {
		return left, err
	}
	if left.Stopped {
		return left, api.AwaitEnd(p)
	}
	if left.Running > 0 {
		fmt.Fprintf(a.Out, "%s: %d of %d services go on; stop them with: %s%s stop\n", p.Name, left.Running, left.Services, command.ProgramName(), a.DirFlag(p))
	}
	return left, nil
}
