package tui

import (
	"context"
	"neighbour/internal/api"
)

type Options struct {
	Client  *api.Client
	Connect func(context.Context) (*api.Client, error)
}
type Left struct {
	Stopped           bool
	Running, Services int
}

func Run(context.Context, Options) (Left, error) { return Left{}, nil }
