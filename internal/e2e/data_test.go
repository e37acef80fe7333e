package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/smtp"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/beanstalkd/go-beanstalk"
	"github.com/bradfitz/gomemcache/memcache"
	mqtt "github.com/eclipse/paho.mqtt.golang"
	"github.com/gomodule/redigo/redis"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/core/data/store"
	coreproject "neighbour/internal/core/project"
	"neighbour/internal/testkit"
)

// tools is what the databases of these tests hold.
const tools = `create table tool (id integer primary key, name varchar(80) not null, photo %s, note text);
create table loan (tool integer not null, day date not null, member varchar(40), primary key (tool, day), foreign key (tool) references tool (id));
create table "my.odd "" Table" (v text);
insert into tool values (1, 'hammer drill', %s, null), (2, 'tile
cutter', null, ''), (3, 'it''s a saw', null, '{"a": 1}');
insert into loan values (1, '2026-11-20', 'Ines Brandt'), (1, '2026-11-24', 'Tomas Okafor'), (2, '2026-11-20', null);
`

func filledDatabase(t *testing.T, name string, d database) *project {
	p := newProject(t, "[service.ledger]\n"+d.declaration+"\nmigrations = \"changes\"\n")
	script := fmt.Sprintf(tools, map[string]string{"postgres": "bytea"}[name], `'\x00ff'`)
	if name != "postgres" {
		script = fmt.Sprintf(tools, "blob", "x'00ff'")
	}
	if name == "mariadb" {
		script = strings.ReplaceAll(script, `"my.odd "" Table"`, "`my.odd \" Table`")
	}
	p.write("changes/2_odd.sql", fmt.Sprintf("create table odd (id integer %s, words varchar(200) default 'x', number double precision not null, half double precision generated always as (number / 2) stored, truth boolean);\ncreate unique index odd_words on odd (words, number);\n",
		map[string]string{"postgres": "generated always as identity primary key", "mariadb": "auto_increment primary key", "sqlite": "primary key"}[name]))
	p.write("changes/1_tools.sql", script)
	p.must("start")
	return p
}

