package mail

import (
	"fmt"
	"io"
	"log"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	emulator "neighbour/internal/emulator/mail"
)

// inboxOf returns a look into the inbox of a server that runs.
func inboxOf(t *testing.T) (store.Source, *emulator.Server) {
	t.Helper()
	messages, err := emulator.OpenStore(t.TempDir())
	require.NoError(t, err)
	server := &emulator.Server{Store: messages, Log: log.New(io.Discard, "", 0)}
	web := httptest.NewServer(server.Web())
	t.Cleanup(func() {
		web.Close()
		messages.Close()
	})
	u, err := url.Parse(web.URL)
	require.NoError(t, err)
	port, err := strconv.Atoi(u.Port())
	require.NoError(t, err)
	s, err := Kind{}.Source(&kind.Instance{Service: &declare.Service{Name: "postbox", Settings: &Settings{}}, GivenPort: func(string) int { return port }})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, server
}

// The inbox is a collection like others, whose items are read, seen and deleted.
func TestInboxAsData(t *testing.T) {
	s, server := inboxOf(t)
	for i := range 5 {
		require.NoError(t, server.Store.Add("shed@example.org", []string{"ines@example.org"}, strings.NewReader(fmt.Sprintf("From: Shed <shed@example.org>\r\nDate: x\r\nContent-Type: text/html\r\nSubject: Tool %d\r\n\r\n<p>Bring it <a href=\"http://127.0.0.1/%d\">back</a></p>", i, i))))
	}
	all, err := s.Collections(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 5, all[0].Count)
	assert.Equal(t, 5, all[0].New)
	p, err := s.Items(t.Context(), store.Query{Collection: "inbox", Limit: 3})
	require.NoError(t, err)
	assert.Equal(t, "Tool 4", p.Rows[0].Values[2].Text)
	assert.True(t, p.More && p.Rows[0].New)
	rest, err := s.Items(t.Context(), store.Query{Collection: "inbox", Limit: 3, After: p.Next})
	require.NoError(t, err)
	assert.Len(t, rest.Rows, 2)
	only, err := s.Items(t.Context(), store.Query{Collection: "inbox", Limit: 3, Where: "tool 2"})
	require.NoError(t, err)
	require.Len(t, only.Rows, 1)

	it, err := s.Item(t.Context(), "inbox", only.Rows[0].Key)
	require.NoError(t, err)
	assert.Equal(t, "Tool 2", it.Says)
	fields := map[string]string{}
	for _, f := range it.Fields {
		fields[f.Column.Name] = f.Value.Text
	}
	assert.Equal(t, "Bring it back [1]", fields["text"])
	assert.Equal(t, "[1] http://127.0.0.1/2", fields["links"])
	assert.Contains(t, fields["headers"], "Subject: Tool 2")
	assert.Contains(t, it.Notes[0], "no plain part")
	all, _ = s.Collections(t.Context())
	assert.Equal(t, 5, all[0].New, "a look alone is not reading")

	actor := s.(store.Actor)
	do := func(a store.Act) (string, error) {
		a.Collection = "inbox"
		if _, err := actor.Plan(t.Context(), a); err != nil && a.Action != store.See {
			return "", err
		}
		return actor.Do(t.Context(), a)
	}
	_, err = do(store.Act{Action: store.See, Key: only.Rows[0].Key})
	require.NoError(t, err)
	all, _ = s.Collections(t.Context())
	assert.Equal(t, 4, all[0].New)
	says, err := do(store.Act{Action: store.Delete, Key: only.Rows[0].Key})
	require.NoError(t, err)
	assert.Equal(t, "1 mail deleted", says)
	_, err = do(store.Act{Action: store.Delete, Key: only.Rows[0].Key})
	var gone *store.GoneError
	assert.ErrorAs(t, err, &gone)

	text := func(s string) *string { return &s }
	says, err = do(store.Act{Action: rule, Values: map[string]*string{"refuse": text("*@bounce.example.org")}})
	require.NoError(t, err)
	assert.Equal(t, "it refuses *@bounce.example.org", says)
	says, err = do(store.Act{Action: misbehave.ActionName, Values: map[string]*string{"full": text("yes"), "slow": text("2s")}})
	require.NoError(t, err)
	assert.Equal(t, "it refuses *@bounce.example.org; waits 2s before each answer, is full", says)
	all, _ = s.Collections(t.Context())
	assert.Contains(t, all[0].Note, "is full")
	for name, values := range map[string]map[string]*string{"write yes or no": {"full": text("perhaps")}, "write for example 200ms": {"slow": text("long")}, "no clock": {"clock": text("1h")}, "no pattern": {"refuse": text("[a")}} {
		action := misbehave.ActionName
		if values["refuse"] != nil {
			action = rule
		}
		_, err := do(store.Act{Action: action, Values: values})
		assert.ErrorContains(t, err, name)
	}
	_, err = do(store.Act{Action: release, Key: p.Rows[0].Key, Values: map[string]*string{"server": text("nowhere")}})
	assert.ErrorContains(t, err, "write a host and a port")
	says, err = do(store.Act{Action: store.Clear})
	require.NoError(t, err)
	assert.Equal(t, "4 mails deleted", says)
	_, err = s.Items(t.Context(), store.Query{Collection: "outbox"})
	assert.ErrorAs(t, err, &gone)
}
