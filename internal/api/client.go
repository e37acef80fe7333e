package api

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"neighbour/internal/core/keeper/check"
	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/project"
)

// ErrNoKeeper is returned when no keeper answers on the socket.
var ErrNoKeeper = errors.New("no keeper is running for this project")

// ErrLost is returned when the keeper was there and ended, or was lost, before
// it answered.
var ErrLost = errors.New("the keeper does not answer")

// StrangeKeeperError says that the keeper on a socket is another user's.
type StrangeKeeperError struct {
	Socket string
	UID    int
}

func (e *StrangeKeeperError) Error() string {
	return fmt.Sprintf("the keeper at %s is one of %s, and not yours; nothing was said to it", e.Socket, port.UserName(e.UID))
}

// Client talks to a keeper.
type Client struct {
	http *http.Client
	// By says who asks, for those who look at operations.
	By string
}

// NewClient makes a client for the keeper's socket. It doesn't connect yet.
func NewClient(socket string) *Client {
	return &Client{By: whoAsks(), http: &http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			conn, err := new(net.Dialer).DialContext(ctx, "unix", socket)
			if err != nil {
				return nil, errors.Join(ErrNoKeeper, err)
			}
			// Nothing is said to a stranger's keeper.
			if uid, err := peerUID(conn.(*net.UnixConn)); err != nil || uid != os.Getuid() && uid != 0 {
				conn.Close()
				return nil, &StrangeKeeperError{Socket: socket, UID: uid}
			}
			return conn, nil
		},
	}}}
}

// whoAsks names this program with its command: "neighbour stop, pid 812".
func whoAsks() string {
	who := filepath.Base(os.Args[0])
	for i := 1; i < len(os.Args); i++ {
		switch arg := os.Args[i]; {
		case arg == "-C" || arg == "--dir":
			i++ // its folder is no command
		case !strings.HasPrefix(arg, "-"):
			return fmt.Sprintf("%s %s, pid %d", who, arg, os.Getpid())
		}
	}
	return fmt.Sprintf("%s, pid %d", who, os.Getpid())
}

