package functions

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// files knows the state of a folder's files, so that a change is seen at the next look,
// without a walk through all folders each time: what comes, goes or is renamed changes the
// time of its folder.
type files struct {
	dir   string
	known map[string]stamp
	round int // counts the changes
}

type stamp struct {
	time time.Time
	size int64
	mode fs.FileMode
}

// mostFiles bounds how many files are looked at.
const mostFiles = 5000

// passedOver are folders in which functions are not written.
var passedOver = map[string]bool{"node_modules": true, "__pycache__": true, "vendor": true, "venv": true}

func stampOf(path string) stamp {
	info, err := os.Stat(path)
	if err != nil {
		return stamp{}
	}
	s := stamp{time: info.ModTime(), size: info.Size(), mode: info.Mode()}
	if info.IsDir() {
		s.size = 0
	}
	return s
}

// look returns a number that is another whenever a file has changed.
func (f *files) look() int {
	same := f.known != nil
	for path, was := range f.known {
		is := stampOf(path)
		if is.time.Equal(was.time) && is.size == was.size && is.mode == was.mode {
			continue
		}
		same = false
		break
	}
	if same {
		return f.round
	}
	f.round++
	f.known = map[string]stamp{f.dir: stampOf(f.dir)}
	_ = filepath.WalkDir(f.dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil || path == f.dir:
			return nil
		case e.IsDir() && (passedOver[e.Name()] || strings.HasPrefix(e.Name(), ".")):
			return fs.SkipDir
		case len(f.known) >= mostFiles:
			return fs.SkipAll
		}
		f.known[path] = stampOf(path)
		return nil
	})
	return f.round
}
