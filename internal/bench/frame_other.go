//go:build !linux

package main

import (
	"errors"
	"time"
)

func firstFrame() (time.Duration, error) {
	return 0, errors.New("measured on Linux only")
}
