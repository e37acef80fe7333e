// Package look is the commands that tell what goes on, and why.
package look

import (
	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
)

// Commands returns the commands, in the order in which help shows them.
func Commands(a *command.App) []*cobra.Command {
	return []*cobra.Command{newLogs(a), newEnv(a), newStarts(a), newOperations(a), newTraffic(a), newDraw(a)}
}
