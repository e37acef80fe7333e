package command

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/charmbracelet/x/term"

	"neighbour/internal/display"
)

// Confirm asks a question on the terminal, and reports whether it was answered
// with yes. Without a terminal it fails.
func (a *App) Confirm(question string) (bool, error) {
	ok, err := a.AskYes(question)
	if err != nil || ok {
		return ok, err
	}
	fmt.Fprintln(a.Err, "nothing was done")
	return false, Silent{}
}

// AskYes asks, and reports whether the answer was yes.
func (a *App) AskYes(question string) (bool, error) {
	if !term.IsTerminal(os.Stdin.Fd()) {
		return false, UsageError{fmt.Errorf("%s Nobody is there to be asked; --yes answers it", display.Clean(question))}
	}
	fmt.Fprintf(a.Err, "%s [y/N] ", display.Clean(question))
	a.Err.Flush()
	line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	answer := strings.ToLower(strings.TrimSpace(line))
	return answer == "y" || answer == "yes", nil
}
