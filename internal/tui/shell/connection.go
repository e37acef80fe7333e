package shell

import (
	"context"
	"errors"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/api"
	"neighbour/internal/core/keeper/check"
	"neighbour/internal/tui/view"
)

type eventMsg struct {
	events   *api.Events
	snapshot api.Snapshot
	err      error
}

type connectedMsg struct {
	client *api.Client
	events *api.Events
	err    error
}

// listen opens the stream of events.
func (m *Model) listen(c *api.Client) tea.Cmd {
	return func() tea.Msg {
		events, err := c.Events(m.ctx)
		return connectedMsg{c, events, err}
	}
}

// reconnect tries to reach the keeper again after a moment.
func (m *Model) reconnect() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(time.Time) tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, view.CallLimit)
		defer cancel()
		c, err := m.opts.Connect(ctx)
		if err != nil {
			return connectedMsg{err: err}
		}
		events, err := c.Events(m.ctx)
		return connectedMsg{c, events, err}
	})
}

func next(events *api.Events) tea.Cmd {
	return func() tea.Msg {
		s, err := events.Next()
		return eventMsg{events, s, err}
	}
}

func (m *Model) connected(msg connectedMsg) tea.Cmd {
	if m.left.Stopped {
		return nil
	}
	m.asking, m.typed = false, nil
	if msg.err != nil {
		m.state.Lost = true
		return m.reconnect()
	}
	m.found = m.state.Lost
	m.state.Lost, m.refreshing, m.cut, m.fresh = false, false, false, true
	m.client = msg.client
	return tea.Batch(next(msg.events), m.CheckAgain())
}

func (m *Model) event(msg eventMsg) tea.Cmd {
	if msg.err != nil {
		msg.events.Close()
		if m.left.Stopped || m.ctx.Err() != nil {
			return nil
		}
		if m.refreshing { // a keeper that takes its place is awaited, or it stays and is reached anew
			m.cut = true
			return nil
		}
		m.state.Lost = true
		return m.reconnect()
	}
	return tea.Batch(next(msg.events), m.Told(msg.snapshot))
}

// Told takes what the keeper tells: at first everything, then what changed.
func (m *Model) Told(s api.Snapshot) tea.Cmd {
	m.state.Now = time.Now()
	if m.found {
		// A keeper that has read the declaration anew is the same process.
		m.found = false
		if s.Overview.PID == m.state.Overview.PID {
			m.Say("the declaration was read anew", false)
		} else {
			m.Say("the keeper answers again", false)
		}
	}
	m.state.Overview = s.Overview
	changed := view.Changed{Fresh: m.fresh}
	if m.fresh {
		m.fresh = false
		m.state.Order = m.state.Order[:0]
		clear(m.state.Services)
		for _, s := range s.Services {
			m.state.Order = append(m.state.Order, s.Name)
		}
	}
	for _, s := range s.Services {
		before := m.state.Services[s.Name]
		m.state.Services[s.Name] = s
		if before.State == s.State {
			continue
		}
		changed.Moved = true
		if s.State.Settled() {
			// What is there now may have changed what the checks find.
			m.checkAt = time.Now().Add(checkPause)
		}
	}
	return m.view.Update(changed)
}

// Findings is the message that brings what the checks found.
type Findings struct {
	All  []check.Finding
	Took time.Duration
	Err  error
}

// CheckAgain makes the checks.
func (m *Model) CheckAgain() tea.Cmd {
	if m.state.Checking || m.client == nil {
		return nil
	}
	m.state.Checking, m.checkAt = true, time.Time{}
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, view.CallLimit)
		defer cancel()
		began := time.Now()
		all, err := client.Checks(ctx)
		for range 10 { // it may just be replaced, and answer at the same place again
			if !errors.Is(err, api.ErrNoKeeper) && !errors.Is(err, api.ErrLost) {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(100 * time.Millisecond):
			}
			all, err = client.Checks(ctx)
		}
		return Findings{all, time.Since(began), err}
	}
}

func (m *Model) checked(msg Findings) tea.Cmd {
	m.state.Checking = false
	if msg.Err != nil {
		m.state.CheckErr = msg.Err.Error()
		return nil
	}
	m.state.Findings, m.state.CheckErr, m.state.CheckTook = msg.All, "", msg.Took
	return m.view.Update(view.Checked{})
}

// awaitedMsg brings what a question needs.
type awaitedMsg struct {
	show func() tea.Cmd
	err  error
}

// Await asks the keeper for what a question needs.
func (m *Model) Await(ask func(context.Context, *api.Client) (func() tea.Cmd, error)) tea.Cmd {
	m.asking = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, view.CallLimit)
		defer cancel()
		show, err := ask(ctx, client)
		return awaitedMsg{show, err}
	}
}

// awaited shows a question, and gives it the keys that were pressed meanwhile.
func (m *Model) awaited(msg awaitedMsg) tea.Cmd {
	typed := m.typed
	m.asking, m.typed = false, nil
	if msg.err != nil {
		text, _, _ := strings.Cut(msg.err.Error(), "\n")
		m.Say(text, true)
		return nil
	}
	cmds := []tea.Cmd{msg.show()}
	for _, k := range typed {
		if m.panel == nil {
			break // answered, or there was nothing to ask
		}
		cmds = append(cmds, m.key(k))
	}
	return tea.Batch(cmds...)
}

// Renew lets the keeper be replaced by one that has read the declaration as
// it is now, if it has changed and nothing runs.
func (m *Model) Renew() tea.Cmd {
	if m.opts.Refresh == nil {
		return nil
	}
	m.refreshing = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, view.CallLimit)
		defer cancel()
		c, err := m.opts.Refresh(ctx, client)
		if err != nil || c == client {
			return view.Later(func() tea.Cmd { return m.stays(err) })
		}
		events, err := c.Events(m.ctx)
		return connectedMsg{c, events, err}
	}
}

// stays says that the keeper stays, or why it could not be replaced.
func (m *Model) stays(err error) tea.Cmd {
	m.refreshing = false
	if m.cut { // it was replaced all the same, by what somebody else has done
		m.cut, m.state.Lost = false, true
		return m.reconnect()
	}
	if err != nil {
		m.Say(err.Error(), true)
	}
	return nil
}

// Apply has the declaration applied, and waits for the keeper that has read
// it.
func (m *Model) Apply() tea.Cmd {
	m.Say("applying the declaration", false)
	m.refreshing = true
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, view.StopLimit)
		defer cancel()
		if _, err := client.Apply(ctx); err != nil {
			return view.Later(func() tea.Cmd { return m.stays(err) })
		}
		for {
			c, err := m.opts.Connect(ctx)
			if err == nil {
				var k api.Keeper
				if k, err = c.Hello(ctx); err == nil && !k.Stale {
					events, err := c.Events(m.ctx)
					return connectedMsg{c, events, err}
				}
				c.Close()
			}
			select {
			case <-ctx.Done():
				return connectedMsg{err: ctx.Err()}
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
}
