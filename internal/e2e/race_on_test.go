//go:build race

package e2e

// The program is built with the race detector if its tests are.
const withRace = true
