package emulator

import (
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/machine/port"
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

// Pages are the origins of pages of other sites that may call an emulator: "https://app.example.org".
type Pages []string

// Check reports those that are no origins.
func (p Pages) Check(report func(key, message, remedy string)) {
	for i, origin := range p {
		u, err := url.Parse(origin)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || origin != u.Scheme+"://"+u.Host {
			report(fmt.Sprintf("cors[%d]", i), strconv.Quote(origin)+" is no origin of a page", `write for example "https://app.example.org"`)
		}
	}
}

// Answered answers a request of a page of another site: it refuses one that is not among these, and
// tells the browser of those that are what they may do (Fetch standard, CORS protocol). It returns
// false for what is to be answered as usual. Names are the host names of the emulator.
func (p Pages) Answered(w http.ResponseWriter, r *http.Request, names []string) bool {
	origin := r.Header.Get("Origin")
	if !slices.Contains(p, origin) {
		if localname.Foreign(r, names...) {
			http.Error(w, "A page of another site may not do this, unless it is in cors of the declaration.", http.StatusForbidden)
			return true
		}
		return false
	}
	h := w.Header()
	h.Add("Vary", "Origin")
	h.Set("Access-Control-Allow-Origin", origin)
	if r.Method != http.MethodOptions || r.Header.Get("Access-Control-Request-Method") == "" {
		return false
	}
	h.Set("Access-Control-Allow-Methods", r.Header.Get("Access-Control-Request-Method"))
	if headers := r.Header.Get("Access-Control-Request-Headers"); headers != "" {
		h.Set("Access-Control-Allow-Headers", headers)
	}
	w.WriteHeader(http.StatusNoContent)
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
