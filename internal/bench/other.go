//go:build !linux

package main

import (
	"errors"
	"time"
)

var errLinux = errors.New("only Linux has what this measurement needs")

func firstFrame() (time.Duration, error) { return 0, errLinux }

func printLoud(string) error { return errLinux }

func benchLoud(string) error { return errLinux }

func benchSearch(string) error { return errLinux }

func benchMany(string) error { return errLinux }

func benchWatchers(string) error { return errLinux }
