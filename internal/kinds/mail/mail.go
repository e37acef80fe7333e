// Package mail is the kind of the built-in mail server, which takes every
// message and delivers none.
package mail

import (
	"bufio"
	"fmt"
	"net"
	"net/textproto"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/machine/probe"
	emulator "neighbour/internal/emulator/mail"
)

// Kind is the kind.
type Kind struct{ kind.Emulated }

// Settings are its keys.
type Settings struct {
	Refuse    []string        `toml:"refuse" doc:"recipients that it refuses, for tests: [\"*@bounce.example.org\"]"`
	Drop      []string        `toml:"drop" doc:"recipients of mails in the midst of which it cuts the connection, for tests"`
	Misbehave misbehave.Rules `toml:"misbehave" doc:"what it does wrong, for tests"`
	StartTLS  bool            `toml:"starttls" doc:"it offers STARTTLS, with a certificate that nobody vouches for, so that clients must be told to take it"`
}

// Check reports patterns that can't be meant.
func (s *Settings) Check(report func(key, message, remedy string)) {
	for key, patterns := range map[string][]string{"refuse": s.Refuse, "drop": s.Drop} {
		for _, p := range patterns {
			if strings.ContainsAny(p, " \t\n") {
				report(key, fmt.Sprintf("%q is no address", p), "write one pattern for each: [\"*@bounce.example.org\"]")
			} else if err := (emulator.Rules{Refuse: []string{p}}).Check(); err != nil {
				report(key, err.Error(), "")
			}
		}
	}
	kind.CheckMisbehave(s.Misbehave, report)
	if err := (emulator.Rules{Misbehave: s.Misbehave}).Check(); err != nil {
		report("misbehave", err.Error(), "")
	}
}

const example = `
[service.postbox]
kind = "mail"

[service.api]
run = "node server.js"
env.SMTP_URL = "${postbox.smtp_url}"     # the inbox is a page at ${postbox.url}
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "mail", Changes: []string{kind.Message}, Example: example, About: "mail, built in", Check: "SMTP greeting", Listens: true, UsualPort: 1025, HTTP: true, Aside: true, Facts: []string{"smtp_url", "url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find returns this program itself.
func (Kind) Find(in *kind.Instance) (kind.Program, error) { return kind.Program{Path: in.Self}, nil }

// inboxPort is the one to try first for the inbox as a page.
const inboxPort = 4125

// Launch starts the emulator as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	s := in.Service.Settings.(*Settings)
	page, err := in.ExtraPort("inbox", inboxPort)
	if err != nil {
		return kind.Launch{}, err
	}
	options := []string{"--dir", messages(in), "--web", "127.0.0.1:" + strconv.Itoa(page)}
	if more := slices.DeleteFunc(slices.Clone(in.Hosts), func(h string) bool { return localname.Is(h) }); len(more) > 0 {
		options = append(options, "--names", strings.Join(more, " "))
	}
	if len(s.Refuse) > 0 {
		options = append(options, "--refuse", strings.Join(s.Refuse, " "))
	}
	if len(s.Drop) > 0 {
		options = append(options, "--drop", strings.Join(s.Drop, " "))
	}
	if s.StartTLS {
		options = append(options, "--starttls")
	}
	return kind.Emulate(in, "mail", s.Misbehave, options...)
}

func messages(in *kind.Instance) string { return filepath.Join(in.Data, "messages") }

// Facts returns its addresses: for mail, and of the inbox as a page.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	port := strconv.Itoa(in.Port)
	page, err := inbox(in)
	if err != nil {
		return nil, err
	}
	return map[string]kind.Fact{"smtp_url": {Value: "smtp://127.0.0.1:" + port}, "url": {Value: page}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}, nil
}

// inbox is the address of the page. Its port is chosen when it is first asked for.
func inbox(in *kind.Instance) (string, error) {
	port := in.GivenPort("inbox")
	if port == 0 {
		var err error
		if port, err = in.ExtraPort("inbox", inboxPort); err != nil {
			return "", err
		}
	}
	return "http://127.0.0.1:" + strconv.Itoa(port), nil
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
func (Kind) Notes(in *kind.Instance) (notes []string, wrong string) {
	s, err := emulator.ReadSummary(messages(in))
	if err != nil || s.Count == 0 {
		return []string{"no mail yet"}, ""
	}
	count := "1 message, which came"
	if s.Count > 1 {
		count = fmt.Sprintf("%d messages, the latest came", s.Count)
	}
	if s.Unseen > 0 {
		count = fmt.Sprintf("%d unread of ", s.Unseen) + count
	}
	return []string{count + " at " + s.At.Local().Format("15:04:05"), "from " + s.From, "to " + s.To, "about " + s.Subject}, ""
}
