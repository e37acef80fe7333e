package keep

import (
	"context"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/project"
)

// Effects returns what the declaration as it is now means for the services, in
// the order of a start. What is wrong with it comes back as declare.Problems.
func (k *Keeper) Effects(ctx context.Context) ([]insight.Effect, error) {
	now, err := project.OpenProfile(k.project.Home(), k.decl.Profile)
	if err != nil {
		return nil, err
	}
	return insight.Effects(ctx, k.project, now, k.services), nil
}

// Impact tells what else an operation on a service is about.
func (k *Keeper) Impact(service string) (insight.Impact, error) {
	return insight.ImpactOf(k.decl, service, k.services)
}

// Environment lists the variables that a service gets; see insight.Environment.
func (k *Keeper) Environment(service string, files bool) ([]project.Explained, error) {
	return k.project.EnvironmentWith(service, files)
}

// Wiring tells how the project is wired.
func (k *Keeper) Wiring() (insight.Wiring, error) { return insight.WiringOf(k.project, k.services) }

// writeEnvFile writes the declared env file, where a fact in it has changed.
func (k *Keeper) writeEnvFile() {
	if k.project == nil || k.decl.EnvFile == nil {
		return
	}
	tracked, err := k.project.WriteEnvFile()
	switch {
	case err != nil:
		k.log.Error("the env file", "why", err)
		k.warn("env file", err.Error())
	case tracked:
		k.warn("env file", k.decl.EnvFile.Write.Value+" is written with values of this machine, and git tracks it: take it out of git, or write another file")
	default:
		k.warn("env file", "")
	}
}
