// Package signs has the signs of states and levels, for the screen and the
// commands alike.
package signs

import (
	"neighbour/internal/core/check"
	"neighbour/internal/core/keep"
	"neighbour/internal/display"
)

// State returns the sign of a state. Each state has its own, so that none is told
// by its colour alone.
func State(s keep.State) string { return display.Signs(state(s)) }

func state(s keep.State) string {
	switch s {
	case keep.Waiting:
		return "◌"
	case keep.Preparing:
		return "◔"
	case keep.Starting:
		return "◐"
	case keep.Ready:
		return "●"
	case keep.Ailing:
		return "▲"
	case keep.Stopping:
		return "◑"
	case keep.Failed:
		return "✖"
	case keep.Finished:
		return "◆"
	}
	return "○"
}

// Level returns the sign of a finding's level.
func Level(l check.Level) string { return display.Signs(level(l)) }

func level(l check.Level) string {
	switch l {
	case check.Stops:
		return "✖"
	case check.Warns:
		return "▲"
	}
	return "·"
}
