package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/testkit"
)

// came waits until the stub was asked for a path as often as given, and returns the bodies.
func (p *project) came(path string, n int) (bodies []any) {
	p.t.Helper()
	url := p.status().Service["seen"].Facts["url"]
	code, text := get(http.DefaultClient, fmt.Sprintf("%s/-/requests?path=%s&count=%d&wait=40s", url, path, n))
	require.Equal(p.t, 200, code, "%s: %s\n%s", path, text, p.must("trigger"))
	var got struct{ Requests []struct{ Body any } }
	require.NoError(p.t, json.Unmarshal([]byte(text), &got))
	for _, r := range got.Requests {
		bodies = append(bodies, r.Body)
	}
	return bodies
}

// What happens in each kind of service that tells it arrives where it is declared to, what each
// kind of queue takes, too.
func TestTriggersOfRealServers(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	testkit.Need(t, "/usr/sbin/rabbitmq-server", "rabbitmq-server")
	testkit.Need(t, "/usr/sbin/mariadbd", "mariadbd")
	testkit.Need(t, "nats-server")
	testkit.Need(t, "/usr/sbin/mosquitto", "mosquitto")
	testkit.Need(t, "beanstalkd")
	testkit.Need(t, "sqlite3")
	declared := `
[service.seen]
kind = "stub"
routes = [{ on = "POST /{what}", status = 202 }]

[service.ledger]
kind = "postgres"
databases = ["toolshed"]

[service.tills]
kind = "mariadb"
databases = ["toolshed"]

[service.shelf]
kind = "sqlite"

[service.postbox]
kind = "mail"

[service.photos]
kind = "objects"

[service.cache]
kind = "redis"

[service.bus]
kind = "rabbitmq"
queues = ["jobs"]

[service.wire]
kind = "nats"

[service.porch]
kind = "mqtt"

[service.tubes]
kind = "beanstalkd"

[errand.note]
run = "sh -c 'cat $EVENT_FILE > noted.json; test $EVENT_TYPE = put'"

[trigger.rows]
on = { postgres = "loans", change = ["insert", "delete"] }
call = "${seen.url}/rows"

[trigger.payments]
on = { mariadb = "payments", key = "id", every = "100ms" }
call = "${seen.url}/payments"

[trigger.tools]
on = { sqlite = "tools", key = "id", every = "100ms" }
call = "${seen.url}/tools"

[trigger.mails]
on = { mail = "ines@example.org" }
call = "${seen.url}/mails"

[trigger.pictures]
on = { objects = "photos/*.txt", change = ["put"] }
errand = "note"

[trigger.up]
on = { state = "ready", service = "ledger" }
call = "${seen.url}/up"
`
	queues := map[string]string{"cache": "redis", "bus": "rabbitmq", "wire": "nats", "porch": "mqtt", "tubes": "beanstalkd"}
	for name, kind := range queues {
		declared += fmt.Sprintf("\n[trigger.into-%[1]s]\non = { every = \"1000h\" }\nsend = { %[2]s = \"jobs\" }\n\n[trigger.from-%[1]s]\non = { %[2]s = \"jobs\" }\ncall = \"${seen.url}/%[1]s\"\n", name, kind)
	}
	p := newProject(t, declared)
	p.must("start")
	p.must("ask", "--write", "ledger", "create table loans (id int primary key, tool text)")
	p.must("ask", "--write", "tills", "create table toolshed.payments (id int primary key auto_increment, amount int)")
	p.must("ask", "--write", "shelf", "create table tools (id integer primary key, name text)")
	// They are watched from when that can be done.
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(p.run("trigger"))
		}
	})
	p.watched()
	p.must("ask", "--write", "ledger", "insert into loans values (7, 'drill')")
	p.must("ask", "--write", "ledger", "update loans set tool = 'saw'")
	p.must("ask", "--write", "ledger", "delete from loans")
	p.must("ask", "--write", "tills", "insert into toolshed.payments (amount) values (12)")
	p.must("ask", "--write", "shelf", "insert into tools (name) values ('drill')")
	rows := p.came("/rows", 2)
	assert.Equal(t, map[string]any{"change": "insert", "table": "loans", "key": "7", "row": map[string]any{"id": 7.0, "tool": "drill"}}, rows[0])
	assert.Equal(t, map[string]any{"id": 7.0, "tool": "saw"}, rows[1].(map[string]any)["old"])
	assert.Equal(t, "delete", rows[1].(map[string]any)["change"])
	assert.Equal(t, []any{map[string]any{"id": 1.0, "amount": 12.0}}, p.came("/payments", 1))
	assert.Equal(t, []any{map[string]any{"id": 1.0, "name": "drill"}}, p.came("/tools", 1))
	assert.Equal(t, []any{map[string]any{"service": "ledger", "state": "ready"}}, p.came("/up", 1))
	for name := range queues {
		p.must("trigger", "fire", "into-"+name, `{"job":"`+name+`"}`)
		assert.Equal(t, []any{map[string]any{"job": name}}, p.came("/"+name, 1))
	}
	// A broker logs each connection: what is sent later takes the one that is there.
	before := strings.Count(p.must("logs", "bus"), "accepting AMQP connection")
	for range 10 {
		p.must("trigger", "fire", "into-bus", `{"job":"more"}`)
		p.must("data", "bus", "jobs")
	}
	p.came("/bus", 11)
	assert.LessOrEqual(t, strings.Count(p.must("logs", "bus"), "accepting AMQP connection"), before+1)
	send := func(to string) {
		facts := p.status().Service["postbox"].Facts
		out := p.run("run", "--with", "seen", "--", "curl", "-s", "smtp://127.0.0.1:"+facts["port"], "--mail-from", "a@example.org", "--mail-rcpt", to, "-T", p.write("mail.txt", "Subject: Hello\n\nText\n"))
		require.Zero(t, out.code, out.stderr)
	}
	send("tom@example.org")
	send("ines@example.org")
	assert.Equal(t, "Hello", p.came("/mails", 1)[0].(map[string]any)["subject"])
	require.Eventually(t, func() bool { return strings.Contains(p.must("data", "postbox", "inbox"), "tom@example.org") }, patience, 50*time.Millisecond)
	inbox := p.status().Service["postbox"].Facts["url"]

	// A declaration that is applied changes no address; what happened meanwhile arrives.
	text, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
	require.NoError(t, err)
	p.write("neighbour.toml", string(text)+`
[trigger.later]
on = { cron = "0 8 * * MON", zone = "Europe/Oslo" }
errand = "note"
[trigger.more]
on = { postgres = "loans", change = ["insert"] }
call = "${seen.url}/more"
[trigger.paid]
on = { mariadb = "payments", key = "id", every = "100ms" }
call = "${seen.url}/paid"
[trigger.posted]
on = { mail = "*" }
call = "${seen.url}/posted"
`)
	p.must("apply")
	// What happens right after is not missed.
	p.must("ask", "--write", "ledger", "insert into loans values (9, 'vice')")
	p.must("ask", "--write", "tills", "insert into toolshed.payments (amount) values (13)")
	send("marit@example.org")
	p.came("/more", 1)
	assert.Equal(t, 13.0, p.came("/paid", 1)[0].(map[string]any)["amount"])
	assert.Contains(t, fmt.Sprint(p.came("/posted", 1)), "marit@example.org")
	p.came("/rows", 3)
	assert.Equal(t, inbox, p.status().Service["postbox"].Facts["url"])
	code, _ := get(http.DefaultClient, inbox+"/messages")
	assert.Equal(t, 200, code)
	assert.Contains(t, p.must("trigger", "next", "-n", "1"), "later")
	p.must("trigger", "pause", "rows")
	p.must("ask", "--write", "ledger", "insert into loans values (8, 'plane')")
	require.Eventually(t, func() bool {
		return slices.ContainsFunc(p.triggers(), func(tr keep.Trigger) bool { return tr.Name == "rows" && tr.Waiting == 1 })
	}, patience, 20*time.Millisecond)
	p.came("/rows", 3)
	p.must("trigger", "resume", "rows")
	p.came("/rows", 4)
	p.must("stop")
	assert.Empty(t, p.left())
}

