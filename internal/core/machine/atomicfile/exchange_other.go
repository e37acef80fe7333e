//go:build !linux

package atomicfile

import "errors"

// exchange is not known here.
func exchange(string, string) error { return errors.ErrUnsupported }
