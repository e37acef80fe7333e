package tui

import "neighbour/internal/core/check"

// LevelShape returns the sign of a finding's level.
func LevelShape(l check.Level) string { return signs(levelShape(l)) }

func levelShape(l check.Level) string {
	switch l {
	case check.Stops:
		return "✖"
	case check.Warns:
		return "▲"
	}
	return "·"
}

func levelInk(l check.Level) ink {
	switch l {
	case check.Stops:
		return stateBad
	case check.Warns:
		return stateWarn
	}
	return faint
}
