// Package control is how keepers talk with the gate of their user: over a Unix socket that
// nobody else can reach.
package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"

	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/machine/port"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/core/project"
	"neighbour/internal/core/record/traffic"
)

// Command is the hidden command that runs the gate.
const Command = "gate-process"

// ErrNoGate is returned when no gate answers.
var ErrNoGate = errors.New("no gate is running; it starts with a project that is reached by names")

// Registration tells the gate of a project. As long as its connection stands, and a while
// longer if the keeper is lost, the gate leads to the project.
type Registration struct {
	Dir    string `json:"dir"`
	Name   string `json:"name"`
	Socket string `json:"socket"` // the keeper's
	PID    int    `json:"pid"`    // the keeper's
}

// Told is what the gate tells a keeper, at first and whenever it has changed.
type Told struct {
	Ports project.GatePorts `json:"ports"`
	// Problems are what the user should know: a name that another project has, a
	// certificate that can't be made.
	Problems []string `json:"problems,omitempty"`
	// LANURL is the address by which others in this machine's network reach the front of
	// the project, "" if they don't.
	LANURL string `json:"lan_url,omitempty"`
}

// State is what the gate does now.
type State struct {
	PID      int               `json:"pid"`
	Began    time.Time         `json:"began"`
	Ports    project.GatePorts `json:"ports"`
	Problems []string          `json:"problems,omitempty"`
	Projects []Project         `json:"projects"`
}

// Project is a project that the gate leads to.
type Project struct {
	Dir   string `json:"dir"`
	Name  string `json:"name"`
	Names []Name `json:"names"`
	// LANURL is the address by which others in this machine's network reach its front.
	LANURL string `json:"lan_url,omitempty"`
	// Lost says that its keeper does not answer.
	Lost bool `json:"lost,omitempty"`
}

// Leads reports whether the gate leads to those services of the project in a folder that are
// ready, by all of its names that no other project has.
func (s State) Leads(dir string, ready func(service string) bool) bool {
	i := slices.IndexFunc(s.Projects, func(p Project) bool { return p.Dir == dir })
	return i >= 0 && len(s.Projects[i].Names) > 0 && !slices.ContainsFunc(s.Projects[i].Names, func(n Name) bool {
		return n.Taken == "" && ready(n.Service) && n.State != string(supervise.Ready)
	})
}

// Name is where a name leads now.
type Name struct {
	project.GateName
	To    string `json:"to,omitempty"`
	State string `json:"state,omitempty"`
	// Taken says which other project has the name.
	Taken string `json:"taken,omitempty"`
}

// Traffic is what passed.
type Traffic struct {
	Exchanges []traffic.Exchange `json:"exchanges"`
	// Aside are the events and webhooks that were put aside, and wait for a decision.
	Aside []traffic.Exchange `json:"aside,omitempty"`
	// Says what is the matter with those of the last minute.
	Says string `json:"says"`
}

// Client talks to the gate.
type Client struct{ http *http.Client }

// NewClient makes a client for this user's gate. It doesn't connect yet.
func NewClient() *Client {
	socket := project.GateSocket()
	return &Client{&http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			conn, err := new(net.Dialer).DialContext(ctx, "unix", socket)
			if err != nil {
				return nil, errors.Join(ErrNoGate, err)
			}
			return conn, nil
		},
		MaxIdleConnsPerHost: 2,
	}}}
}

// Close lets go of idle connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Problem is an error as the gate tells it.
type Problem struct {
	Message string `json:"error"`
}

func (p *Problem) Error() string { return p.Message }

