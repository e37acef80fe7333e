package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"

	"neighbour/internal/api"
	"neighbour/internal/core/project"
)

// EnvironmentWith returns what a command gets that is run with a service: the
// user's own environment, and what the service gets or what leads to it.
func EnvironmentWith(ctx context.Context, p *project.Project, service string) ([]string, error) {
	vars, err := api.Ask(ctx, p).Environment(ctx, service, false)
	if err != nil {
		return nil, err
	}
	return project.Merge(os.Environ(), vars), nil
}

// Replace makes this process the command, so that the terminal, its signals
// and the exit code are the command's own.
func Replace(argv, env []string, dir string) error {
	if err := os.Chdir(dir); err != nil {
		return err
	}
	// The command is looked for where it will look itself.
	for _, v := range env {
		if path, ok := strings.CutPrefix(v, "PATH="); ok {
			if err := os.Setenv("PATH", path); err != nil {
				return err
			}
		}
	}
	path, err := exec.LookPath(argv[0])
	if err != nil && !errors.Is(err, exec.ErrDot) {
		return fmt.Errorf("there is no command %s", argv[0])
	}
	return syscall.Exec(path, argv, env)
}

// WithService returns the variables that lead to a service, none for "".
func WithService(ctx context.Context, p *project.Project, service string) ([]project.Explained, error) {
	if service == "" {
		return nil, nil
	}
	return api.Ask(ctx, p).Environment(ctx, service, false)
}
