package trust

import (
	"context"
	"net/url"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/machine/authority"
	"neighbour/internal/core/project"
)

// Openable returns the address by which a browser of this machine opens a public one without a
// warning: as it is if browsers trust this user's authority, else by http.
func Openable(ctx context.Context, public string, httpsOnly bool) string {
	u, err := url.Parse(public)
	if err != nil || u.Scheme != "https" || httpsOnly {
		return public
	}
	own, err := authority.Open(project.AuthorityDir())
	if err != nil {
		return public
	}
	c := own.Certificate()
	a := Authority{Certificate: c, File: own.Path(), Name: c.Subject.CommonName}
	stores := Here().browsers(ctx, a)
	if runtime.GOOS == "darwin" {
		stores = append(stores, Here().system(a)...)
	}
	if len(stores) > 0 && !slices.ContainsFunc(stores, func(s Store) bool { return !s.Trusted }) {
		return public
	}
	ports, err := project.ReadGatePorts()
	if err != nil {
		return public
	}
	u.Scheme, u.Host = "http", u.Hostname()
	if ports.HTTP != 80 {
		u.Host += ":" + strconv.Itoa(ports.HTTP)
	}
	return strings.TrimSuffix(u.String(), "/")
}
