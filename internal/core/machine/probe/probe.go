// Package probe holds the health checks that work for any service: a TCP
// connection, an HTTP answer, a command's exit code, a pattern in the output.
// The checks by a server's own protocol are with their kinds.
package probe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"
)

// Probe checks a service once. Answer is what came back, in a few words for
// a person: "200 after 3 ms", "connection refused". An error means that the
// service is not well; its text is the answer.
type Probe interface {
	Check(ctx context.Context) (answer string, err error)
}

// Func is a function as a Probe.
type Func func(ctx context.Context) (string, error)

// Check calls the function.
func (f Func) Check(ctx context.Context) (string, error) { return f(ctx) }

// FinalError is what a check fails with when waiting longer won't make the
// service ready.
type FinalError struct{ Err error }

func (e *FinalError) Error() string { return e.Err.Error() }

// Unwrap returns the error itself.
func (e *FinalError) Unwrap() error { return e.Err }

// Explain puts an error of a check in a few words.
func Explain(err error) string {
	var op *net.OpError
	switch {
	case err == nil:
		return ""
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "connection closed without an answer"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded):
		return "no answer in time"
	case errors.As(err, &op):
		return op.Err.Error()
	}
	return err.Error()
}

// Refused reports whether an error says that nobody listens.
func Refused(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// TCP accepts a service when one of the addresses accepts a connection.
func TCP(addresses ...string) Probe {
	return Func(func(ctx context.Context) (string, error) {
		began := time.Now()
		var first error
		for _, a := range addresses {
			conn, err := new(net.Dialer).DialContext(ctx, "tcp", a)
			if err == nil {
				conn.Close()
				return "accepts connections, " + after(began), nil
			}
			if first == nil {
				first = err
			}
		}
		return "", errors.New(Explain(first))
	})
}

// Talk makes a check of a conversation on a fresh connection. Its deadline is
// the check's.
func Talk(address string, talk func(net.Conn) (string, error)) Probe {
	return Func(func(ctx context.Context) (string, error) {
		conn, err := new(net.Dialer).DialContext(ctx, "tcp", address)
		if err != nil {
			return "", errors.New(Explain(err))
		}
		defer conn.Close()
		if deadline, ok := ctx.Deadline(); ok {
			_ = conn.SetDeadline(deadline)
		}
		answer, err := talk(conn)
		if err != nil {
			return "", errors.New(Explain(err))
		}
		return answer, nil
	})
}

// HTTP describes an HTTP check.
type HTTP struct {
	// URLs are tried in turn until one accepts a connection.
	URLs   []string
	Status int // 0: 200 to 399
	Header map[string]string
	Body   string // text that the answer must contain
}

// bodyLimit bounds how much of an answer is searched for the text.
const bodyLimit = 1 << 20

var client = &http.Client{
	// A fresh connection each time also checks that the server still accepts.
	Transport:     &http.Transport{DisableKeepAlives: true, Proxy: nil},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// Check asks once.
func (h HTTP) Check(ctx context.Context) (string, error) {
	began := time.Now()
	var resp *http.Response
	var first error
	for _, url := range h.URLs {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
		if err != nil {
			return "", err
		}
		if resp, err = client.Do(req); err == nil {
			break
		}
		if first == nil {
			first = err
		}
		if !errors.Is(err, syscall.ECONNREFUSED) {
			break
		}
	}
	if resp == nil {
		return "", errors.New(Explain(first))
	}
	defer resp.Body.Close()
	answer := fmt.Sprintf("%d %s", resp.StatusCode, after(began))
	if h.Status != 0 && resp.StatusCode != h.Status {
		return "", fmt.Errorf("%s, wanted %d", answer, h.Status)
	}
	if h.Status == 0 && (resp.StatusCode < 200 || resp.StatusCode > 399) {
		return "", errors.New(answer)
	}
	for name, want := range h.Header {
		if got := resp.Header.Get(name); got != want {
			return "", fmt.Errorf("%s, header %s is %q, wanted %q", answer, name, got, want)
		}
	}
	if h.Body != "" {
		body, err := io.ReadAll(io.LimitReader(resp.Body, bodyLimit))
		if err != nil {
			return "", fmt.Errorf("%s, then %s", answer, Explain(err))
		}
		if !strings.Contains(string(body), h.Body) {
			return "", fmt.Errorf("%s, without the text %q", answer, h.Body)
		}
	}
	return answer, nil
}

// Run accepts a service when a command exits with 0.
type Run struct {
	Argv []string
	Env  []string
	Dir  string
	// Attributes run it as another account, or are nil.
	Attributes *syscall.SysProcAttr
}

// Check runs the command once. All that it started is killed when the
// context ends.
func (r Run) Check(ctx context.Context) (string, error) {
	began := time.Now()
	cmd := exec.CommandContext(ctx, r.Argv[0], r.Argv[1:]...)
	cmd.Env, cmd.Dir = r.Env, r.Dir
	attributes := syscall.SysProcAttr{}
	if r.Attributes != nil {
		attributes = *r.Attributes
	}
	attributes.Setpgid = true
	cmd.SysProcAttr = &attributes
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 100 * time.Millisecond
	out, err := cmd.CombinedOutput()
	if err == nil {
		return "exit 0 " + after(began), nil
	}
	if ctx.Err() != nil {
		return "", fmt.Errorf("%s did not end in time", r.Argv[0])
	}
	words := strings.TrimSpace(string(out))
	if i := strings.LastIndexByte(words, '\n'); i >= 0 {
		words = words[i+1:]
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) && words != "" {
		return "", fmt.Errorf("exit %d: %s", exit.ExitCode(), words)
	}
	if exit != nil {
		return "", fmt.Errorf("exit %d %s", exit.ExitCode(), after(began))
	}
	return "", err
}

func after(began time.Time) string {
	took := time.Since(began)
	if took < time.Millisecond {
		return "after <1 ms"
	}
	return fmt.Sprintf("after %d ms", took.Milliseconds())
}
