package emulator

import (
	"net"
	"net/http"

	"neighbour/internal/core/localname"
	"neighbour/internal/core/port"
)

// Refused reports whether a request for what is its user's alone, such as what a server was asked or
// the mails that it took, is refused, and answers it then: it comes from another user of this
// machine, or from a page of another site.
func Refused(w http.ResponseWriter, r *http.Request) bool {
	switch {
	case Stranger(r):
		http.Error(w, "This is for the user alone who runs it.", http.StatusForbidden)
	case localname.Foreign(r):
		http.Error(w, "A page of another site may not do this.", http.StatusForbidden)
	default:
		return false
	}
	return true
}

// Stranger reports whether a request comes from another user of this machine than the one whose
// server it has reached, and not from root. Where the system can't tell it is false.
func Stranger(r *http.Request) bool {
	local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !ok { // it came by no connection
		return false
	}
	remote, err := net.ResolveTCPAddr("tcp", r.RemoteAddr)
	return err == nil && port.Strangers(local, remote)
}
