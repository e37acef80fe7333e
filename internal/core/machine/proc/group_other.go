//go:build !linux

package proc

import (
	"errors"
	"syscall"
)

// Group bounds what processes use. This system has none.
type Group struct{}

// Confine fails: only Linux has control groups.
func Confine(string, int64, float64) (*Group, error) {
	return nil, errors.New("only Linux has control groups")
}

func (g *Group) enter(*syscall.SysProcAttr) (leave func(), err error) { return func() {}, nil }

// Killed returns 0.
func (g *Group) Killed() int { return 0 }

// Remove does nothing.
func (g *Group) Remove() {}
