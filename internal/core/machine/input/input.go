// Package input reads files that others have made: a project's, which may come
// from anywhere. What is no file, or larger than such a file ever is, is
// refused rather than waited for.
package input

import (
	"fmt"
	"io"
	"os"
	"syscall"
)

// Limit is how large a file of a project may be that is read as a whole, in
// bytes.
const Limit = 1 << 20

// Read reads a file of at most Limit bytes. Its errors are those of os.ReadFile,
// or say that it is no regular file, or too large.
func Read(path string) ([]byte, error) { return ReadUpTo(path, Limit) }

// ReadUpTo is Read with another limit, in bytes.
func ReadUpTo(path string, limit int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(b)) > limit {
		return nil, fmt.Errorf("%s has more than %d MB, which no file of its sort has", path, limit>>20)
	}
	return b, err
}

// Open opens a regular file for reading, whatever its size. A pipe without a
// writer is not waited for.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		what := "no regular file"
		if info.IsDir() {
			what = "a folder"
		}
		err = fmt.Errorf("%s is %s", path, what)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
