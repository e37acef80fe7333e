package beanstalkd

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "beanstalkd", Name: "jobs",
		Libraries: []string{"fivebeans", "github.com/beanstalkd/go-beanstalk", "greenstalk", "beaneater", "pda/pheanstalk"},
		Schemes:   []string{"beanstalk", "beanstalkd"},
		Ports:     []int{11300},
		Words:     []string{"BEANSTALKD", "BEANSTALK"},
		Purposes:  map[string]int{"QUEUE": 3},
		Variable:  "BEANSTALKD_ADDRESS", Address: "address",
	}
}
