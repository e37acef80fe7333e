package command

import (
	"context"
	"fmt"
	"path/filepath"

	"neighbour/internal/api"
	"neighbour/internal/core/project"
)

// EnterCopy has the commands be of the copy that --copy names.
func (a *App) EnterCopy() error {
	if a.Copy == "" {
		return nil
	}
	dir, err := project.CopyDir(a.Dir, a.Copy)
	if err == nil {
		a.Dir, a.Copy = dir, ""
	}
	return err
}

// EndAbandoned ends the copies of runs that were killed.
func (a *App) EndAbandoned(ctx context.Context, p *project.Project) {
	for _, dir := range p.Abandoned() {
		c, err := project.Open(dir)
		if err == nil {
			err = endCopy(ctx, c)
		}
		if err != nil {
			fmt.Fprintf(a.Err, "the copy %s, whose run was killed, can't be ended: %v\n", filepath.Base(dir), err)
		}
	}
}

// endCopy stops all that runs of a copy, and deletes it.
func endCopy(ctx context.Context, c *project.Project) error {
	if client, err := api.Connect(ctx, c); err == nil { // what a killed keeper has left is ended, too
		client.Close()
	}
	if _, err := api.StopProject(ctx, c); err != nil {
		return err
	}
	return c.RemoveCopy()
}
