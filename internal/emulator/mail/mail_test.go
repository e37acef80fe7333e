package mail_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	gosmtp "github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"neighbour/internal/emulator/mail"
	"neighbour/internal/testkit"
)

// serve runs a server on the folder and returns its address and what stops it.
func serve(t *testing.T, dir string) (address string, stop func()) {
	t.Helper()
	store, err := mail.OpenStore(dir)
	require.NoError(t, err)
	l := listen(t)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- (&mail.Server{Store: store, Log: log.New(io.Discard, "", 0)}).Serve(ctx, l)
		store.Close()
	}()
	return l.Addr().String(), sync.OnceFunc(func() {
		cancel()
		assert.NoError(t, <-done)
	})
}

func listen(t *testing.T) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return l
}

func messages(t *testing.T, dir string) []string {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(dir, "*.eml"))
	require.NoError(t, err)
	return names
}

func TestTakesAndKeeps(t *testing.T) {
	defer goleak.VerifyNone(t)
	dir := filepath.Join(t.TempDir(), "messages")
	address, stop := serve(t, dir)
	defer stop()
	s, err := mail.ReadSummary(dir)
	require.NoError(t, err)
	assert.Zero(t, s.Count)

	body := "Subject: =?utf-8?q?Bitte_zur=C3=BCck?=\r\nFrom: x@y\r\n\r\nLiebe Ines\r\n.dots\r\n"
	require.NoError(t, smtp.SendMail(address, nil, "shed@example.org", []string{"ines@example.org", "marit@example.org"}, []byte(body)))
	s, err = mail.ReadSummary(dir)
	require.NoError(t, err)
	assert.Equal(t, mail.Summary{Count: 1, At: s.At, From: "shed@example.org", To: "ines@example.org, marit@example.org", Subject: "Bitte zurück", Unseen: 1}, s)
	assert.WithinDuration(t, time.Now(), s.At, 5*time.Second)
	b, err := os.ReadFile(messages(t, dir)[0])
	require.NoError(t, err)
	assert.Equal(t, "Return-Path: <shed@example.org>\r\nX-Recipients: 2\r\nDelivered-To: ines@example.org\r\nDelivered-To: marit@example.org\r\n"+body, string(b))

	stop()
	address, stop = serve(t, dir)
	defer stop()
	require.NoError(t, smtp.SendMail(address, nil, "", []string{"tomas@example.org"}, []byte("no header at all")))
	s, err = mail.ReadSummary(dir)
	require.NoError(t, err)
	assert.Equal(t, 2, s.Count, "a restart loses nothing")
	assert.Len(t, messages(t, dir), 2)
}

func TestAnyLogin(t *testing.T) {
	address, stop := serve(t, t.TempDir())
	defer stop()
	for name, client := range map[string]sasl.Client{"PLAIN": sasl.NewPlainClient("", "anybody", "anything"), "LOGIN": sasl.NewLoginClient("anybody", "anything")} {
		c, err := gosmtp.Dial(address)
		require.NoError(t, err)
		assert.True(t, c.SupportsAuth(name))
		assert.NoError(t, c.Auth(client), name)
		assert.NoError(t, c.SendMail("a@example.org", []string{"b@example.org"}, strings.NewReader("Subject: x\r\n\r\n")))
		assert.NoError(t, c.Quit())
	}
}

func TestSizeLimit(t *testing.T) {
	dir := t.TempDir()
	address, stop := serve(t, dir)
	defer stop()
	line := strings.Repeat("x", 998) + "\r\n"
	send := func(size int) error {
		return smtp.SendMail(address, nil, "a@example.org", []string{"b@example.org"}, bytes.Repeat([]byte(line), size/len(line)))
	}
	require.NoError(t, send(mail.SizeLimit-2000))
	err := send(mail.SizeLimit + 2000)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "552")
	assert.Len(t, messages(t, dir), 1, "nothing is kept of what was refused")
	rest, _ := filepath.Glob(filepath.Join(dir, "*.unfinished"))
	assert.Empty(t, rest)
}

func TestManyAtOnce(t *testing.T) {
	dir := t.TempDir()
	address, stop := serve(t, dir)
	defer stop()
	var all sync.WaitGroup
	for i := range 50 {
		all.Go(func() {
			assert.NoError(t, smtp.SendMail(address, nil, "a@example.org", []string{"b@example.org"}, fmt.Appendf(nil, "Subject: %d\r\n\r\n", i)))
		})
	}
	all.Wait()
	assert.Len(t, messages(t, dir), 50)
	s, err := mail.ReadSummary(dir)
	require.NoError(t, err)
	assert.Equal(t, 50, s.Count)
}

func TestStopsWithAClientConnected(t *testing.T) {
	address, stop := serve(t, t.TempDir())
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Read(make([]byte, 10))
	require.NoError(t, err)
	began := time.Now()
	stop()
	assert.Less(t, time.Since(began), testkit.Patience)
}

// Who a mail went to is what the envelope says, and not what the mail says of an earlier
// way of it; those that it names nowhere are its blind copies.
func TestRecipients(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "messages")
	address, stop := serve(t, dir)
	defer stop()
	body := "Delivered-To: somebody@elsewhere.example.org\r\nTo: Ines <Ines@example.org>\r\nCc: marit@example.org\r\nSubject: Forwarded\r\n\r\nText\r\n"
	require.NoError(t, smtp.SendMail(address, nil, "shed@example.org", []string{"ines@example.org", "marit@example.org", "tom@example.org"}, []byte(body)))
	stop()
	store, err := mail.OpenStore(dir)
	require.NoError(t, err)
	defer store.Close()
	all, _ := store.List("", "", 10)
	require.Len(t, all, 1)
	assert.Equal(t, []string{"ines@example.org", "marit@example.org", "tom@example.org"}, all[0].To)
	whole, err := store.Read(all[0].ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"tom@example.org"}, whole.Bcc)
	assert.Equal(t, "somebody@elsewhere.example.org", whole.Headers[0].Value, "the mail is as it came")

	// It is handed on without the envelope.
	other := filepath.Join(t.TempDir(), "other")
	next, end := serve(t, other)
	defer end()
	require.NoError(t, store.Release(all[0].ID, mail.Release{Server: next}))
	b, err := os.ReadFile(messages(t, other)[0])
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(string(b), "Delivered-To: tom@example.org\r\n"+body), string(b))
}
