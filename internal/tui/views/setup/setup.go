// Package setup is the screen on which a first declaration is made.
package setup

import (
	"errors"
	"slices"
	"strconv"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project/discover"
	"neighbour/internal/tui/ui"
	"neighbour/internal/tui/view"
)

// Spec describes the view of a proposal. Write becomes true when the user has it
// written.
func Spec(p *discover.Proposal, write *bool) view.Spec {
	return view.Spec{ID: "setup", Title: "setup", New: func(e *view.Env, _ any) (view.View, tea.Cmd) {
		s := newSetup(e, p)
		s.write = write
		return s, s.look()
	}}
}

// setup is the screen on which a first declaration is made: the services on
// the left, the file that they make on the right.
type setup struct {
	*view.Env
	p             *discover.Proposal
	width, height int // of the view
	row, column   int
	editing       *ui.Field
	kinds         []string
	here          map[string]discover.Here // by kind, and by name for programs
	problem       string
	asked         bool // leaving without a file was asked about
	write         *bool
	text          []string // the file
	owner         []string
	cut           int // the first row of the table that is shown
}

// Here brings what is installed: by kind, and for programs by their command.
type Here map[string]discover.Here

func newSetup(e *view.Env, p *discover.Proposal) *setup {
	s := &setup{Env: e, p: p, kinds: discover.Kinds()}
	s.column = nameColumn
	s.render()
	return s
}

// look looks for what is installed, which takes a moment.
func (s *setup) look() tea.Cmd {
	kinds, programs := s.kinds, map[string]discover.Service{}
	for _, v := range s.p.Services {
		if v.Kind == declare.DefaultKind {
			programs[hereKey(v)] = *v
		}
	}
	return func() tea.Msg {
		m := Here{}
		var mu sync.Mutex
		var all sync.WaitGroup
		find := func(key string, look func() discover.Here) {
			all.Go(func() {
				here := look()
				mu.Lock()
				m[key] = here
				mu.Unlock()
			})
		}
		for _, k := range kinds {
			find(k, func() discover.Here { return discover.Installed(k) })
		}
		for key, v := range programs {
			find(key, v.Here)
		}
		all.Wait()
		return view.Answer{Instance: s.Instance, Msg: m}
	}
}

// hereKey returns what a service's entry in here goes by.
func hereKey(v *discover.Service) string {
	if v.Kind == declare.DefaultKind {
		return "program " + strings.Join(v.Lines, " ")
	}
	return v.Kind
}

// missing returns what the services that are on lack, and the command that installs
// it.
func (s *setup) missing() (names []string, command string) {
	var packages []kind.Packages
	for _, v := range s.p.Services {
		if here := s.here[hereKey(v)]; v.On && here.Missing != "" && !slices.Contains(names, v.Name) {
			names, packages = append(names, v.Name), append(packages, here.Packages)
		}
	}
	return names, kind.InstallCommand(packages...)
}

// render makes the file anew.
func (s *setup) render() {
	text, owner := s.p.Render()
	s.text, s.owner = strings.Split(strings.TrimSuffix(text, "\n"), "\n"), owner
	s.problem = ""
	var problems declare.Problems
	if err := s.p.Check(); errors.As(err, &problems) {
		s.problem = problems[0].Message
		if problems[0].Key != "" {
			s.problem = problems[0].Key + ": " + s.problem
		}
		if problems[0].Remedy != "" {
			s.problem += "; " + strings.SplitN(problems[0].Remedy, "\n", 2)[0]
		}
	} else if err != nil {
		s.problem = err.Error()
	}
	if !slices.ContainsFunc(s.p.Services, func(v *discover.Service) bool { return v.On }) {
		s.problem = "no service is on, so there is nothing to write yet: switch one on with the space bar"
	}
}

// Update takes a message.
func (s *setup) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case Here:
		s.here = msg
	case tea.KeyPressMsg:
		s.editKey(msg)
	}
	return nil
}

// Fit tells the room there is.
func (s *setup) Fit(width, height int) {
	s.width, s.height = width, height
	room := s.room()
	s.cut = min(max(s.cut, s.row-room+1), s.row)
}