func (c *Client) send(ctx context.Context, method, path string, query url.Values, body any) (*http.Response, error) {
	var in io.Reader
	switch b := body.(type) {
	case nil:
	case io.Reader:
		in = b
	default:
		text, err := json.Marshal(b)
		if err != nil {
			return nil, err
		}
		in = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://gate"+path+"?"+query.Encode(), in)
	if err != nil {
		return nil, err
	}
	resp, err := c.http.Do(req)
	if errors.Is(err, ErrNoGate) {
		return nil, ErrNoGate
	}
	if err != nil {
		return nil, err
	}
	if resp.StatusCode >= 400 {
		defer resp.Body.Close()
		p := &Problem{}
		if json.NewDecoder(resp.Body).Decode(p) != nil || p.Message == "" {
			p.Message = "the gate answers " + resp.Status
		}
		return nil, p
	}
	return resp, nil
}

func (c *Client) do(ctx context.Context, method, path string, query url.Values, body, answer any) error {
	resp, err := c.send(ctx, method, path, query, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return json.NewDecoder(resp.Body).Decode(answer)
}

// State asks what the gate does now.
func (c *Client) State(ctx context.Context) (State, error) {
	var s State
	err := c.do(ctx, http.MethodGet, "/state", nil, nil, &s)
	return s, err
}

// Register tells the gate of a project, and calls told with what it tells, until the context
// or the gate ends.
func (c *Client) Register(ctx context.Context, r Registration, told func(Told)) error {
	resp, err := c.send(ctx, http.MethodPost, "/projects", nil, r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	for in := json.NewDecoder(resp.Body); ; {
		var t Told
		if err := in.Decode(&t); err != nil {
			return err
		}
		told(t)
	}
}

// Vacate has the gate leave a port. It returns once the port is free: the gate ends, and begins
// again on other ports when the next keeper wants it.
func (c *Client) Vacate(ctx context.Context, number int) error {
	var done struct{}
	if err := c.do(ctx, http.MethodPost, "/vacate", url.Values{"port": {strconv.Itoa(number)}}, nil, &done); err != nil && !errors.Is(err, ErrNoGate) {
		return err
	}
	for !port.Free(number) {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
	}
	return nil
}

// Leave tells the gate that a project has ended.
func (c *Client) Leave(ctx context.Context, dir string) error {
	var done struct{}
	return c.do(ctx, http.MethodDelete, "/projects", url.Values{"dir": {dir}}, nil, &done)
}

// Traffic lists what passed of a project, the newest first.
func (c *Client) Traffic(ctx context.Context, dir, filter string, before int64, n int) (Traffic, error) {
	var t Traffic
	err := c.do(ctx, http.MethodGet, "/traffic", url.Values{"dir": {dir}, "filter": {filter}, "before": {strconv.FormatInt(before, 10)}, "n": {strconv.Itoa(n)}}, nil, &t)
	return t, err
}

// Exchange asks for one exchange whole.
func (c *Client) Exchange(ctx context.Context, dir string, id int64) (traffic.Shown, error) {
	var s traffic.Shown
	err := c.do(ctx, http.MethodGet, "/traffic/"+strconv.FormatInt(id, 10), url.Values{"dir": {dir}}, nil, &s)
	return s, err
}

// Replay makes the request of an exchange again, and returns the new exchange.
func (c *Client) Replay(ctx context.Context, dir string, id int64, r traffic.Repeat) (traffic.Shown, error) {
	var s traffic.Shown
	err := c.do(ctx, http.MethodPost, "/traffic/"+strconv.FormatInt(id, 10)+"/replay", url.Values{"dir": {dir}}, r, &s)
	return s, err
}

// Clear forgets what passed of a project.
func (c *Client) Clear(ctx context.Context, dir string) error {
	var done struct{}
	return c.do(ctx, http.MethodDelete, "/traffic", url.Values{"dir": {dir}}, nil, &done)
}

// HAR returns what passed of a project as an archive.
func (c *Client) HAR(ctx context.Context, dir string) ([]byte, error) {
	resp, err := c.send(ctx, http.MethodGet, "/har", url.Values{"dir": {dir}}, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	return io.ReadAll(resp.Body)
}

// Import adds the exchanges of an archive, and returns how many there were.
func (c *Client) Import(ctx context.Context, dir string, archive io.Reader) (int, error) {
	var n struct {
		Added int `json:"added"`
	}
	err := c.do(ctx, http.MethodPost, "/har", url.Values{"dir": {dir}}, archive, &n)
	return n.Added, err
}

// startWait is how long a gate may take to answer after its start.
const startWait = 10 * time.Second

// Ensure makes sure that this user's gate runs: it starts one if there is none. Many may do so
// at once.
func Ensure(ctx context.Context, self string) error {
	c := NewClient()
	defer c.Close()
	if _, err := c.State(ctx); !errors.Is(err, ErrNoGate) {
		return err
	}
	if err := project.EnsureGateDir(); err != nil {
		return err
	}
	said, err := os.OpenFile(filepath.Join(project.GateDir(), "gate.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return fmt.Errorf("the gate can't be started: %w", err)
	}
	defer said.Close()
	cmd := exec.Command(self, Command)
	cmd.Dir = project.GateDir()
	cmd.Stdout, cmd.Stderr = said, said
	proc.Detach(cmd) // other projects have it, too
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("the gate can't be started: %w", err)
	}
	go func() { _ = cmd.Wait() }()
	for deadline := time.Now().Add(startWait); ; {
		if _, err := c.State(ctx); !errors.Is(err, ErrNoGate) {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the gate does not answer after %s; see %s", startWait, said.Name())
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
	}
}
