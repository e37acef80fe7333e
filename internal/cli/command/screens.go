package command

import (
	"context"

	"neighbour/internal/api"
	"neighbour/internal/core/project/discover"
)

// Screens are the full screens that commands open. They are given to the
// commands, which know no interface but their own.
type Screens struct {
	// Run shows a project until the user leaves.
	Run func(context.Context, ScreenOptions) (Left, error)
	// Setup shows a proposal, and reports whether the user wants it written.
	Setup func(context.Context, *discover.Proposal) (bool, error)
}

// ScreenOptions are what the screen of a project works with.
type ScreenOptions struct {
	// Client talks to the project's keeper.
	Client *api.Client
	// Connect finds the keeper again, or starts a new one, when it is lost.
	Connect func(context.Context) (*api.Client, error)
	// Refresh replaces the keeper after a change of the declaration, if nothing
	// runs; otherwise it returns the client that it got.
	Refresh func(context.Context, *api.Client) (*api.Client, error)
}

// Left says how the user left the screen.
type Left struct {
	Stopped           bool // everything was stopped, and the keeper ended
	Running, Services int
	Next              string // the folder of the project to go on with
}
