// Package machine is the commands for this machine, and for all projects on it.
package machine

import (
	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
)

// Commands returns the commands, in the order in which help shows them.
func Commands(a *command.App) []*cobra.Command {
	return []*cobra.Command{newProjects(a), newRest(a), newGate(a), newTrust(a), newLogin(a), newVouch(a), newPurge(a)}
}
