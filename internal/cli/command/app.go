// Package command is what the commands share: the project that they are of, questions, progress,
// tables, completion, and the errors that become exit codes.
package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/project"
)

// UsageError says that a command line is not one of the program's: the exit code is 2.
type UsageError struct{ error }

// Misuse returns a UsageError with what is wrong.
func Misuse(err error) error { return UsageError{err} }

// Silent is a failure that was explained already: only the exit code, 1, is left to tell.
type Silent struct{}

func (Silent) Error() string { return "failed" }

// ExitError is the exit code of a command that was run.
type ExitError struct{ Code int }

func (e ExitError) Error() string { return fmt.Sprintf("exit %d", e.Code) }

// Exit returns an ExitError.
func Exit(code int) error { return ExitError{code} }

// App is what the commands share: what the flags before them say, and where they print.
type App struct {
	Dir  string // -C
	Copy string // --copy
	// Out and Err are for people, and clean what is printed. Values that are
	// asked for as they are go to Raw, and what changes lines in place to Live.
	Out, Err  *Cleaner
	Raw, Live *os.File
	Screens   Screens
}

// CollectLess has garbage collected less often, up to an amount of memory in
// bytes. A start is a burst of garbage at the very time when the processor is
// wanted for what is started, and a screen should answer a key at once.
func CollectLess(limit int64) {
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(limit)
}

// Names returns the names of the commands in the help.
func Names(root *cobra.Command) []string {
	var out []string
	for _, c := range root.Commands() {
		if !c.Hidden {
			out = append(out, c.Name())
		}
	}
	return out
}

// Project opens the project of -C.
func (a *App) Project() (*project.Project, error) {
	if err := a.EnterCopy(); err != nil {
		return nil, err
	}
	p, err := project.Open(a.Dir)
	var copied *project.CopiedError
	if errors.As(err, &copied) && Terminal(os.Stdin) {
		yes, askErr := a.AskYes(fmt.Sprintf("%s is a copy of %s. Have it be a project of its own? It gets a copy of the data, and other ports; nothing of the other is touched.", copied.Dir, copied.From))
		if askErr != nil || !yes {
			return nil, errors.Join(askErr, err)
		}
		if _, err := project.Vouch(a.Dir, false); err != nil {
			return nil, err
		}
		p, err = project.Open(a.Dir)
	}
	if err == nil && p.LostProfile != "" {
		fmt.Fprintf(a.Err, "%s has no profile %s any more; what runs goes on with it until it is stopped\n", declare.FileName, p.LostProfile)
	}
	var none *declare.MissingError
	if errors.As(err, &none) {
		if left := project.Undeclared(a.Dir); left != nil && api.Busy(context.Background(), left) {
			return nil, &UndeclaredError{Left: left, Err: err}
		}
	}
	return p, err
}

// UndeclaredError says that a project runs which has no declaration any more.
type UndeclaredError struct {
	Left *project.Project // what is known of it
	Err  error            // why there is none
}

// Unwrap returns why there is no declaration.
func (e *UndeclaredError) Unwrap() error { return e.Err }

func (e *UndeclaredError) Error() string {
	return fmt.Sprintf("there is no %s in %s any more, and what it declared runs still: bring it back, or end that with: neighbour stop", declare.FileName, e.Left.Dir)
}

// Terminal reports whether a file is a terminal.
func Terminal(f *os.File) bool { return term.IsTerminal(f.Fd()) }

// FullScreen reports whether there is a terminal that can show one.
func FullScreen() bool {
	return Terminal(os.Stdin) && Terminal(os.Stdout) && os.Getenv("TERM") != "dumb"
}

// ProgramName returns what to type to run this program again from the current
// directory: "neighbour" if PATH leads to it, else the path it was called by.
func ProgramName() string {
	const usual = "neighbour"
	self, err := os.Executable()
	if err != nil {
		return usual
	}
	if found, err := exec.LookPath(usual); err == nil && sameFile(found, self) {
		return usual
	}
	if called := os.Args[0]; strings.ContainsRune(called, filepath.Separator) && sameFile(called, self) {
		return wire.QuoteCommand([]string{called})
	}
	return wire.QuoteCommand([]string{self})
}

// sameFile reports whether two paths lead to one file.
func sameFile(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}

// DirFlag returns the -C that leads to a project from here, if it needs one.
func (a *App) DirFlag(p *project.Project) string {
	if here, err := project.Open("."); err == nil && here.Home() == p.Home() {
		return ""
	} else if err == nil && here.Dir == p.Dir {
		return " --copy " + p.Copy
	}
	return " -C " + p.Home()
}
