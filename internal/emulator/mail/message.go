package mail

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"strconv"
	"strings"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // texts that are not in UTF-8
	gomail "github.com/emersion/go-message/mail"

	"neighbour/internal/core/machine/localname"
)

// Message is a mail as its recipient reads it.
type Message struct {
	// Sender and Recipients are those of the envelope.
	Sender     string   `json:"-"`
	Recipients []string `json:"-"`
	From       string   `json:"from_header"`
	To         string   `json:"to_header"`
	Cc         string   `json:"cc"`
	// Bcc are the recipients that the mail names nowhere.
	Bcc     []string `json:"bcc"`
	ReplyTo string   `json:"reply_to"`
	Date    string   `json:"date"`
	Subject string   `json:"-"`       // a Mail has it
	Headers []Header `json:"headers"` // all of them, decoded, in their order
	Text    string   `json:"text"`    // the plain part
	HTML    string   `json:"html"`
	Parts   []Part   `json:"parts"` // what is neither
	// Problems are what is wrong with it.
	Problems []string `json:"problems"`

	contents [][]byte // of the parts
}

// Header is a header field.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Part is a part of a message: an attachment, or a picture that its HTML shows.
type Part struct {
	Name   string `json:"name"`
	Type   string `json:"type"`
	Size   int    `json:"size"`
	ID     string `json:"id"`     // its Content-ID, without brackets
	Inline bool   `json:"inline"` // it is shown in the message
}

// mostParts is how many parts of a message are kept.
const mostParts = 1000

// Attachments are the parts that are not shown in the message itself.
func (m *Message) Attachments() []Part {
	var out []Part
	for _, p := range m.Parts {
		if !p.Inline {
			out = append(out, p)
		}
	}
	return out
}

// Content returns the bytes of a part.
func (m *Message) Content(i int) []byte { return m.contents[i] }

// Parse reads a message of RFC 5322's format. What is wrong with it is told in
// Problems; whatever it is, something is returned.
func Parse(r io.Reader) *Message {
	m := &Message{Recipients: []string{}, Headers: []Header{}, Parts: []Part{}, Problems: []string{}}
	in := bufio.NewReaderSize(r, 64<<10)
	m.envelope(in)
	start, _ := in.Peek(unreadable)
	raw := strings.ToValidUTF8(string(start), "�") // what is peeked at is good only until it is read
	e, err := message.ReadWithOptions(in, &message.ReadOptions{MaxHeaderBytes: 1 << 20})
	if e == nil || err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		m.problem("this is no mail that a client can read: %s", says(err))
		if e == nil {
			m.Text = raw
			return m
		}
	}
	h := gomail.Header{Header: e.Header}
	decoded := func(name string) string {
		text, err := e.Header.Text(name)
		if err != nil {
			return e.Header.Get(name)
		}
		return text
	}
	m.From, m.To, m.Cc, m.ReplyTo, m.Date = decoded("From"), decoded("To"), decoded("Cc"), decoded("Reply-To"), e.Header.Get("Date")
	if m.Subject, err = h.Subject(); err != nil {
		m.Subject = e.Header.Get("Subject")
		m.problem("its subject is not encoded as it says (RFC 2047)")
	}
	for f := e.Header.Fields(); f.Next(); {
		text, err := f.Text()
		if err != nil {
			text = f.Value()
		}
		m.Headers = append(m.Headers, Header{f.Key(), text})
	}
	for _, name := range []string{"From", "Date"} { // RFC 5322, section 3.6
		if e.Header.Get(name) == "" {
			m.problem("it has no %s header, which every mail must have", name)
		}
	}
	m.read(e, 0)
	m.judge()
	return m
}

// unreadable is how much is shown of what is no mail, in bytes.
const unreadable = 32 << 10

// recipientsHeader says how many recipients follow in the envelope.
const recipientsHeader = "X-Recipients: "

// envelope reads the headers that the store puts before a message. They are read by
// themselves, so that who sent what is no mail is known, too.
func (m *Message) envelope(in *bufio.Reader) {
	header := func(name string) (value string, is bool) {
		if head, _ := in.Peek(len(name)); string(head) != name {
			return "", false
		}
		line, err := in.ReadString('\n')
		return strings.TrimSpace(strings.TrimPrefix(line, name)), err == nil
	}
	sender, is := header("Return-Path: ")
	if !is {
		return
	}
	m.Sender = strings.Trim(sender, "<>")
	most := -1 // older ones don't say it
	if text, is := header(recipientsHeader); is {
		most, _ = strconv.Atoi(text)
	}
	for len(m.Recipients) != most {
		to, is := header("Delivered-To: ")
		if !is {
			return
		}
		m.Recipients = append(m.Recipients, to)
	}
}

