// Package tui is the full-screen interface. It asks the keeper for everything
// that it shows, and computes nothing about services itself.
package tui

import (
	"context"

	"neighbour/internal/core/project/discover"
	"neighbour/internal/tui/shell"
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/views"
	"neighbour/internal/tui/views/setup"
)

// Run shows the interface of a project until the user leaves. The options need
// no views.
func Run(ctx context.Context, opts shell.Options) (shell.Left, error) {
	opts.Views = views.All()
	return shell.Run(ctx, opts)
}

// Setup shows what was found in a project, and what is proposed for it, until
// the user has it written (true) or leaves.
func Setup(ctx context.Context, p *discover.Proposal) (bool, error) {
	write := false
	_, err := shell.Run(ctx, shell.Options{Project: p.Name, Views: []view.Spec{setup.Spec(p, &write)}})
	return write, err
}