// room returns how many services the table shows.
func (s *setup) room() int { return max(3, (s.height-2)/2-2) }

// Typing reports whether a cell is changed.
func (s *setup) Typing() bool { return s.editing != nil }

// Close ends nothing.
func (*setup) Close() {}

// The columns of the table that can be changed.
const (
	nameColumn = iota
	kindColumn
	versionColumn
	portColumn
	setupColumns
)

// Bindings are the keys of the view.
func (s *setup) Bindings() []view.Binding {
	if s.editing != nil {
		does := view.Bind("", "what it is to be", nil).Shown("type")
		if s.editing.Choices != nil {
			does = view.Bind("", "or its first letter: another kind", nil).Shown("← →")
		}
		return []view.Binding{
			does,
			view.Bind("enter esc up down tab", "done", func(pressed string) tea.Cmd {
				s.editing = nil
				if pressed == "tab" {
					pressed = "right"
				}
				s.choose(pressed)
				return nil
			}).Shown("enter"),
		}
	}
	return []view.Binding{
		view.Bind("up down left right tab", "choose", func(pressed string) tea.Cmd {
			s.choose(pressed)
			return nil
		}).Shown("↑ ↓ ← →"),
		view.Act("space", "on or off", func() tea.Cmd {
			s.asked = false
			s.current().On = !s.current().On
			s.render()
			return nil
		}).Helps("switch the service on or off"),
		view.Act("enter", "change", func() tea.Cmd {
			s.asked = false
			s.begin()
			return nil
		}).Helps("change what is underlined"),
		view.Act("n", "add one", func() tea.Cmd {
			s.asked = false
			s.p.Add()
			s.row, s.column = len(s.p.Services)-1, nameColumn
			s.render()
			s.begin()
			return nil
		}).Helps("add a service"),
		view.Act("w", "write the file", func() tea.Cmd {
			s.asked = false
			if s.problem != "" {
				s.Say("not written: "+s.problem, true)
				return nil
			}
			*s.write = true
			return s.Leave()
		}),
		view.Bind("q esc", "leave without", func(pressed string) tea.Cmd {
			if s.asked {
				return s.Leave()
			}
			s.asked = true
			s.Say("leave without writing "+declare.FileName+"? "+pressed+" again leaves, any other key goes on", false)
			return nil
		}).Shown("q").Helps("leave without writing the file"),
	}
}

// choose moves to another cell.
func (s *setup) choose(pressed string) {
	s.asked = false
	switch pressed {
	case "up":
		s.row = max(0, s.row-1)
	case "down":
		s.row = min(len(s.p.Services)-1, s.row+1)
	case "left":
		s.column = max(0, s.column-1)
	case "right", "tab":
		s.column = min(setupColumns-1, s.column+1)
	}
}

func (s *setup) current() *discover.Service { return s.p.Services[s.row] }

// begin makes a cell a field.
func (s *setup) begin() {
	v := s.current()
	switch s.column {
	case nameColumn:
		s.editing = ui.TextField("name", v.Name, "", 40)
	case kindColumn:
		s.editing = &ui.Field{Label: "kind", Choices: s.kinds, Chosen: max(0, slices.Index(s.kinds, v.Kind))}
	case versionColumn:
		s.editing = ui.TextField("version", v.Version, "", 40)
	case portColumn:
		port := ""
		if v.Port != 0 {
			port = strconv.Itoa(v.Port)
		}
		s.editing = ui.TextField("port", port, "", 10)
	}
}

// editKey takes a key for the cell that is changed. What it holds counts as
// it changes, so that the file beside it shows it.
func (s *setup) editKey(k tea.KeyPressMsg) {
	if !s.editing.Press(k) {
		return
	}
	v, value := s.current(), s.editing.Value()
	v.On = true // who changes it wants it
	switch s.column {
	case nameColumn:
		v.Name = value
	case kindColumn:
		v.Kind = value
	case versionColumn:
		v.Version = value
	case portColumn:
		v.Port, _ = strconv.Atoi(value)
		if value != "" && (v.Port < 1 || v.Port > 65535) {
			v.Port = -1
		}
	}
	s.render()
}
