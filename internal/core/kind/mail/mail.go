// Package mail is the kind of the built-in mail server, which takes every
// message and delivers none.
package mail

import (
	"bufio"
	"fmt"
	"net"
	"net/textproto"
	"path/filepath"
	"strconv"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/probe"
	emulator "neighbour/internal/emulator/mail"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys: none so far.
type Settings struct{}

const example = `
[service.postbox]
kind = "mail"

[service.api]
run = "node server.js"
env.SMTP_URL = "${postbox.smtp_url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "mail", Example: example, About: "mail, built in", Check: "SMTP greeting", Listens: true, UsualPort: 1025, Facts: []string{"smtp_url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find returns this program itself.
func (Kind) Find(in *kind.Instance) (kind.Program, error) { return kind.Program{Path: in.Self}, nil }

// Launch starts the emulator as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	return kind.Launch{
		Argv: kind.Emulate(in, "mail", "--dir", messages(in)), Dir: in.Data, Signal: "TERM",
	}, nil
}

func messages(in *kind.Instance) string { return filepath.Join(in.Data, "messages") }

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	port := strconv.Itoa(in.Port)
	return map[string]kind.Fact{"smtp_url": {Value: "smtp://127.0.0.1:" + port}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}, nil
}

// Probe waits for the greeting (RFC 5321, section 3.1) and says goodbye.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Talk("127.0.0.1:"+strconv.Itoa(in.Port), func(conn net.Conn) (string, error) {
		if _, _, err := textproto.NewReader(bufio.NewReader(conn)).ReadResponse(220); err != nil {
			return "", err
		}
		_, _ = conn.Write([]byte("QUIT\r\n")) // its answer is not worth waiting for
		return "greets by SMTP", nil
	}), nil
}

// Notes tell how many messages came, and of the latest.
func (Kind) Notes(in *kind.Instance) []string {
	s, err := emulator.ReadSummary(messages(in))
	if err != nil || s.Count == 0 {
		return []string{"no mail yet"}
	}
	count := "1 message, which came"
	if s.Count > 1 {
		count = fmt.Sprintf("%d messages, the latest came", s.Count)
	}
	return []string{count + " at " + s.At.Local().Format("15:04:05"), "from " + s.From, "to " + s.To, "about " + s.Subject}
}
