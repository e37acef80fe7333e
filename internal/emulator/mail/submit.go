package mail

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/mail"
	"net/smtp"
	"net/url"
	"strings"
)

// Submit sends a mail that a program has written to the server at an address, "smtp://…": to
// those that are named, and to whom its To, Cc and Bcc lead, as programs expect it of a local
// sendmail. Who gets it blindly is not told to the others.
func Submit(address string, to []string, text io.Reader) error {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "smtp" || u.Host == "" {
		return fmt.Errorf("%q is no address of a mail server", address)
	}
	b, err := io.ReadAll(text)
	if err != nil {
		return err
	}
	m, err := mail.ReadMessage(bytes.NewReader(b))
	if err != nil {
		return fmt.Errorf("the mail can't be read: %w", err)
	}
	for _, name := range []string{"To", "Cc", "Bcc"} {
		list, err := m.Header.AddressList(name)
		if err != nil && !errors.Is(err, mail.ErrHeaderNotPresent) {
			return fmt.Errorf("%s of the mail: %w", name, err)
		}
		for _, a := range list {
			to = append(to, a.Address)
		}
	}
	if len(to) == 0 {
		return errors.New("the mail says to nobody")
	}
	from := "nobody@localhost"
	if list, err := m.Header.AddressList("From"); err == nil && len(list) > 0 {
		from = list[0].Address
	}
	return smtp.SendMail(u.Host, nil, from, to, withoutBcc(b))
}

// withoutBcc returns a mail without the header Bcc, whose lines may go on (RFC 5322, section
// 2.2.3).
func withoutBcc(text []byte) []byte {
	var out []byte
	header, blind := true, false
	for line := range bytes.Lines(text) {
		switch {
		case !header:
		case len(bytes.TrimRight(line, "\r\n")) == 0:
			header = false
		case line[0] == ' ' || line[0] == '\t':
			if blind {
				continue
			}
		default:
			name, _, _ := strings.Cut(string(line), ":")
			if blind = strings.EqualFold(name, "Bcc"); blind {
				continue
			}
		}
		out = append(out, line...)
	}
	return out
}
