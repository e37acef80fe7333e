package act

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

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
	var b bytes.Buffer
	if err := f.Write(&b, "svg"); err != nil {
		return "", err
	}
	for i := 1; ; i++ {
		path := name + ".svg"
		if i > 1 {
			path = fmt.Sprintf("%s-%d.svg", name, i)
		}
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return "", err
		}
		_, err = file.Write(b.Bytes())
		if whole, absErr := filepath.Abs(path); absErr == nil {
			path = whole
		}
		return path, errors.Join(err, file.Close())
	}
}
