package command

import (
	"context"
	"errors"

	"neighbour/internal/api"
)

// IdleError says that no keeper runs.
type IdleError struct{ project string }

func (e *IdleError) Error() string {
	return e.project + ": no keeper runs, so nothing is being done"
}

// WithKeeper does something with the project's keeper. Without one it returns an
// *idleError.
func (a *App) WithKeeper(ctx context.Context, do func(*api.Client) error) error {
	p, err := a.Project()
	if err != nil {
		return err
	}
	client, err := api.Find(ctx, p)
	if errors.Is(err, api.ErrNoKeeper) {
		return &IdleError{p.Name}
	}
	if err != nil {
		return err
	}
	defer client.Close()
	return do(client)
}