func says(err error) string {
	if err == nil {
		return "it is empty"
	}
	return err.Error()
}

func (m *Message) problem(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	for _, p := range m.Problems {
		if p == text {
			return
		}
	}
	m.Problems = append(m.Problems, text)
}

// read reads a part, and those in it.
func (m *Message) read(e *message.Entity, depth int) {
	if parts := e.MultipartReader(); parts != nil {
		if depth > 20 {
			m.problem("its parts are nested too deep")
			return
		}
		for {
			p, err := parts.NextPart()
			if errors.Is(err, io.EOF) {
				return
			}
			if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
				m.problem("one of its parts is broken: %v", err)
				return
			}
			if err != nil {
				m.problem("%v", err)
			}
			m.read(p, depth+1)
			if len(m.Parts) >= mostParts {
				m.problem("it has more than %d parts; the others are left out", mostParts)
				return
			}
		}
	}
	kind, params, err := e.Header.ContentType()
	if err != nil {
		m.problem("the type of a part can't be read: %v", err)
		kind = "text/plain"
	}
	disposition, dispositionParams, _ := e.Header.ContentDisposition()
	b, err := io.ReadAll(e.Body)
	if err != nil {
		m.problem("a part of the type %s is not encoded as it says: %v", kind, err)
	}
	name := dispositionParams["filename"]
	if name == "" {
		name = params["name"]
	}
	if decoded, err := new(mime.WordDecoder).DecodeHeader(name); err == nil {
		name = decoded
	}
	if disposition != "attachment" && name == "" && (kind == "text/plain" && m.Text == "" || kind == "text/html" && m.HTML == "") {
		if params["charset"] == "" && bytes.ContainsFunc(b, func(r rune) bool { return r > 126 }) {
			m.problem("its %s part has letters beyond ASCII and does not say in which charset", map[string]string{"text/plain": "plain", "text/html": "HTML"}[kind])
		}
		text := strings.ToValidUTF8(string(b), "�")
		if kind == "text/html" {
			m.HTML = text
		} else {
			m.Text = text
		}
		return
	}
	id := strings.Trim(e.Header.Get("Content-Id"), "<> ")
	m.Parts = append(m.Parts, Part{Name: name, Type: kind, Size: len(b), ID: id, Inline: disposition == "inline" && id != "" || id != "" && disposition == ""})
	m.contents = append(m.contents, b)
}

// judge finds what a recipient would see wrong.
func (m *Message) judge() {
	if m.HTML != "" && strings.TrimSpace(m.Text) == "" {
		m.problem("it has no plain part, so that some clients show nothing and spam filters mind")
	}
	if m.HTML == "" {
		return
	}
	look := lookAt(m.HTML)
	for _, src := range look.pictures {
		switch u, err := url.Parse(src); {
		case err != nil:
			m.problem("a picture's address can't be read: %s", short(src))
		case u.Scheme == "cid":
			if !m.has(u.Opaque) {
				m.problem("the picture cid:%s is not in the mail", short(u.Opaque))
			}
		case u.Scheme == "data":
		case u.Scheme == "":
			m.problem("the picture %s has no whole address, and recipients can't see it", short(src))
		default:
			m.problem("the picture %s is not in the mail; clients load it only if they are allowed to", short(src))
		}
	}
	for _, href := range look.links {
		u, err := url.Parse(strings.TrimSpace(href))
		switch {
		case err != nil:
			m.problem("a link's address can't be read: %s", short(href))
		case u.Scheme == "" && !strings.HasPrefix(href, "#"):
			m.problem("the link %s has no whole address, and leads recipients nowhere", short(href))
		case u.Scheme == "javascript" || u.Scheme == "vbscript":
			m.problem("a link is a script, which no client runs")
		case u.Scheme == "http" || u.Scheme == "https":
			if localname.Is(u.Host) || strings.HasSuffix(u.Hostname(), ".test") {
				continue
			}
			m.problem("a link leads to %s, which is not this machine", short(u.Hostname()))
		}
	}
	if look.scripts {
		m.problem("it has a script, which no client runs")
	}
	if look.forms {
		m.problem("it has a form, which most clients don't show")
	}
}

func (m *Message) has(id string) bool {
	for _, p := range m.Parts {
		if p.ID == id {
			return true
		}
	}
	return false
}

func short(s string) string {
	if r := []rune(s); len(r) > 80 {
		return string(r[:79]) + "…"
	}
	return s
}
