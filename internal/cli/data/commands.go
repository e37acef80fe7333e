// Package data is the commands for what services hold, and for what is sent to them.
package data

import (
	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
)

// Commands returns the commands, in the order in which help shows them.
func Commands(a *command.App) []*cobra.Command {
	return []*cobra.Command{newData(a), newAsk(a), newConsole(a), newDump(a), newLoad(a), newMigrations(a), newReset(a), newSnapshots(a), newTrigger(a), newCall(a), newToken(a)}
}
