package e2e

import (
	"database/sql"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/beanstalkd/go-beanstalk"
	"github.com/bradfitz/gomemcache/memcache"
	mqtt "github.com/eclipse/paho.mqtt.golang"
	_ "github.com/go-sql-driver/mysql"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// Each server of the catalogue is used through its usual client: something is
// written, and after a stop and a start it is read back where the server
// keeps data. Two of one kind run beside each other.
const catalogue = `
[project]
name = "toolshed"
[service.books]
kind = "mariadb"
databases = ["toolshed", "odd ` + "`" + `name"]
[service.books2]
kind = "mariadb"
[service.pages]
kind = "memcached"
memory = 16
[service.bus]
kind = "nats"
jetstream = true
streams = { LOANS = ["loans.*"] }
[service.sensors]
kind = "mqtt"
users = ["scale", "door"]
[service.open]
kind = "mqtt"
[service.jobs]
kind = "beanstalkd"
`

func needCatalogue(t *testing.T) {
	testkit.Need(t, "/usr/sbin/mariadbd", "mariadbd")
	testkit.Need(t, "memcached")
	testkit.Need(t, "nats-server")
	testkit.Need(t, "/usr/sbin/mosquitto", "mosquitto")
	testkit.Need(t, "beanstalkd")
}

func TestCatalogueOnRealServers(t *testing.T) {
	t.Parallel()
	needCatalogue(t)
	p := newProject(t, catalogue)
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	s := p.status().Service
	for name, svc := range s {
		assert.Regexp(t, `^\d+\.\d+`, svc.Version, name)
	}
	useCatalogue(t, s, true)

	p.must("stop")
	assert.Empty(t, p.left())
	r = p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.NotContains(t, r.stderr, "mariadb-install-db", "prepared once")
	now := p.status().Service
	for name := range s {
		assert.Equal(t, s[name].Facts, now[name].Facts, name)
	}
	useCatalogue(t, now, false)

	logs, err := filepath.Glob(p.state("logs/*"))
	require.NoError(t, err)
	for _, path := range logs {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, name := range []string{"books", "sensors"} {
			assert.NotContains(t, string(b), s[name].Facts["password"], path)
		}
	}
}

func useCatalogue(t *testing.T, s map[string]service, first bool) {
	t.Helper()
	// MariaDB
	dsn := func(svc service, database string) string {
		return svc.Facts["user"] + ":" + svc.Facts["password"] + "@tcp(" + svc.Facts["host"] + ":" + svc.Facts["port"] + ")/" + database
	}
	db, err := sql.Open("mysql", dsn(s["books"], "toolshed"))
	require.NoError(t, err)
	defer db.Close()
	if first {
		_, err = db.Exec("create table tools (name varchar(40)) select 'hammer drill' as name")
		require.NoError(t, err)
	}
	var name, address string
	require.NoError(t, db.QueryRow("select name, @@bind_address from tools").Scan(&name, &address))
	assert.Equal(t, "hammer drill 127.0.0.1", name+" "+address)
	var odd int
	require.NoError(t, db.QueryRow("select count(*) from information_schema.schemata where schema_name = 'odd `name'").Scan(&odd))
	assert.Equal(t, 1, odd)
	other, err := sql.Open("mysql", dsn(service{Facts: map[string]string{"user": "root", "password": s["books"].Facts["password"], "host": "127.0.0.1", "port": s["books2"].Facts["port"]}}, "mysql"))
	require.NoError(t, err)
	defer other.Close()
	assert.ErrorContains(t, other.Ping(), "Access denied", "each has a password of its own")

	// memcached keeps nothing.
	cache := memcache.New(s["pages"].Facts["address"])
	defer cache.Close()
	if first {
		require.NoError(t, cache.Set(&memcache.Item{Key: "drill", Value: []byte("A1")}))
		item, err := cache.Get("drill")
		require.NoError(t, err)
		assert.Equal(t, "A1", string(item.Value))
	} else {
		_, err := cache.Get("drill")
		assert.ErrorIs(t, err, memcache.ErrCacheMiss)
	}

	// NATS with a declared stream
	nc, err := nats.Connect(s["bus"].Facts["url"])
	require.NoError(t, err)
	defer nc.Close()
	js, err := nc.JetStream()
	require.NoError(t, err)
	if first {
		_, err = js.Publish("loans.drill", []byte("Ines"))
		require.NoError(t, err)
	}
	info, err := js.StreamInfo("LOANS")
	require.NoError(t, err)
	assert.Equal(t, uint64(1), info.State.Msgs)
	assert.Equal(t, []string{"loans.*"}, info.Config.Subjects)

	// MQTT: with users, and for everybody
	connect := func(user, password, port string) (mqtt.Client, error) {
		c := mqtt.NewClient(mqtt.NewClientOptions().AddBroker("tcp://127.0.0.1:" + port).SetUsername(user).SetPassword(password).SetConnectTimeout(5 * time.Second).SetAutoReconnect(false))
		token := c.Connect()
		token.WaitTimeout(5 * time.Second)
		return c, token.Error()
	}
	facts := s["sensors"].Facts
	assert.True(t, strings.HasPrefix(facts["url"], "mqtt://scale:"))
	_, err = connect("", "", facts["port"])
	assert.Error(t, err, "nobody without a password")
	c, err := connect(facts["user"], facts["password"], facts["port"])
	require.NoError(t, err)
	if first {
		token := c.Publish("shed/scale", 1, true, "12 kg")
		require.True(t, token.WaitTimeout(patience))
	}
	got := make(chan string, 1)
	c.Subscribe("shed/scale", 1, func(_ mqtt.Client, m mqtt.Message) { got <- string(m.Payload()) })
	select {
	case weight := <-got:
		assert.Equal(t, "12 kg", weight, "a retained message is kept")
	case <-time.After(patience):
		t.Error("the retained message is gone")
	}
	c.Disconnect(0)
	anybody, err := connect("", "", s["open"].Facts["port"])
	require.NoError(t, err)
	anybody.Disconnect(0)

	// beanstalkd keeps its jobs.
	jobs, err := beanstalk.Dial("tcp", s["jobs"].Facts["address"])
	require.NoError(t, err)
	defer jobs.Close()
	if first {
		_, err = jobs.Put([]byte("remind Ines"), 1, 0, time.Minute)
		require.NoError(t, err)
	}
	id, body, err := jobs.Reserve(time.Second)
	require.NoError(t, err)
	assert.Equal(t, "remind Ines", string(body))
	require.NoError(t, jobs.Release(id, 1, 0))
}

func TestKeysOfTheCatalogue(t *testing.T) {
	t.Parallel()
	for toml, says := range map[string]string{
		"[service.a]\nkind = \"memcached\"\nmemory = -1\n":                       "-1 is not an amount of memory",
		"[service.a]\nkind = \"nats\"\nstreams = { A = [\"a\"] }\n":              "streams are kept by JetStream, which is off",
		"[service.a]\nkind = \"nats\"\njetstream = true\nstreams = { A = [] }\n": "has no subjects",
		"[service.a]\nkind = \"mqtt\"\nusers = [\"a\", \"a\"]\n":                 `"a" is there twice`,
		"[service.a]\nkind = \"mqtt\"\nusers = [\"a:b\"]\n":                      "can't be a name here",
		"[service.a]\nkind = \"mariadb\"\ndatabases = [\"a/b\"]\n":               "can't be a name here",
		"[service.a]\nkind = \"mariadb\"\nversion = \">=99\"\n":                  `no installed MariaDB meets version = ">=99"; installed: 1`,
		"[service.a]\nkind = \"beanstalkd\"\nbinlog = true\n":                    "there is no key",
	} {
		if strings.Contains(toml, ">=99") {
			needCatalogue(t)
		}
		p := newProject(t, toml)
		r := p.run("start")
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.stderr, says)
	}
}

func TestStaticAndOutside(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	p := newProject(t, `
[service.web]
kind = "static"
root = "public"
fallback = "index.html"
[service.tariffs]
kind = "outside"
health = { tcp = "`+l.Addr().String()+`", every = "100ms", fails = 1 }
[service.gone]
kind = "outside"
health = { tcp = "127.0.0.1:9", within = "200ms" }
optional = true
`+program("api", `needs = ["tariffs", "gone", "web"]`))
	r := p.run("start", "web")
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `its web root .*/public doesn't exist; create it, or correct root`, r.stderr)
	p.write("public/index.html", "Toolshed")
	r = p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stderr, "connection refused", "its absence is shown")
	s := p.status().Service
	assert.Equal(t, "ready ready failed", s["api"].State+" "+s["tariffs"].State+" "+s["gone"].State)
	assert.Zero(t, s["tariffs"].PID)
	resp, err := http.Get(s["web"].Facts["url"] + "/loans/3")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	l.Close()
	p.until("tariffs", "ailing")
	p.must("stop")
	assert.Empty(t, p.left())
}
