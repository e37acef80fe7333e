package objects

import (
	"encoding/xml"
	"errors"
	"net/http"
	"syscall"
)

// Error is an error of the protocol.
type Error struct {
	XMLName  xml.Name `xml:"Error"`
	Code     string
	Message  string
	Resource string `xml:",omitempty"`
	// What goes with some of them.
	Key                  string `xml:",omitempty"`
	BucketName           string `xml:",omitempty"`
	AWSAccessKeyId       string `xml:",omitempty"`
	ServerTime           string `xml:",omitempty"`
	MaxAllowedSkewMillis int    `xml:"MaxAllowedSkewMilliseconds,omitempty"`
	StringToSign         string `xml:",omitempty"`
	CanonicalRequest     string `xml:",omitempty"`
	SignatureProvided    string `xml:",omitempty"`
	HeadersNotSigned     string `xml:",omitempty"`
	Status               int    `xml:"-"`
}

func (e *Error) Error() string { return e.Message }

// Is reports whether another error has the same code.
func (e *Error) Is(other error) bool {
	o, ok := other.(*Error)
	return ok && o.Code == e.Code
}

var (
	errNoSuchBucket  = &Error{Code: "NoSuchBucket", Status: 404, Message: "The specified bucket does not exist"}
	errNoSuchKey     = &Error{Code: "NoSuchKey", Status: 404, Message: "The specified key does not exist."}
	errNoSuchVersion = &Error{Code: "NoSuchVersion", Status: 404, Message: "The specified version does not exist."}
	errNoSuchUpload  = &Error{Code: "NoSuchUpload", Status: 404, Message: "The specified multipart upload does not exist. The upload ID may be invalid, or the upload may have been aborted or completed."}
	errPrecondition  = &Error{Code: "PreconditionFailed", Status: 412, Message: "At least one of the pre-conditions you specified did not hold"}
	errAccessDenied  = &Error{Code: "AccessDenied", Status: 403, Message: "Access Denied"}
	errBadDigest     = &Error{Code: "BadDigest", Status: 400, Message: "The Content-MD5 or checksum value that you specified did not match what the server received."}
	errMalformedXML  = &Error{Code: "MalformedXML", Status: 400, Message: "The XML you provided was not well-formed or did not validate against our published schema"}
)

var errNameTooLong = syscall.ENAMETOOLONG

// notHere says that something of the protocol isn't here.
func notHere(what string) error {
	return &Error{Code: "NotImplemented", Status: 501, Message: what + " is not here"}
}

func invalid(message string) error {
	return &Error{Code: "InvalidArgument", Status: 400, Message: message}
}

// asError is an error as the protocol tells it.
func asError(err error) *Error {
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	if errors.Is(err, syscall.ENOSPC) {
		return &Error{Code: "InsufficientStorage", Status: http.StatusInsufficientStorage, Message: "there is no room left on the disk"}
	}
	return &Error{Code: "InternalError", Status: 500, Message: err.Error()}
}
