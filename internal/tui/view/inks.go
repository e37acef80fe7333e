package view

import (
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/tui/ui"
)

// StateInk returns the colour of a state.
func StateInk(s supervise.State) ui.Ink {
	switch s {
	case supervise.Ready, supervise.Finished:
		return ui.Good
	case supervise.Preparing, supervise.Starting, supervise.Stopping:
		return ui.Busy
	case supervise.Ailing, supervise.Held:
		return ui.Warn
	case supervise.Failed:
		return ui.Bad
	}
	return ui.Off
}

// LevelInk returns the colour of a finding's level.
func LevelInk(l check.Level) ui.Ink {
	switch l {
	case check.Stops:
		return ui.Bad
	case check.Warns:
		return ui.Warn
	}
	return ui.Faint
}

// EntryInk returns the colour of a log entry's level.
func EntryInk(l journal.Level) ui.Ink {
	switch l {
	case journal.Error:
		return ui.Bad
	case journal.Warn:
		return ui.Warn
	}
	return ui.Faint
}
