//go:build !race

package e2e

const withRace = false
