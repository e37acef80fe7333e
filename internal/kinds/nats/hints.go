package nats

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "NATS", Name: "bus",
		Libraries: []string{"nats", "@nats-io/*", "github.com/nats-io/nats.go", "nats-py", "nats-pure"},
		Schemes:   []string{"nats"},
		Ports:     []int{4222},
		Words:     []string{"NATS"},
		Purposes:  map[string]int{"BROKER": 3},
		Variable:  "NATS_URL", Address: "url",
	}
}
