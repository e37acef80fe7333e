package launch

import (
	"net"
	"strconv"
	"strings"

	"neighbour/internal/core/machine/probe"
)

// declaresCheck reports whether the declaration names a check.
func (d *Driver) declaresCheck() bool {
	h := d.svc.Health
	return h != nil && (h.HTTP.Value != "" || h.TCP.Value != "" || !h.Run.IsZero() || h.Log.Regexp != nil)
}

// Probe returns the declared check, or else the kind's own.
func (d *Driver) Probe() (probe.Probe, error) {
	in := d.current()
	if !d.declaresCheck() {
		return d.kind.Probe(in)
	}
	h := d.svc.Health
	switch {
	case h.HTTP.Value != "":
		f, err := in.Expand(h.HTTP.Value)
		if err != nil {
			return nil, err
		}
		address := f.Value
		check := probe.HTTP{URLs: []string{address}, Status: h.Status, Header: h.Header, Body: h.Body}
		if strings.HasPrefix(address, "/") {
			number := strconv.Itoa(in.Port)
			check.URLs = []string{"http://127.0.0.1:" + number + address, "http://[::1]:" + number + address}
		}
		return check, nil
	case h.TCP.Value != "":
		f, err := in.Expand(h.TCP.Value)
		if err == nil {
			_, _, err = net.SplitHostPort(f.Value)
		}
		return probe.TCP(f.Value), err
	case !h.Run.IsZero():
		argv, err := in.Argv(h.Run)
		if err != nil {
			return nil, err
		}
		env, err := d.project.Environment(d.svc)
		if err != nil {
			return nil, err
		}
		check := probe.Run{Argv: argv, Env: env, Dir: d.project.Dir, Attributes: in.Account.Attributes()}
		if l, err := d.kind.Launch(in.AsIs()); err == nil {
			check.Dir = l.Dir
		}
		return check, nil
	}
	return d.match, nil
}