// Each database is looked into, asked and changed alike, and nothing but a change
// that is meant changes anything.
func TestDataOfDatabases(t *testing.T) {
	eachDatabase(t, func(t *testing.T, name string, d database) {
		p := filledDatabase(t, name, d)
		data := func(args ...string) string { return p.must(append([]string{"data", "ledger"}, args...)...) }
		all := data("--csv")
		for _, want := range []string{"tool,table,3,", "loan,table,3,", `Table`} {
			assert.Contains(t, all, want)
		}
		assert.Equal(t, `{"id":1,"name":"hammer drill","photo":"00ff","note":null}`+"\n"+`{"id":2,"name":"tile\ncutter","photo":null,"note":""}`+"\n"+`{"id":3,"name":"it's a saw","photo":null,"note":"{\"a\": 1}"}`+"\n", data("tool", "--json"))
		assert.Equal(t, "id,name,photo,note\n1,hammer drill,00ff,\n", data("tool", "--csv", "--where", "DRILL"))
		assert.Equal(t, "id,name,photo,note\n3,it's a saw,,\"{\"\"a\"\": 1}\"\n", data("tool", "--csv", "--where", "id > 1 and note like '%a%'"))
		first := p.run("data", "ledger", "loan", "--limit", "1")
		assert.Contains(t, first.stderr, "there are more; --limit 10 shows more, or --after '")
		after := strings.Split(first.stderr, "'")[1]
		assert.Equal(t, "tool,day,member\n1,2026-11-24,Tomas Okafor\n2,2026-11-20,\n", strings.ReplaceAll(data("loan", "--csv", "--after", after), " 00:00:00Z", ""))
		assert.Regexp(t, `tool +1 +→ \S*tool hammer drill`, data("loan", after))
		assert.Empty(t, data(`"my.odd "" Table"`, "--json"))

		for statement, says := range map[string]string{"delete from loan": "would change data", "drop table loan": "would change data", "update tool set name = 'x'": "would change data",
			"select * from nowhere": "nowhere", "select 1; select 2": "ask one at a time", "selec 1": "syntax", "truncate loan": ""} {
			r := p.run("ask", "ledger", statement)
			assert.Equal(t, 1, r.code, statement)
			assert.Contains(t, r.stderr, says, statement)
		}
		assert.Equal(t, "3\n", strings.TrimPrefix(p.must("ask", "ledger", "select count(*) as n from loan", "--csv"), "n\n"))
		assert.Equal(t, "1 row changed\n", p.must("ask", "ledger", "--write", "delete from loan where tool = 2"))
		assert.Equal(t, "2", p.query(d.driver, "select count(*) from loan"))
		for _, args := range [][]string{{"data", "ledger", "nowhere"}, {"data", "ledger", "tool", "99"}, {"data", "ledger", "tool", "--after", "x"}, {"data", "ledger", "tool", "--where", "nme = 1"}} {
			r := p.run(args...)
			assert.Equal(t, 1, r.code, args)
			assert.NotContains(t, r.stderr, "panic", args)
		}

		// Rows of a file are added, all of them or none.
		p.write("bad.csv", "id,name\n7,plane\n7,twice\n8,\n")
		for _, args := range [][]string{{"--dry-run"}, {"--yes"}} {
			r := p.run(append([]string{"data", "ledger", "tool", "--from", "bad.csv"}, args...)...)
			assert.Equal(t, 1, r.code)
			assert.Contains(t, r.stderr, "bad.csv:3: ")
			assert.Contains(t, r.stderr, "bad.csv:4: ")
			assert.Contains(t, r.stderr, "1 row would fit, 2 would not; nothing was added")
		}
		p.write("good.json", `{"id": 7, "name": "plane", "photo": "00ff", "note": null}`+"\n"+`{"id": 8, "name": ""}`+"\n")
		assert.Equal(t, "2 rows would fit; nothing was added\n", p.must("data", "ledger", "tool", "--from", "good.json", "--dry-run"))
		assert.Equal(t, "3", p.query(d.driver, "select count(*) from tool"))
		assert.Equal(t, "2 rows added\n", p.must("data", "ledger", "tool", "--from", "good.json", "--yes"))
		assert.Equal(t, "id,name,photo,note\n7,plane,00ff,\n8,\"\",,\n", data("tool", "--csv", "--where", "id > 3"))

		// A table's structure is told, and its rows come back from their statements.
		assert.Equal(t, map[string]string{"postgres": `column,id,integer,key · always has a value · given by the server
column,words,character varying(200),else 'x'::character varying
column,number,double precision,always has a value
column,half,double precision,computed by the server
column,truth,boolean,""
index,odd_pkey,unique index,btree (id)
index,odd_words,unique index,"btree (words, number)"
`, "mariadb": `column,id,int(11),key · always has a value · given by the server
column,words,varchar(200),else 'x'
column,number,double,always has a value
column,half,double,computed by the server
column,truth,tinyint(1),""
index,PRIMARY,unique index,(id)
index,odd_words,unique index,"(words, number)"
`, "sqlite": `column,id,integer,key · given by the server
column,words,varchar(200),else 'x'
column,number,double precision,always has a value
column,half,double precision,computed by the server
column,truth,boolean,""
index,odd_words,unique index,"(words, number)"
`}[name], strings.TrimPrefix(data("odd", "--structure", "--csv"), "part,name,is,more\n"))
		assert.Regexp(t, `foreign key +tool +leads to +\S*tool \(id\)`, data("loan", "--structure"))
		p.write("odd.json", `{"words": "it's a \\ and a \n line; -- ?", "number": -2.5e10, "truth": true}`+"\n"+`{"words": null, "number": 0, "truth": false}`+"\n"+`{"words": "日本 \"x\"", "number": 0.1, "truth": null}`)
		p.must("data", "ledger", "odd", "--from", "odd.json", "--yes")
		before, statements := data("odd", "--json"), data("odd", "--sql")
		assert.Equal(t, 3, strings.Count(statements, "INSERT INTO "), statements)
		p.must("ask", "ledger", "--write", "delete from odd")
		load := func(script string) (string, error) {
			cmd := exec.Command(binary, "load", "ledger")
			cmd.Dir, cmd.Stdin = p.dir, strings.NewReader(script)
			out, err := cmd.CombinedOutput()
			return string(out), err
		}
		if name == "sqlite" {
			testkit.Need(t, "sqlite3")
		}
		out, err := load(statements)
		require.NoError(t, err, out)
		assert.Equal(t, before, data("odd", "--json"))
		assert.Contains(t, data("tool", "--sql", "--limit", "1"), map[string]string{"postgres": `'\x00ff'`, "mariadb": "X'00ff'", "sqlite": "X'00ff'"}[name])

		// What is dumped comes back, compressed too.
		packed := p.must("dump", "ledger", "--gzip")
		assert.Equal(t, "\x1f\x8b", packed[:2])
		if name == "sqlite" {
			require.NoError(t, os.Remove(p.dir+"/app.db"))
		} else {
			p.must("ask", "ledger", "--write", "delete from loan")
		}
		out, err = load(packed)
		require.NoError(t, err, out)
		assert.Equal(t, "2", p.query(d.driver, "select count(*) from loan"))
		for what, script := range map[string]string{"can't be read": packed[:len(packed)-40], "is cut off": p.must("dump", "ledger")[:1500], "is empty": ""} {
			out, err = load(script)
			assert.Error(t, err)
			assert.Contains(t, out, what)
		}
		if name == "postgres" { // whose tables are made in transactions, too
			assert.Equal(t, "2", p.query(d.driver, "select count(*) from loan"))
		} else {
			_, _ = load(packed)
		}
		out, err = load("insert into loan values (3, '2026-01-01', 'x');\nnonsense;")
		assert.Error(t, err)
		assert.Contains(t, strings.ToLower(out), "nonsense")

		if name == "sqlite" {
			return
		}
		p.must("stop", "ledger")
		r := p.run("data", "ledger", "tool")
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.stderr, "neighbour start ledger")
	})
}