// Time can be moved for schedules; what fails is tried again, put aside, and sent once somebody
// has it sent; a trigger that causes its own events is stopped.
func TestTriggersThatFail(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.seen]
kind = "stub"
routes = [
  { on = "POST /fails", calls = "1-4", status = 500, answer = "not yet" },
  { on = "POST /{what}", status = 202 },
]

[service.reviews]
kind = "documents"

[trigger.morning]
on = { cron = "0 8 * * MON", zone = "Europe/Oslo" }
call = "${seen.url}/morning"

[trigger.fails]
on = { every = "1000h" }
call = "${seen.url}/fails"
tries = 2
wait = "10ms"

[trigger.round]
on = { documents = "loans" }
call = "http://127.0.0.1:1/"
chain = 5
`)
	var loans *mongo.Collection
	round := 0
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		round++
		_, err := loans.UpdateByID(r.Context(), "a", bson.D{{Key: "$inc", Value: bson.D{{Key: "n", Value: 1}}}})
		if err != nil {
			w.WriteHeader(500)
		}
	}))
	defer app.Close()
	p.write("neighbour.local.toml", "[trigger.round]\ncall = \""+app.URL+"\"\n")
	p.must("start")
	p.must("trigger", "clock", "monday 07:59")
	assert.Contains(t, p.run("trigger").stderr, "for schedules it is Mon")
	// Eight o'clock of Oslo, whatever the zone of this machine is.
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	monday := time.Now().In(oslo).AddDate(0, 0, 8-int(time.Now().In(oslo).Weekday()))
	monday = time.Date(monday.Year(), monday.Month(), monday.Day(), 8, 0, 0, 0, oslo)
	p.must("trigger", "clock", monday.Local().Format("2006-01-02 15:04"))
	assert.Equal(t, monday.Format(time.RFC3339), p.came("/morning", 1)[0].(map[string]any)["at"])
	p.must("trigger", "clock", "now")
	assert.Empty(t, p.run("trigger").stderr)

	aside := p.run("trigger", "fire", "fails")
	assert.Equal(t, 1, aside.code)
	assert.Contains(t, aside.stderr, "it answered 500 Internal Server Error")
	p.came("/fails", 2)
	require.Eventually(t, func() bool { return strings.Contains(p.must("trigger", "history", "fails"), "aside") }, patience, 20*time.Millisecond)
	p.must("trigger", "retry", "--aside")
	p.came("/fails", 4)
	require.Eventually(t, func() bool { return strings.Contains(p.must("trigger", "history", "fails"), "aside") }, patience, 20*time.Millisecond)
	p.must("trigger", "retry", "--aside")
	p.came("/fails", 5)
	require.Eventually(t, func() bool { return strings.Contains(p.must("trigger", "history", "fails"), "done") }, patience, 20*time.Millisecond)

	facts := p.status().Service["reviews"].Facts
	db, err := mongo.Connect(options.Client().ApplyURI(facts["url"]))
	require.NoError(t, err)
	defer func() { _ = db.Disconnect(context.Background()) }()
	loans = db.Database(facts["database"]).Collection("loans")
	p.watched()
	_, err = loans.InsertOne(t.Context(), bson.D{{Key: "_id", Value: "a"}})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return strings.Contains(p.must("trigger"), "its own doing") }, patience, 50*time.Millisecond)
	assert.LessOrEqual(t, round, 8)

	for _, c := range []struct{ declared, want string }{
		{"[trigger.a]\non = { cron = \"0 0 30 2 *\" }\ncall = \"http://localhost/\"", "never comes"},
		{"[trigger.a]\non = { cron = \"* * *\" }\ncall = \"http://localhost/\"", "it takes five"},
		{"[trigger.a]\non = { static = \"x\" }\ncall = \"http://localhost/\"", "services of kind static do not tell of changes"},
		{"[trigger.a]\non = { documents = \"x\" }\ncall = \"http://localhost/\"", "there is no service of kind documents"},
		{"[trigger.a]\non = { state = \"happy\", service = \"api\" }\ncall = \"http://localhost/\"", `"happy" is no state`},
		{"[trigger.a]\non = { every = \"1s\", cron = \"@daily\" }\nerrand = \"b\"", "several things happen"},
		{"[trigger.a]\non = { every = \"1s\" }\nerrand = \"b\"", `there is no errand "b"`},
		{"[trigger.a]\non = { every = \"1s\" }", "nothing is done when it happens"},
		{"[trigger.a]\ncall = \"http://localhost/\"", "a trigger needs something that happens"},
		{"[trigger.a]\non = { every = \"1s\" }\ncall = \"nowhere\"", "is no address that can be called"},
		{"[trigger.a]\non = { every = \"1s\" }\nsend = { mail = \"x\" }", "services of kind mail take no messages"},
	} {
		wrong := newProject(t, "[service.api]\nrun = \"true\"\n\n"+c.declared+"\n")
		assert.Contains(t, wrong.run("check").stderr+wrong.run("start").stderr, c.want)
	}
}

// arrived notes what came to an app.
type arrived struct {
	mu   sync.Mutex
	keys map[string][]int
	n    int
}

func (a *arrived) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b, err := io.ReadAll(r.Body)
	var e struct {
		Key struct {
			ID string `json:"_id"`
		}
		Update struct {
			Fields struct{ N int } `json:"updatedFields"`
		}
	}
	if err != nil || json.Unmarshal(b, &e) != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	a.mu.Lock()
	a.keys[e.Key.ID] = append(a.keys[e.Key.ID], e.Update.Fields.N)
	a.n++
	a.mu.Unlock()
	w.WriteHeader(http.StatusAccepted)
}

// Whatever is killed, and when, each event arrives at least once, those of a key in their order.
func TestTriggersAcrossKills(t *testing.T) {
	t.Parallel()
	a := &arrived{keys: map[string][]int{}}
	app := httptest.NewServer(a)
	defer app.Close()
	// A port of its own: while nothing runs the usual one is open to demos, which have another list of projects.
	p := newProject(t, "[service.reviews]\nkind = \"documents\"\nport = "+itoa(freePort(t))+"\nrestart = { most = 1000 }\n\n[trigger.reindex]\non = { documents = \"loans\", change = [\"update\"] }\ncall = \""+app.URL+"\"\nwait = \"50ms\"\n")
	p.must("start")
	facts := p.status().Service["reviews"].Facts
	db, err := mongo.Connect(options.Client().ApplyURI(facts["url"]).SetServerSelectionTimeout(20 * time.Second).SetRetryWrites(true))
	require.NoError(t, err)
	defer func() { _ = db.Disconnect(context.Background()) }()
	loans := db.Database(facts["database"]).Collection("loans")
	const keys, events, kills = 10, 1000, 50
	write := func(do func(context.Context) error) {
		assert.Eventually(t, func() bool {
			ctx, cancel := context.WithTimeout(t.Context(), patience/9)
			defer cancel()
			return do(ctx) == nil
		}, patience/3, time.Millisecond)
	}
	for k := range keys {
		write(func(ctx context.Context) error {
			_, err := loans.ReplaceOne(ctx, bson.D{{Key: "_id", Value: fmt.Sprint("k", k)}}, bson.D{{Key: "n", Value: 0}}, options.Replace().SetUpsert(true))
			return err
		})
	}
	p.watched()
	var writing sync.WaitGroup
	writing.Go(func() {
		pace := time.NewTicker(5 * time.Millisecond)
		defer pace.Stop()
		for i := range events {
			<-pace.C
			write(func(ctx context.Context) error {
				_, err := loans.UpdateByID(ctx, fmt.Sprint("k", i%keys), bson.D{{Key: "$set", Value: bson.D{{Key: "n", Value: i/keys + 1}}}})
				return err
			})
		}
	})
	for range kills {
		<-time.After(time.Duration(rand.IntN(150)) * time.Millisecond)
		st := p.status()
		if st.Keeper == nil { // nothing was left that another would go on with
			p.run("start")
			continue
		}
		pid := st.Keeper.PID
		if rand.IntN(2) == 0 {
			pid = st.Service["reviews"].PID
		}
		if pid > 0 {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		if rand.IntN(2) == 0 {
			p.run("start") // what ends by itself so often is waited with, longer and longer
		}
	}
	p.must("start")
	writing.Wait()
	complete := func() bool {
		a.mu.Lock()
		defer a.mu.Unlock()
		for k := range keys {
			seen := map[int]bool{}
			for _, n := range a.keys[fmt.Sprint("k", k)] {
				seen[n] = true
			}
			for n := range events / keys {
				if !seen[n+1] {
					return false
				}
			}
		}
		return true
	}
	assert.Eventually(t, complete, patience, 100*time.Millisecond, "each arrives")
	a.mu.Lock()
	defer a.mu.Unlock()
	for key, all := range a.keys {
		most := 0
		for _, n := range all {
			assert.LessOrEqual(t, n, most+1, "%s: none before one that came before it: %v", key, all)
			most = max(most, n)
		}
	}
	t.Logf("%d events arrived as %d calls across %d kills", events, a.n, kills)
}

func (p *project) triggers() []keep.Trigger {
	p.t.Helper()
	var all keep.Triggers
	require.NoError(p.t, json.Unmarshal([]byte(p.must("trigger", "--json")), &all))
	return all.Triggers
}

// watched waits until nothing that happens is missed any more.
func (p *project) watched() {
	p.t.Helper()
	require.Eventually(p.t, func() bool {
		return !slices.ContainsFunc(p.triggers(), func(tr keep.Trigger) bool { return !tr.Watched })
	}, patience, 50*time.Millisecond)
}
