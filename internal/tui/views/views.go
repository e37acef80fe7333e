// Package views lists the views.
package views

import (
	"neighbour/internal/tui/view"
	"neighbour/internal/tui/views/checks"
	"neighbour/internal/tui/views/data"
	"neighbour/internal/tui/views/errands"
	"neighbour/internal/tui/views/logs"
	mapview "neighbour/internal/tui/views/map"
	"neighbour/internal/tui/views/projects"
	"neighbour/internal/tui/views/snapshots"
	"neighbour/internal/tui/views/starts"
	"neighbour/internal/tui/views/traffic"
	"neighbour/internal/tui/views/usage"
	"neighbour/internal/tui/views/wiring"
)

// All are the views, in the order of their keys. The first one opens at first.
func All() []view.Spec {
	return []view.Spec{mapview.Spec, logs.Spec, wiring.Spec, starts.Spec, errands.Spec, usage.Spec, checks.Spec, data.Spec, traffic.Spec, projects.Spec, snapshots.Spec}
}