// A question that takes long ends in the server when whoever asked has gone.
func TestQuestionTakenBack(t *testing.T) {
	eachDatabase(t, func(t *testing.T, name string, d database) {
		if name == "sqlite" {
			return // there is no server that could go on
		}
		p := filledDatabase(t, name, d)
		sleep := map[string]string{"postgres": "select pg_sleep(60)", "mariadb": "select sleep(60)"}[name]
		running := map[string]string{"postgres": "select count(*) from pg_stat_activity where query like 'select pg_sleep%' and state = 'active'",
			"mariadb": "select count(*) from information_schema.processlist where info like 'select sleep%'"}[name]
		ctx, cancel := context.WithCancel(t.Context())
		ask := exec.CommandContext(ctx, binary, "ask", "ledger", sleep)
		ask.Dir = p.dir
		require.NoError(t, ask.Start())
		require.Eventually(t, func() bool { return p.query(d.driver, running) == "1" }, patience, 50*time.Millisecond)
		cancel()
		_ = ask.Wait()
		require.Eventually(t, func() bool { return p.query(d.driver, running) == "0" }, patience, 50*time.Millisecond)
	})
}

func TestDataOfRedis(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	p := newProject(t, "[service.shelf]\nkind = \"redis\"\n")
	p.must("start")
	address := strings.TrimPrefix(p.status().Service["shelf"].Facts["url"], "redis://")
	c, err := redis.Dial("tcp", address)
	require.NoError(t, err)
	defer c.Close()
	do := func(name string, args ...any) {
		_, err := c.Do(name, args...)
		require.NoError(t, err)
	}
	for i := range 250 {
		do("SET", fmt.Sprintf("session:%d", i), fmt.Sprintf(`{"user":%d}`, i), "EX", 3600)
	}
	do("HSET", "tool:1", "name", "hammer drill", "shelf", "A 3")
	do("RPUSH", "queue", "a", "b")
	do("ZADD", "rank", 1.5, "ines")
	do("SADD", "set", "x")
	do("XADD", "log", "1-1", "a", "1")
	do("SET", "\xff\x00bin*", "\x01\xfe")
	data := func(args ...string) string { return p.must(append([]string{"data", "shelf"}, args...)...) }
	assert.Equal(t, "service,collection,is,items,size\nshelf,*,keys,256,\nshelf,session:*,keys,250,\nshelf,tool:*,keys,1,\n", data("--csv"))
	seen := map[string]bool{}
	for l := range strings.Lines(data("session:*", "--limit", "1000", "--json")) {
		var row struct{ Key, Type string }
		require.NoError(t, json.Unmarshal([]byte(l), &row))
		assert.False(t, seen[row.Key])
		seen[row.Key] = true
	}
	assert.Len(t, seen, 250, "each once")
	for key, want := range map[string]string{"tool:1": `{"name":"hammer drill","shelf":"A 3"}`, "queue": `{"0":"a","1":"b"}`, "rank": `{"ines":"1.5"}`, "log": `{"1-1":"a=1"}`, `["hex","ff0062696e2a"]`: `{"value":"01fe"}`} {
		assert.Equal(t, want+"\n", data("*", key, "--json"), key)
	}
	assert.Contains(t, data("*", "--where", "tool"), "tool:1")
	assert.Equal(t, "answer\n1\n", p.must("ask", "shelf", "exists queue", "--csv"))
	for command, says := range map[string]string{"del queue": "would change data", "flushall": "would change data", "eval 'return 1' 0": "would change data", "subscribe x": "console", "nonsense": "no command", `get "`: "not closed", "get queue": "WRONGTYPE"} {
		r := p.run("ask", "shelf", command)
		assert.Equal(t, 1, r.code, command)
		assert.Contains(t, r.stderr, says, command)
	}
	p.must("ask", "shelf", "--write", "del queue")
	r := p.run("data", "shelf", "*", "queue")
	assert.Contains(t, r.stderr, "the key queue is not there")

	s := open(t, p.dir, 120, 30)
	s.press("8")
	s.see(`tool:\* +1`) // before it can be chosen
	s.press("Down", "Down", "Enter")
	s.see(`▌ tool:1 +hash`)
	s.press("Enter")
	s.see(`▌ name +hammer drill`)
	s.press("e")
	s.see(`Change it`)
	s.press("BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "s", "a", "w", "Enter")
	s.see(`HSET tool:1 name "hammer saw"`)
	s.press("Enter")
	s.see(`▌ name +hammer saw`)
	name, err := redis.String(c.Do("HGET", "tool:1", "name"))
	require.NoError(t, err)
	assert.Equal(t, "hammer saw", name)
}

// The data view on a real database: into a table, along a key, back, only some rows,
// a question, and a server that is stopped meanwhile.
func TestDataOnTheScreen(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres, "postgres")
	p := filledDatabase(t, "postgres", databases["postgres"])
	s := open(t, p.dir, 130, 32)
	s.press("8")
	s.see(`ledger › toolshed › loan +3 rows`)
	s.press("Enter", "Down", "Enter")
	s.see(`tool +1 +→ tool · hammer drill`)
	s.press("Enter")
	s.see(`tool · 1`)
	s.see(`name +hammer drill`)
	s.press("Escape")
	s.see(`loan · 1, 2026-11-24`)
	s.press("Escape")
	s.see(`ledger › toolshed › loan +3 rows`)
	s.press("/", "I", "n", "e", "s", "Enter")
	s.see(`with "Ines" in them`)
	s.see(`Ines Brandt`)
	s.press("Escape")
	s.see(`Tomas Okafor`)
	s.press(":")
	s.tmux("send-keys", "-l", "select name from too")
	s.press("Tab")
	s.see(`select name from tool`)
	s.press("Enter")
	s.see(`3 rows`)
	s.see(`it's a saw`)
	s.press(":")
	s.press("C-u")
	s.tmux("send-keys", "-l", "delete from loan")
	s.press("Enter")
	s.see(`This may change what ledger holds`)
	s.press("Escape")
	assert.Equal(t, "3", p.query("pgx", "select count(*) from loan"))
	s.press("Escape")
	s.see(`ledger › toolshed › loan`)
	db := p.open("pgx")
	defer db.Close()
	_, err := db.Exec("insert into loan values (3, '2026-12-24', 'Marit Solheim')")
	require.NoError(t, err)
	s.see(`Marit Solheim`)
	s.press("End", "x")
	s.see(`DELETE FROM "public"."loan" WHERE "tool" = '3' AND "day" = '2026-12-24'`)
	s.press("Enter")
	s.see(`1 row deleted`)
	assert.Equal(t, "3", p.query("pgx", "select count(*) from loan"))
	// Under a filter only those that it leaves are deleted, or all once the name is typed.
	s.press("/", "I", "n", "e", "s", "Enter")
	s.see(`with "Ines" in them`)
	s.press("X")
	s.see(`those that the filter leaves: 1 row of `)
	s.press("Down")
	s.see(`▌ 2 +all: 3 rows of `)
	s.press("Enter")
	s.see(`Delete all of loan\?`)
	s.press("l", "o", "a", "Enter")
	s.see(`that is not its name`)
	s.press("Escape", "X", "Enter")
	s.see(`DELETE FROM "public"."loan" WHERE`)
	s.press("Enter")
	s.see(`1 row deleted`)
	assert.Equal(t, "2", p.query("pgx", "select count(*) from loan"))
	s.press("Escape")
	s.see(`Tomas Okafor`)
	s.press("X")
	s.see(`Delete all of loan\?`)
	s.press("l", "o", "a", "n", "Enter")
	s.see(`loan is empty`)
	assert.Equal(t, "0", p.query("pgx", "select count(*) from loan"))
	_, err = db.Exec("drop table loan")
	require.NoError(t, err)
	s.see(`is not there`)
	db.Close()
	p.must("stop", "ledger")
	s.see(`stopped`)
}

