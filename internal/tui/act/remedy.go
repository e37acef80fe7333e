// Package act has what several views do through the keeper.
package act

import (
	"context"
	"os/exec"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/tui/panel"
	"neighbour/internal/tui/view"
)

// Remedy does something about a finding; what ends something is asked first.
func Remedy(e *view.Env, f check.Finding, a check.Action) tea.Cmd {
	if !a.Asks {
		return carryOut(e, f, a)
	}
	e.Show(&panel.Question{
		Env: e, Title: strings.ToUpper(a.Label[:1]) + a.Label[1:] + "?", Text: a.Says + ".", Yes: a.Label,
		Then: func() tea.Cmd { return carryOut(e, f, a) },
	})
	return nil
}

func carryOut(e *view.Env, f check.Finding, a check.Action) tea.Cmd {
	if a.Do == check.InTerminal {
		return inTerminal(e, a)
	}
	e.Say(a.Label, false)
	client, ctx := e.Client(), e.Context()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(ctx, view.StopLimit)
		defer cancel()
		says, err := client.Remedy(ctx, f.ID, a)
		return view.Later(func() tea.Cmd { return remedied(e, says, err) })
	}
}

// inTerminal steps aside for a command that may ask, and then makes the checks.
func inTerminal(e *view.Env, a check.Action) tea.Cmd {
	// What it says last is to be read.
	script := `"$@"; code=$?; printf '\n%s' "Enter goes back. "; read _; exit $code`
	cmd := exec.Command("/bin/sh", append([]string{"-c", script, "sh"}, strings.Fields(a.Command)...)...)
	return tea.ExecProcess(cmd, func(err error) tea.Msg {
		return view.Later(func() tea.Cmd {
			says := a.Command + " ended well"
			if err != nil {
				says = a.Command + ": " + err.Error()
			}
			e.Say(says, err != nil)
			return e.CheckAgain()
		})
	})
}

func remedied(e *view.Env, says string, err error) tea.Cmd {
	if err != nil {
		says = err.Error()
	}
	e.Say(says, err != nil)
	return tea.Batch(e.CheckAgain(), e.Renew())
}

// Do has the keeper do something with services, which may take as long as
// stopping them does.
func Do(e *view.Env, says string, do func(context.Context, *api.Client) error) tea.Cmd {
	e.Say(says, false)
	return e.Call(view.StopLimit, do)
}
