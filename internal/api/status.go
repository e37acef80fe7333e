package api

import (
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
)

// What the keeper tells is sent as it is.
type (
	// Overview is what holds for the project as a whole.
	Overview = keep.Overview
	// Snapshot is the whole project at one time, the services by step and name.
	Snapshot = keep.Snapshot
	// Status is how a service is.
	Status = supervise.Status
)
