// Package day is the commands of the working day: those that start, change and run a project.
package day

import (
	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
)

// Commands returns the commands, in the order in which help shows them.
func Commands(a *command.App) []*cobra.Command {
	return []*cobra.Command{newInit(a), newCheck(a), newStart(a), newStop(a), newRestart(a), newApply(a), newStatus(a), newOpen(a), newRun(a), newErrands(a), newShell(a), newDemo(a)}
}
