package view

import (
	"neighbour/internal/core/check"
	"neighbour/internal/core/journal"
	"neighbour/internal/core/keep"
	"neighbour/internal/tui/ui"
)

// StateInk returns the colour of a state.
func StateInk(s keep.State) ui.Ink {
	switch s {
	case keep.Ready, keep.Finished:
		return ui.Good
	case keep.Preparing, keep.Starting, keep.Stopping:
		return ui.Busy
	case keep.Ailing:
		return ui.Warn
	case keep.Failed:
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