// Mails are read on the screen, and by tests over HTTP.
func TestMailOnTheScreen(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.postbox]\nkind = \"mail\"\nrefuse = [\"*@bounce.example.org\"]\n[service.api]\nrun = \"sleep 1000\"\nenv.SMTP_URL = \"${postbox.smtp_url}\"\nenv.INBOX = \"${postbox.url}\"\n")
	p.must("start")
	facts := p.status().Service["postbox"].Facts
	send := func(to, subject string) error {
		return smtp.SendMail(strings.TrimPrefix(facts["smtp_url"], "smtp://"), nil, "shed@example.org", []string{to}, []byte("From: Shed <shed@example.org>\r\nDate: Thu, 26 Nov 2026 10:00:00 +0000\r\nContent-Type: text/html\r\nSubject: "+subject+"\r\n\r\n<h1>Due</h1><p>Bring it <a href=\"http://127.0.0.1/x\">back</a>\x1b[2J.\r\n"))
	}
	require.NoError(t, send("ines@example.org", "The drill"))
	assert.ErrorContains(t, send("a@bounce.example.org", "x"), "550")
	assert.Equal(t, facts["url"]+"\n", p.must("run", "--with", "api", "--", "printenv", "INBOX"))
	assert.Contains(t, p.must("data", "postbox", "inbox", "--json"), `"subject":"The drill"`)
	s := open(t, p.dir, 120, 34)
	s.see(`postbox`)
	s.press("8")
	s.see(`inbox +● 1 new`)
	s.see(`refuses \*@bounce.example.org`)
	require.NoError(t, send("ines@example.org", "The ladder"))
	s.see(`The ladder`)
	s.press("Enter", "Enter")
	s.see(`Bring it back \[1\]`)
	s.see(`▲ it has no plain part`)
	s.see(`● 1 new`)
	// An attachment is saved, under a name that leads nowhere else.
	require.NoError(t, smtp.SendMail(strings.TrimPrefix(facts["smtp_url"], "smtp://"), nil, "shed@example.org", []string{"ines@example.org"}, []byte("From: a@example.org\r\nSubject: The bill\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nHere.\r\n--b\r\nContent-Type: application/pdf\r\nContent-Disposition: attachment; filename=\"../bill.pdf\"\r\n\r\nPDF\r\n--b--\r\n")))
	s.press("Escape", "Home")
	s.see(`The bill`)
	s.press("Home", "Enter")
	s.see(`bill.pdf`)
	s.press("a")
	s.see(`save 1 attachment`)
	s.press("Down", "Down", "Enter")
	s.see(`no file there is written over`)
	s.press("Enter")
	s.see(`write 1 file into`)
	s.press("Enter")
	s.see(`saved as .*/_bill\.pdf`)
	saved, err := readFile(p, "_bill.pdf")
	require.NoError(t, err)
	assert.Equal(t, "PDF", strings.TrimSpace(string(saved)))
	s.press("x")
	s.see(`the mail will be lost`)
	s.press("Enter")
	s.see(`1 mail deleted`)
	p.must("stop")
	assert.Empty(t, p.left())
}

