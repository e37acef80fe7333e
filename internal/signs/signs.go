// Package signs has the signs of states and levels, for the screen and the
// commands alike.
package signs

import (
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/display"
)

// State returns the sign of a state. Each state has its own, so that none is told
// by its colour alone.
func State(s supervise.State) string { return display.Signs(state(s)) }

func state(s supervise.State) string {
	switch s {
	case supervise.Waiting:
		return "◌"
	case supervise.Preparing:
		return "◔"
	case supervise.Starting:
		return "◐"
	case supervise.Ready:
		return "●"
	case supervise.Held:
		return "◉"
	case supervise.Ailing:
		return "▲"
	case supervise.Stopping:
		return "◑"
	case supervise.Failed:
		return "✖"
	case supervise.Finished:
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