// Close lets go of idle connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// do sends a request and decodes the answer. The keeper's own words come
// back as the error.
func (c *Client) do(ctx context.Context, method, path string, body, answer any) error {
	resp, err := c.send(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return json.NewDecoder(resp.Body).Decode(answer)
}

func (c *Client) send(ctx context.Context, method, path string, body any) (*http.Response, error) {
	var in io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		in = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://keeper/v"+Version+path, in)
	if err != nil {
		return nil, err
	}
	req.Header.Set(versionHeader, Version)
	req.Header.Set(byHeader, c.By)
	resp, err := c.http.Do(req)
	if errors.Is(err, ErrNoKeeper) {
		return nil, ErrNoKeeper
	}
	var strange *StrangeKeeperError
	if errors.As(err, &strange) {
		return nil, strange
	}
	if err != nil {
		if errors.Is(ctx.Err(), context.Canceled) { // by who asked
			return nil, context.Cause(ctx)
		}
		return nil, fmt.Errorf("%w: %w", ErrLost, errors.Unwrap(err))
	}
	if v := resp.Header.Get(versionHeader); v != Version {
		resp.Body.Close()
		return nil, &VersionError{Keeper: v, Client: Version}
	}
	if resp.StatusCode >= 400 {
		defer resp.Body.Close()
		p := &Problem{}
		if json.NewDecoder(resp.Body).Decode(p) != nil || p.Message == "" {
			p.Message = "the keeper answers " + resp.Status
		}
		return nil, p
	}
	return resp, nil
}

// Hello makes sure that a keeper answers which speaks our version.
func (c *Client) Hello(ctx context.Context) (Keeper, error) {
	return call(ctx, c, helloEndpoint, none{})
}

// Status asks for everything as it is now.
func (c *Client) Status(ctx context.Context) (Snapshot, error) {
	return call(ctx, c, statusEndpoint, none{})
}

// Start starts the named services with what they need; without a name, all.
// Prepare runs preparations whether they are due or not. It returns when the
// keeper has taken it up.
func (c *Client) Start(ctx context.Context, prepare bool, names ...string) (Done, error) {
	return call(ctx, c, startEndpoint, Names{Services: names, Prepare: prepare, Environment: os.Environ()})
}

// Stop stops the named services and what needs them, and returns when they
// are stopped; without a name all, and the keeper ends.
func (c *Client) Stop(ctx context.Context, names ...string) (Done, error) {
	return call(ctx, c, stopEndpoint, Names{Services: names})
}

// Restart stops and starts the named services; without a name, all. Prepare is
// as for Start.
func (c *Client) Restart(ctx context.Context, withNeeds, prepare bool, names ...string) (Done, error) {
	return call(ctx, c, restartEndpoint, Names{Services: names, WithNeeds: withNeeds, Prepare: prepare, Environment: os.Environ()})
}

// Kinds lists the kinds that a service may be of.
func (c *Client) Kinds(ctx context.Context) ([]project.Available, error) {
	return call(ctx, c, kindsEndpoint, none{})
}

// Operations returns those under way, and the latest that ended.
func (c *Client) Operations(ctx context.Context) ([]keep.Operation, error) {
	return call(ctx, c, operationsEndpoint, none{})
}

// Cancel cancels an operation.
func (c *Client) Cancel(ctx context.Context, id int) error {
	_, err := call(ctx, c, cancelEndpoint, none{}, strconv.Itoa(id))
	return err
}

// Impact tells what else an operation on a service is about.
func (c *Client) Impact(ctx context.Context, service string) (insight.Impact, error) {
	return call(ctx, c, impactEndpoint, none{}, service)
}

// Checks makes all checks of the project.
func (c *Client) Checks(ctx context.Context) ([]check.Finding, error) {
	return call(ctx, c, checksEndpoint, none{})
}

// Wiring tells how the project is wired.
func (c *Client) Wiring(ctx context.Context) (insight.Wiring, error) {
	return call(ctx, c, wiringEndpoint, none{})
}

// Remedy does something about a finding, and says what was done.
func (c *Client) Remedy(ctx context.Context, finding string, a check.Action) (string, error) {
	done, err := call(ctx, c, remedyEndpoint, Remedy{finding, a})
	return done.Says, err
}

// Changes says what the declaration as it is now means for the services.
func (c *Client) Changes(ctx context.Context) ([]insight.Effect, error) {
	return call(ctx, c, changesEndpoint, none{})
}

// Apply carries out what the declaration as it is now means for the services.
// The keeper is replaced by one that has read it, and has to be connected to
// anew.
func (c *Client) Apply(ctx context.Context) ([]insight.Effect, error) {
	return call(ctx, c, applyEndpoint, Names{Environment: os.Environ()})
}

// Reread has the declaration read again, if that touches no service that runs
// but those that are named. If it is done the keeper has to be connected to
// anew, as after Apply.
func (c *Client) Reread(ctx context.Context, except ...string) (Rereading, error) {
	return call(ctx, c, rereadEndpoint, Names{Services: except})
}

// Edit changes the declaration's file; what runs goes on as it is. A change
// that would make the file wrong is refused, and the file stays as it was.
func (c *Client) Edit(ctx context.Context, change project.Change) error {
	_, err := call(ctx, c, editEndpoint, change)
	return err
}

// stream reads server-sent events.
type stream struct{ in *bufio.Reader }

func newStream(r io.Reader) stream { return stream{bufio.NewReaderSize(r, 64<<10)} }

// next returns the data of the next event.
func (s stream) next() ([]byte, error) {
	for {
		line, err := s.in.ReadBytes('\n')
		if err != nil {
			return nil, err
		}
		if data, ok := bytes.CutPrefix(line, []byte("data: ")); ok {
			return data, nil
		}
	}
}

// Events is a stream of changes.
type Events struct {
	body io.Closer
	in   stream
}

// Events begins to listen for changes, until the context ends or the stream
// is closed.
func (c *Client) Events(ctx context.Context) (*Events, error) {
	return c.events(ctx, eventsEndpoint.path)
}

// Progress is as Events, with only what supervise.Status.Progress leaves of each
// service, which is much less to send and to read.
func (c *Client) Progress(ctx context.Context) (*Events, error) {
	return c.events(ctx, eventsEndpoint.path+"?progress=true")
}

// Follow calls moved with the whole project at once, and each time that a service has come into
// another state, until the context or the keeper ends. It keeps no keeper from ending when nothing
// runs.
func (c *Client) Follow(ctx context.Context, moved func(Snapshot)) error {
	events, err := c.events(ctx, eventsEndpoint.path+"?progress=true&moves=true")
	if err != nil {
		return err
	}
	defer events.Close()
	defer context.AfterFunc(ctx, func() { events.Close() })()
	states := map[string]supervise.State{}
	for first := true; ; first = false {
		told, err := events.Next()
		if err != nil {
			return err
		}
		news := first
		for _, st := range told.Services {
			if states[st.Name] != st.State {
				states[st.Name] = st.State
				news = true
			}
		}
		if !news {
			continue
		}
		now, err := c.Status(ctx)
		if err != nil {
			return err
		}
		moved(now)
	}
}

func (c *Client) events(ctx context.Context, path string) (*Events, error) {
	resp, err := c.send(ctx, eventsEndpoint.method, path, nil)
	if err != nil {
		return nil, err
	}
	return &Events{body: resp.Body, in: newStream(resp.Body)}, nil
}

// Next waits for the next change. The first holds every service, later ones
// those that changed. It returns io.EOF when the keeper has ended.
func (e *Events) Next() (Snapshot, error) {
	var s Snapshot
	data, err := e.in.next()
	if err == nil {
		err = json.Unmarshal(data, &s)
	}
	return s, err
}

// Close ends the stream.
func (e *Events) Close() error { return e.body.Close() }
