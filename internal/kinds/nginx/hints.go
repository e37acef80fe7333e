package nginx

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints { return kind.Hints{Name: "web", Front: true} }
