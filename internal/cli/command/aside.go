package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"neighbour/internal/core/declaration/wire"
)

// RunAside runs a command that may ask for a password.
func (a *App) RunAside(ctx context.Context, argv []string) error {
	a.Out.Flush()
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Stdin = os.Stdin
	b, err := cmd.CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) && argv[0] == "sudo" {
		return errors.New("this needs the administrator's rights, and there is no sudo; as the administrator, run: " + wire.QuoteCommand(argv[1:]))
	}
	if err != nil {
		return fmt.Errorf("%w: %s", err, strings.TrimSpace(string(b)))
	}
	return nil
}
