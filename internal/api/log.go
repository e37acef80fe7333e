package api

import (
	"fmt"
	"io"
	"log/slog"
	"os"
	"syscall"

	"neighbour/internal/core/project"
)

// lines writes whole lines to a file: one that a full disk has cut is ended before the next.
// A handler of slog writes one at a time.
type lines struct {
	to  io.Writer
	cut bool // the last one was
}

func (l *lines) Write(b []byte) (int, error) {
	if l.cut {
		if _, err := l.to.Write([]byte{'\n'}); err != nil {
			return 0, err
		}
		l.cut = false
	}
	n, err := l.to.Write(b)
	l.cut = n > 0 && n < len(b)
	return n, err
}

// cut reports whether a file ends within a line.
func cut(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	last := make([]byte, 1)
	if _, err := f.Seek(-1, io.SeekEnd); err != nil {
		return false
	}
	_, err = f.Read(last)
	return err == nil && last[0] != '\n'
}

// logLimit is the size at which the keeper's own log is put aside.
const logLimit = 5 << 20

func openLog(p *project.Project) (*slog.Logger, func() error, error) {
	path := p.KeeperLog()
	if info, err := os.Stat(path); err == nil && info.Size() > logLimit {
		if err := os.Rename(path, path+".1"); err != nil {
			return nil, nil, err
		}
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, nil, fmt.Errorf("the keeper's log can't be written: %w", err)
	}
	return slog.New(slog.NewJSONHandler(&lines{to: f, cut: cut(f.Name())}, nil)), f.Close, nil
}
