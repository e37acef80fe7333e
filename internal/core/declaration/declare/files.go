package declare

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"neighbour/internal/core/machine/input"
)

// LocalFileName is the name of the file beside the declaration that changes
// it for one machine. It is never committed.
const LocalFileName = "neighbour.local.toml"

// KindsFileName is the name of the file with a user's own kinds, in the
// user's folder for configuration.
const KindsFileName = "kinds.toml"

// Files are what a declaration is made of.
type Files struct {
	Path  string // the declaration's
	Main  []byte // its contents
	Local []byte // those of the file that changes it for this machine; nil: none
	// Kinds declares kinds for all projects of this user; nil: none.
	Kinds     []byte
	KindsPath string
	// Profile is the name of the chosen profile, "" for none.
	Profile string
}

// ReadFiles reads the files of the declaration at path. Its lack is a
// *MissingError. A configuration folder that is "" has no kinds.
func ReadFiles(path, config, profile string) (Files, error) {
	f := Files{Path: path, Profile: profile, KindsPath: filepath.Join(config, KindsFileName)}
	var err error
	if f.Main, err = read(path); err != nil {
		return f, err
	}
	if f.Main == nil {
		return f, &MissingError{Dir: filepath.Dir(path)}
	}
	if f.Local, err = read(filepath.Join(filepath.Dir(path), LocalFileName)); err != nil || config == "" {
		return f, err
	}
	f.Kinds, err = read(f.KindsPath)
	return f, err
}

// read returns nil for a file that isn't there.
func read(path string) ([]byte, error) {
	b, err := input.Read(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, fmt.Errorf("the declaration can't be read: %w", err)
	case b == nil:
		return []byte{}, nil
	}
	return b, nil
}

// Equal reports whether two sets of files declare the same.
func (f Files) Equal(g Files) bool {
	return f.Profile == g.Profile && bytes.Equal(f.Main, g.Main) && bytes.Equal(f.Local, g.Local) && bytes.Equal(f.Kinds, g.Kinds)
}
