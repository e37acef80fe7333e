// Package fault has the errors that the protocol tells a client, with their codes and
// the names of these.
package fault

import "fmt"

// Error is an error that a client is told.
type Error struct {
	Code    int32
	Name    string
	Message string
}

func (e *Error) Error() string { return e.Message }

func with(code int32, name, format string, args []any) *Error {
	return &Error{code, name, fmt.Sprintf(format, args...)}
}

// BadValue says that something is not what may stand in its place.
func BadValue(format string, args ...any) *Error { return with(2, "BadValue", format, args) }

// FailedToParse says that something can't be understood.
func FailedToParse(format string, args ...any) *Error { return with(9, "FailedToParse", format, args) }

// TypeMismatch says that something is of another type than what is expected.
func TypeMismatch(format string, args ...any) *Error { return with(14, "TypeMismatch", format, args) }

// TooLarge says that something made is larger than a document may be.
func TooLarge(format string, args ...any) *Error {
	return with(10334, "BSONObjectTooLarge", format, args)
}

// NotImplemented says that something of the protocol isn't here.
func NotImplemented(format string, args ...any) *Error {
	return with(238, "NotImplemented", format, args)
}
