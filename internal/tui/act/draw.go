package act

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/draw"
	"neighbour/internal/tui/view"
)

// Draw writes a figure as SVG into the folder that the screen was started in, and
// says where it went. What is there already stays.
func Draw(e *view.Env, what string, f *draw.Figure) tea.Cmd {
	name := fmt.Sprintf("%s-%s", e.Overview.Project, what)
	return func() tea.Msg {
		path, err := writeNew(name, f)
		return view.Later(func() tea.Cmd {
			if err != nil {
				e.Say("not drawn: "+err.Error(), true)
			} else {
				e.Say("drawn: "+path, false)
			}
			return nil
		})
	}
}

func writeNew(name string, f *draw.Figure) (string, error) {
	return WriteNew(name+".svg", 0o644, func(w io.Writer) error { return f.Write(w, "svg") })
}

// WriteNew makes a file in the folder that the screen was started in, with another
// number in its name if one of that name is there. It returns the whole path; a
// file that could not be written to its end stays as it is.
func WriteNew(name string, rights fs.FileMode, write func(io.Writer) error) (path string, err error) {
	base, ext := strings.TrimSuffix(name, filepath.Ext(name)), filepath.Ext(name)
	for i := 1; ; i++ {
		path = name
		if i > 1 {
			path = fmt.Sprintf("%s-%d%s", base, i, ext)
		}
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, rights)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return path, err
		}
		err = write(f)
		if whole, absErr := filepath.Abs(path); absErr == nil {
			path = whole
		}
		return path, errors.Join(err, f.Close())
	}
}
