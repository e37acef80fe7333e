package server

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/project"
)

// lan is the front of one project, opened to others in this machine's network. They come by
// the machine's address, and get that front and nothing else.
type lan struct {
	address string // host and port
	network *net.IPNet
	server  *http.Server
}

func (l *lan) url() string {
	if l == nil {
		return ""
	}
	return "http://" + l.address
}

// outward returns the address that this machine has in its network, and the network. Nothing
// is sent.
func outward() (net.IP, *net.IPNet, error) {
	conn, err := net.Dial("udp4", "192.0.2.1:9") // RFC 5737: nobody's address
	if err != nil {
		return nil, nil, fmt.Errorf("this machine is in no network: %w", err)
	}
	defer conn.Close()
	own := conn.LocalAddr().(*net.UDPAddr).IP
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil, nil, err
	}
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && n.IP.Equal(own) && !own.IsLoopback() {
			return own, n, nil
		}
	}
	return nil, nil, fmt.Errorf("this machine is in no network")
}

// openLAN opens what is to be reached from the machine's network, and closes what no longer is.
// The lock is held.
func (s *server) openLAN() {
	here := sync.OnceValues(func() (lan, error) {
		own, network, err := outward()
		return lan{address: own.String(), network: network}, err
	})
	s.openEach(func(dir, name string) error {
		at, err := here()
		if err != nil {
			return err
		}
		return s.openOne(dir, name, net.ParseIP(at.address), at.network)
	})
}

// openEach is openLAN with what opens one project. One that can't be opened is in no other's way.
func (s *server) openEach(open func(dir, name string) error) {
	wanted := map[string]bool{}
	for _, m := range s.projects {
		if m.at.LAN == "" {
			continue
		}
		wanted[m.Dir] = true
		delete(s.lanProblems, m.Dir)
		if err := open(m.Dir, m.at.LAN); err != nil {
			s.closeOne(m.Dir)
			s.lanProblems[m.Dir] = "lan = true: others can't reach the project: " + err.Error()
		}
	}
	for dir := range s.lan {
		if !wanted[dir] {
			s.closeOne(dir)
		}
	}
}

func (s *server) closeOne(dir string) {
	if l := s.lan[dir]; l != nil {
		l.server.Close()
		delete(s.lan, dir)
		s.log.Info("closed to the network", "project", dir, "address", l.address)
	}
}

func (s *server) openOne(dir, name string, own net.IP, network *net.IPNet) error {
	if l := s.lan[dir]; l != nil {
		if host, _, _ := net.SplitHostPort(l.address); host == own.String() && l.network.String() == network.String() {
			return nil
		}
		s.closeOne(dir)
	}
	l, err := listenLAN(dir, own)
	if err != nil {
		return err
	}
	open := &lan{address: l.Addr().String(), network: network}
	open.server = &http.Server{Handler: s.fromLAN(open, dir, name), ReadHeaderTimeout: headerTime, IdleTimeout: idleTime, MaxHeaderBytes: headerBytes,
		ErrorLog: slog.NewLogLogger(slog.NewTextHandler(io.Discard, nil), slog.LevelDebug)}
	s.lan[dir] = open
	go func() { _ = open.server.Serve(l) }()
	s.log.Warn("open to the network", "project", dir, "address", open.address)
	return nil
}

// fromLAN leads those who are in the network, and come by the address that they were told, to
// the front of a project.
func (s *server) fromLAN(l *lan, dir, name string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		if err != nil || !l.network.Contains(net.ParseIP(host)) {
			http.Error(w, "This address is for its own network only.", http.StatusForbidden)
			return
		}
		// A page from elsewhere could have had its name lead here.
		if r.Host != l.address {
			http.Error(w, "This name leads nowhere here.", http.StatusMisdirectedRequest)
			return
		}
		s.mu.Lock()
		var m *member
		for _, o := range s.projects {
			if o.Dir == dir {
				m = o
			}
		}
		if m == nil || m.targets[name] == nil {
			s.mu.Unlock()
			http.Error(w, "The project is not running.", http.StatusServiceUnavailable)
			return
		}
		t := m.targets[name].Load()
		s.mu.Unlock()
		others := *t
		others.Others = true
		if t.Private != nil { // emulators answer to names of this machine alone
			others.KeepHost = false
			if own := l.url(); r.Header.Get("Origin") == own && t.URL != nil {
				r.Header.Set("Origin", "http://"+t.URL.Host)
			}
		}
		s.gate.Pass(w, r, &others)
	})
}

// Ports are tried from this one on.
const firstLANPort = 8800

// listenLAN listens on the port that the project had before, or on the next that is free.
func listenLAN(dir string, own net.IP) (net.Listener, error) {
	var l net.Listener
	_, err := atomicfile.UpdateMap(filepath.Join(project.GateDir(), "lan.json"), func(ports map[string]int) (bool, error) {
		had := ports[dir]
		try := []int{had}
		for port := firstLANPort; port < firstLANPort+200; port++ {
			if !slices.Contains(slices.Collect(maps.Values(ports)), port) {
				try = append(try, port)
			}
		}
		for _, port := range try {
			var err error
			if port == 0 {
				continue
			}
			if l, err = net.Listen("tcp4", net.JoinHostPort(own.String(), strconv.Itoa(port))); err == nil {
				ports[dir] = port
				return port != had, nil
			}
		}
		return false, fmt.Errorf("no port from %d on is free at %s", firstLANPort, own)
	})
	if err != nil && l != nil {
		l.Close()
	}
	return l, err
}

func (s *server) lanState() string {
	urls := map[string]string{}
	for dir, l := range s.lan {
		urls[dir] = l.url()
	}
	return fmt.Sprint(urls, s.lanProblems)
}

// lookAtNetwork is how often it is looked whether the machine is in another network.
const lookAtNetwork = 3 * time.Second

// keepLAN follows the machine from network to network, and closes everything at the end.
func (s *server) keepLAN(ctx context.Context) {
	tick := time.NewTicker(lookAtNetwork)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			s.mu.Lock()
			for dir := range s.lan {
				s.closeOne(dir)
			}
			s.mu.Unlock()
			return
		case <-tick.C:
			s.mu.Lock()
			before := s.lanState()
			s.openLAN()
			if s.lanState() != before {
				close(s.changed)
				s.changed = make(chan struct{})
			}
			s.mu.Unlock()
		}
	}
}
