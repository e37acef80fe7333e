package kind

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
)

// EmulatorCommand is the hidden command of this program that runs an emulator.
const EmulatorCommand = "emulate"

// Emulate returns what runs an emulator of this program for an instance, on the instance's
// port, as a process of its own. It misbehaves as declared until it is told otherwise.
func Emulate(in *Instance, name string, wrong misbehave.Rules, options ...string) (Launch, error) {
	if err := misbehave.Write(MisbehaveFile(in), wrong); err != nil {
		return Launch{}, err
	}
	argv := []string{in.Self, EmulatorCommand, name, "--listen", "127.0.0.1:" + strconv.Itoa(in.Port), "--misbehave", MisbehaveFile(in)}
	return Launch{Argv: append(argv, options...), Dir: in.Data, Signal: "TERM"}, nil
}

// EmulateConfigured is like Emulate, for an emulator that reads a file with what it is told. That
// may be secrets, which no command line is to show.
func EmulateConfigured(in *Instance, name string, wrong misbehave.Rules, config any, options ...string) (Launch, error) {
	b, err := json.MarshalIndent(config, "", "  ")
	if err != nil {
		return Launch{}, err
	}
	file, err := in.WriteRun(name+".json", string(b), true)
	if err != nil {
		return Launch{}, err
	}
	return Emulate(in, name, wrong, append([]string{"--config", file}, options...)...)
}

// MisbehaveFile is the file that says how an emulator misbehaves now.
func MisbehaveFile(in *Instance) string { return filepath.Join(in.Run, "misbehave.json") }

// Emulated is embedded in the kinds of emulators, all of which can be told to misbehave.
type Emulated struct{}

// Misbehaves says what an emulator does wrong.
func (Emulated) Misbehaves(in *Instance) string { return misbehave.Says(MisbehaveFile(in)) }

// CheckMisbehave reports rules of misbehaviour that can't be meant, or mean nothing to a kind.
func CheckMisbehave(r misbehave.Rules, report func(key, message, remedy string), nothing ...string) {
	if key, err := r.Check(); err != nil {
		report("misbehave."+key, err.Error(), "")
	}
	for key, set := range map[string]bool{"full": r.Full, "read_only": r.ReadOnly, "clock": r.Clock != 0} {
		if set && slices.Contains(nothing, key) {
			report("misbehave."+key, "this means nothing here", "leave it out")
		}
	}
}

// Asker asks an emulator over HTTP. It is embedded in the sources of its kind.
type Asker struct {
	Base  string // its address
	HTTP  *http.Client
	Rules string // the file that says how it misbehaves now
}

// NewAsker returns what asks the emulator of an instance, each time for so long at most.
func NewAsker(in *Instance, base string, limit time.Duration) Asker {
	return Asker{base, &http.Client{Timeout: limit, Transport: &http.Transport{MaxConnsPerHost: 2}}, MisbehaveFile(in)}
}

// Close ends what is open.
func (a *Asker) Close() error {
	a.HTTP.CloseIdleConnections()
	return nil
}

// Ask asks for a path, and decodes the answer into out unless that is nil. An answer that is a
// problem (RFC 9457) comes back as a store.AnswerError.
func (a *Asker) Ask(ctx context.Context, method, path, body string, out any) error {
	r, err := http.NewRequestWithContext(ctx, method, a.Base+path, strings.NewReader(body))
	if err != nil {
		return err
	}
	resp, err := a.HTTP.Do(r)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errors.New(probe.Explain(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		var problem struct{ Detail string }
		if json.NewDecoder(resp.Body).Decode(&problem) != nil || problem.Detail == "" {
			problem.Detail = "it answered " + resp.Status
		}
		return &store.AnswerError{Message: problem.Detail}
	}
	if out == nil {
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	return json.NewDecoder(resp.Body).Decode(out)
}