// Caches, queues and brokers are looked into without anything being taken out.
func TestDataOfQueues(t *testing.T) {
	t.Parallel()
	needCatalogue(t)
	p := newProject(t, `[service.pages]
kind = "memcached"
[service.bus]
kind = "nats"
jetstream = true
streams = { LOANS = ["loans.*"] }
[service.sensors]
kind = "mqtt"
users = ["scale"]
[service.jobs]
kind = "beanstalkd"
`)
	p.must("start")
	facts := func(service string) map[string]string { return p.status().Service[service].Facts }
	data := func(args ...string) string { return p.must(append([]string{"data"}, args...)...) }

	cache := memcache.New(facts("pages")["address"])
	require.NoError(t, cache.Set(&memcache.Item{Key: "page:1", Value: []byte("\x00\xff")}))
	require.NoError(t, cache.Set(&memcache.Item{Key: "page:2", Value: []byte("two"), Expiration: 600}))
	assert.Regexp(t, `page:1\s+∅\s+\d+\npage:2\s+\d+ min\s+\d+\n`, data("pages", "keys"))
	assert.Equal(t, `{"value":"00ff","flags":0}`+"\n", data("pages", "keys", "page:1", "--json"))
	assert.Contains(t, data("pages", "statistics"), "curr_items")
	assert.Contains(t, p.run("data", "pages", "keys", "page:3").stderr, "the key page:3 is not there")

	bus, err := nats.Connect(facts("bus")["url"])
	require.NoError(t, err)
	defer bus.Close()
	for i := range 5 {
		require.NoError(t, bus.Publish("loans.new", fmt.Appendf(nil, `{"tool":%d}`, i)))
	}
	require.NoError(t, bus.Flush())
	require.Eventually(t, func() bool { return strings.Contains(data("bus", "--csv"), "LOANS,stream,5,") }, patience, 50*time.Millisecond)
	assert.Regexp(t, `^\{"seq":3,.*"data":\{"tool":2\}\}\n\{"seq":4,`, data("bus", "LOANS", "--json", "--limit", "2", "--after", `["2"]`))
	assert.Contains(t, data("bus", "LOANS", "--where", `"tool":4`), "loans.new")
	assert.Contains(t, data("bus", "LOANS", "5"), `{"tool":4}`)
	assert.Contains(t, p.run("data", "bus", "LOANS", "99").stderr, "the message 99 is not there")
	assert.Contains(t, p.run("data", "bus", "NONE").stderr, "a stream NONE is not there")
	assert.Contains(t, data("bus", "--csv"), "LOANS,stream,5,", "nothing was taken out")

	f := facts("sensors")
	sensor := mqtt.NewClient(mqtt.NewClientOptions().AddBroker("tcp://" + f["host"] + ":" + f["port"]).SetUsername(f["user"]).SetPassword(f["password"]))
	require.True(t, sensor.Connect().WaitTimeout(patience))
	defer sensor.Disconnect(0)
	require.True(t, sensor.Publish("shed/door", 1, true, "open").WaitTimeout(patience))
	assert.Contains(t, data("sensors", "--csv"), "shed/door,topic,1,")
	require.True(t, sensor.Publish("shed/scale", 1, false, `{"kg": 3.2}`).WaitTimeout(patience))
	require.Eventually(t, func() bool { return strings.Contains(data("sensors", "#"), `{"kg": 3.2}`) }, patience, 50*time.Millisecond)
	assert.Regexp(t, `shed/door.*"retained":true,"size":4,"payload":"open"`, data("sensors", "shed/door", "--json"))

	jobs, err := beanstalk.Dial("tcp", facts("jobs")["address"])
	require.NoError(t, err)
	defer jobs.Close()
	tube := beanstalk.NewTube(jobs, "re.mind")
	id, err := tube.Put([]byte("Ines"), 7, 0, time.Minute)
	require.NoError(t, err)
	_, err = tube.Put([]byte("later"), 1, time.Hour, time.Minute)
	require.NoError(t, err)
	assert.Contains(t, data("jobs", "--csv"), `"""re.mind""",tube,2,`)
	assert.Regexp(t, `ready +7 .*Ines\n.*delayed +1 .*later`, data("jobs", "re.mind"))
	assert.Regexp(t, `body +Ines`, data("jobs", "re.mind", fmt.Sprint(id)))
	assert.Contains(t, p.run("data", "jobs", "none").stderr, "a tube none is not there")

	// What is done is what was planned, and of one that can't be done nothing is.
	opened, err := coreproject.Open(p.dir)
	require.NoError(t, err)
	keeper := api.NewClient(opened.Socket())
	defer keeper.Close()
	text := func(s string) *string { return &s }
	for _, c := range []struct {
		service string
		act     store.Act
		plan    string // "" where there is none
		says    string // of the act, or of its refusal
	}{
		{"pages", store.Act{Collection: "keys", Key: `["page:1"]`, Action: store.Delete}, "delete page:1", "1 key deleted"},
		{"pages", store.Act{Collection: "keys", Key: `["page:1"]`, Action: store.Delete}, "delete page:1", "the key is not there"},
		{"pages", store.Act{Collection: "keys", Key: `["a\r\nflush_all"]`, Action: store.Delete}, "", "no key of memcached has blanks"},
		{"pages", store.Act{Collection: "keys", Action: store.Clear}, "flush_all", "the cache is empty"},
		{"bus", store.Act{Collection: "LOANS", Action: store.Insert, Values: map[string]*string{"subject": text("loans.x"), "data": text("six")}}, "publish to loans.x:\nsix", "published as message 6 of LOANS"},
		{"bus", store.Act{Collection: "LOANS", Action: store.Insert, Values: map[string]*string{"subject": text("other")}}, "publish to other:\n", "no stream takes the subject other"},
		{"bus", store.Act{Collection: "LOANS", Key: `["6"]`, Action: store.Delete}, "delete message 6 of LOANS", "1 message deleted"},
		{"bus", store.Act{Collection: "LOANS", Action: store.Clear}, "purge LOANS", "5 messages deleted"},
		{"sensors", store.Act{Collection: "#", Action: store.Insert, Values: map[string]*string{"topic": text("shed/door"), "payload": text("shut"), "retain": text("yes")}}, "PUBLISH shed/door, retained:\nshut", "published"},
		{"sensors", store.Act{Collection: "#", Action: store.Insert, Values: map[string]*string{"topic": text("shed/#")}}, "", "without # and +"},
		{"jobs", store.Act{Collection: `"re.mind"`, Key: fmt.Sprintf(`["%d"]`, id), Action: "bury"}, fmt.Sprintf("watch re.mind, reserve, bury %d", id), "it is buried"},
		{"jobs", store.Act{Collection: `"re.mind"`, Key: fmt.Sprintf(`["%d"]`, id), Action: "bury"}, fmt.Sprintf("watch re.mind, reserve, bury %d", id), "no job is ready"},
		{"jobs", store.Act{Collection: `"re.mind"`, Key: fmt.Sprintf(`["%d"]`, id), Action: "kick"}, fmt.Sprintf("kick-job %d", id), "it is ready"},
		{"jobs", store.Act{Collection: `"re.mind"`, Action: store.Insert, Values: map[string]*string{"body": text("new"), "delay": text("1h")}}, "use re.mind, put 1024 3600 …:\nnew", "put as job 3"},
		{"jobs", store.Act{Collection: `"re.mind"`, Action: "kick all", Values: map[string]*string{"number": text("9")}}, "use re.mind, kick 9", "2 jobs made ready"},
		{"jobs", store.Act{Collection: `"re.mind"`, Key: fmt.Sprintf(`["%d"]`, id), Action: store.Delete}, fmt.Sprintf("delete %d", id), "1 job deleted"},
		{"jobs", store.Act{Collection: `"re.mind"`, Key: `["99"]`, Action: store.Delete}, "delete 99", "the job 99"},
	} {
		plan, err := keeper.Plan(t.Context(), c.service, c.act)
		assert.Equal(t, c.plan, plan.Statement)
		says, actErr := keeper.Act(t.Context(), c.service, c.act)
		if actErr != nil {
			says = actErr.Error()
		}
		assert.Equal(t, c.plan == "", err != nil, "%v: %v", c.act, err)
		assert.Contains(t, says, c.says)
	}
	require.Eventually(t, func() bool { return strings.Contains(data("sensors", "shed/door"), "shut") }, patience, 50*time.Millisecond)
	p.must("stop")
	assert.Empty(t, p.left())
}
