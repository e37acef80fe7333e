package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/smtp"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/beanstalkd/go-beanstalk"
	"github.com/gomodule/redigo/redis"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

// holder is a service that keeps data, and how that is written and counted.
type holder struct {
	declaration string
	needs       []string
	// open connects to the service. Put writes the nth of what is written, and returns when
	// the service has it; count says how many it has.
	open func(t *testing.T, s service) (put func(n int) error, count func() int)
}

// numbered makes the counted ones sure to be those up to their number.
func numbered(t *testing.T, all []int) int {
	seen := map[int]bool{}
	for _, n := range all {
		seen[n] = true
	}
	for n := 1; n <= len(seen); n++ {
		require.True(t, seen[n], "%d is missing among %d", n, len(seen))
	}
	return len(seen)
}

func inSQL(driver string, address func(s service) string) func(t *testing.T, s service) (func(int) error, func() int) {
	return func(t *testing.T, s service) (func(int) error, func() int) {
		db, err := sql.Open(driver, address(s))
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		db.SetMaxOpenConns(1)
		_, err = db.Exec("create table if not exists loans (id integer primary key, note varchar(4000))")
		require.NoError(t, err)
		note := strings.Repeat("drill ", 200)
		return func(n int) error {
				_, err := db.Exec(fmt.Sprintf("insert into loans values (%d, '%s')", n, note))
				return err
			}, func() int {
				rows, err := db.Query("select id from loans")
				require.NoError(t, err)
				defer rows.Close()
				var all []int
				for rows.Next() {
					var n int
					require.NoError(t, rows.Scan(&n))
					all = append(all, n)
				}
				require.NoError(t, rows.Err())
				return numbered(t, all)
			}
	}
}

var holders = map[string]holder{
	"ledger": {"kind = \"postgres\"", []string{testkit.Postgres, "postgres"}, inSQL("pgx", func(s service) string { return s.Facts["url"] })},
	"books": {"kind = \"mariadb\"\ndatabases = [\"toolshed\"]\nusers = [\"shed\"]", []string{"/usr/sbin/mariadbd", "mariadbd"}, inSQL("mysql", func(s service) string {
		return fmt.Sprintf("%s:%s@tcp(127.0.0.1:%s)/toolshed", s.Facts["user"], s.Facts["password"], s.Facts["port"])
	})},
	"file": {"kind = \"sqlite\"\nfile = \"app.db\"", nil, inSQL("sqlite", func(s service) string {
		return s.Facts["path"] + "?_pragma=journal_mode(wal)&_pragma=busy_timeout(60000)"
	})},
	"shelf": {"kind = \"redis\"", []string{"redis-server"}, func(t *testing.T, s service) (func(int) error, func() int) {
		pool := &redis.Pool{Dial: func() (redis.Conn, error) { return redis.DialURL(s.Facts["url"], redis.DialReadTimeout(time.Minute)) }}
		t.Cleanup(func() { pool.Close() })
		do := func(name string, args ...any) (any, error) {
			c := pool.Get()
			defer c.Close()
			return c.Do(name, args...)
		}
		return func(n int) error { _, err := do("RPUSH", "loans", n); return err }, func() int {
			list, err := redis.Strings(do("LRANGE", "loans", 0, -1))
			require.NoError(t, err)
			return numbered(t, numbers(t, list))
		}
	}},
	"bus": {"kind = \"rabbitmq\"\nqueues = [\"loans\"]", []string{"rabbitmq-server", "/usr/sbin/rabbitmq-server"}, func(t *testing.T, s service) (func(int) error, func() int) {
		ch, err := dialled(t, s.Facts["url"]).Channel()
		require.NoError(t, err)
		require.NoError(t, ch.Confirm(false))
		return func(n int) error {
				c, err := ch.PublishWithDeferredConfirmWithContext(context.Background(), "", "loans", true, false, amqp.Publishing{Body: []byte(strconv.Itoa(n)), DeliveryMode: amqp.Persistent})
				if err == nil && !c.Wait() {
					err = fmt.Errorf("%d was not taken", n)
				}
				return err
			}, func() int {
				var all []int
				for {
					m, ok, err := ch.Get("loans", true)
					require.NoError(t, err)
					if !ok {
						return numbered(t, all)
					}
					all = append(all, numbers(t, []string{string(m.Body)})...)
				}
			}
	}},
	"beans": {"kind = \"beanstalkd\"", []string{"beanstalkd"}, func(t *testing.T, s service) (func(int) error, func() int) {
		c, err := beanstalk.Dial("tcp", "127.0.0.1:"+s.Facts["port"])
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		return func(n int) error { _, err := c.Put([]byte(strconv.Itoa(n)), 1, 0, time.Hour); return err }, func() int {
			var all []int
			for {
				_, body, err := c.Reserve(0)
				if err != nil {
					return numbered(t, all)
				}
				all = append(all, numbers(t, []string{string(body)})...)
			}
		}
	}},
	"stream": {"kind = \"nats\"\njetstream = true", []string{"nats-server"}, func(t *testing.T, s service) (func(int) error, func() int) {
		c, err := nats.Connect(s.Facts["url"])
		require.NoError(t, err)
		t.Cleanup(c.Close)
		js, err := c.JetStream(nats.MaxWait(time.Minute))
		require.NoError(t, err)
		_, _ = js.AddStream(&nats.StreamConfig{Name: "loans", Subjects: []string{"loans"}})
		return func(n int) error { _, err := js.Publish("loans", []byte(strconv.Itoa(n))); return err }, func() int {
			info, err := js.StreamInfo("loans")
			require.NoError(t, err)
			var all []int
			for i := uint64(1); i <= info.State.LastSeq; i++ {
				m, err := js.GetMsg("loans", i)
				require.NoError(t, err)
				all = append(all, numbers(t, []string{string(m.Data)})...)
			}
			return numbered(t, all)
		}
	}},
	"reviews": {"kind = \"documents\"", nil, func(t *testing.T, s service) (func(int) error, func() int) {
		c, err := mongo.Connect(options.Client().ApplyURI(s.Facts["url"]))
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Disconnect(context.Background()) })
		loans := c.Database("toolshed").Collection("loans")
		return func(n int) error {
				_, err := loans.InsertOne(context.Background(), bson.D{{Key: "_id", Value: n}})
				return err
			}, func() int {
				var all []struct {
					ID int `bson:"_id"`
				}
				found, err := loans.Find(context.Background(), bson.D{})
				require.NoError(t, err)
				require.NoError(t, found.All(context.Background(), &all))
				var ids []int
				for _, d := range all {
					ids = append(ids, d.ID)
				}
				return numbered(t, ids)
			}
	}},
	"photos": {"kind = \"objects\"\nbuckets = [\"loans\"]", nil, func(t *testing.T, s service) (func(int) error, func() int) {
		c := s3.New(s3.Options{BaseEndpoint: aws.String(s.Facts["url"]), Region: s.Facts["region"], UsePathStyle: true, Credentials: credentials.NewStaticCredentialsProvider(s.Facts["access_key"], s.Facts["secret_key"], "")})
		return func(n int) error {
				_, err := c.PutObject(context.Background(), &s3.PutObjectInput{Bucket: aws.String("loans"), Key: aws.String(strconv.Itoa(n)), Body: strings.NewReader(strings.Repeat("x", 5000))})
				return err
			}, func() int {
				var all []int
				for page := s3.NewListObjectsV2Paginator(c, &s3.ListObjectsV2Input{Bucket: aws.String("loans")}); page.HasMorePages(); {
					out, err := page.NextPage(context.Background())
					require.NoError(t, err)
					for _, o := range out.Contents {
						require.EqualValues(t, 5000, aws.ToInt64(o.Size))
						all = append(all, numbers(t, []string{aws.ToString(o.Key)})...)
					}
				}
				return numbered(t, all)
			}
	}},
	"postbox": {"kind = \"mail\"", nil, func(t *testing.T, s service) (func(int) error, func() int) {
		to := strings.TrimPrefix(s.Facts["smtp_url"], "smtp://")
		return func(n int) error {
				return smtp.SendMail(to, nil, "shed@example.org", []string{"ines@example.org"}, []byte(fmt.Sprintf("Subject: loan %d.\r\n\r\n%d\r\n", n, n)))
			}, func() int {
				code, text := get(http.DefaultClient, s.Facts["url"]+"/")
				require.Equal(t, 200, code, text)
				return -1 // counted by the project
			}
	}},
}

func numbers(t *testing.T, list []string) []int {
	var out []int
	for _, text := range list {
		n, err := strconv.Atoi(text)
		require.NoError(t, err)
		out = append(out, n)
	}
	return out
}

// Of what is written while a snapshot is saved, all is in it that was acknowledged before, and
// nothing that came after; of two services one after the other, the moment is the same.
func TestSnapshotsUnderLoad(t *testing.T) {
	t.Parallel()
	declaration := ""
	for name, h := range holders {
		for _, program := range h.needs {
			if _, err := exec.LookPath(program); err == nil {
				h.needs = nil
			}
		}
		if len(h.needs) > 0 {
			testkit.Need(t, h.needs...)
		}
		declaration += "[service." + name + "]\n" + h.declaration + "\n"
	}
	p := newProject(t, declaration)
	p.must("start")
	type written struct{ acknowledged, begun atomic.Int64 }
	all := map[string]*written{}
	put := map[string]func(int) error{}
	for name, h := range holders {
		all[name] = &written{}
		put[name], _ = h.open(t, p.status().Service[name])
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var writing sync.WaitGroup
	for name := range holders {
		if name == "books" {
			continue
		}
		writing.Go(func() {
			for n := 1; ctx.Err() == nil; n++ {
				all[name].begun.Store(int64(n))
				if err := put[name](n); err != nil {
					t.Errorf("%s: %v", name, err)
					return
				}
				all[name].acknowledged.Store(int64(n))
				if name == "ledger" { // it has it before the other does
					all["books"].begun.Store(int64(n))
					if err := put["books"](n); err != nil {
						t.Errorf("books: %v", err)
						return
					}
					all["books"].acknowledged.Store(int64(n))
				}
			}
		})
	}
	for name, w := range all {
		require.Eventually(t, func() bool { return w.acknowledged.Load() >= 30 || t.Failed() }, patience, time.Millisecond, name)
	}
	least, most := map[string]int64{}, map[string]int64{}
	for name, w := range all {
		least[name] = w.acknowledged.Load()
	}
	p.must("snapshot", "save", "moment")
	for name, w := range all {
		most[name] = w.begun.Load()
	}
	for name, w := range all {
		require.Eventually(t, func() bool { return w.acknowledged.Load() > most[name] || t.Failed() }, patience, time.Millisecond, "%s goes on", name)
	}
	cancel()
	writing.Wait()
	for name, s := range p.status().Service {
		assert.Equal(t, "ready", s.State, "%s was not taken for ailing", name)
	}

	count := func(when string, least, most map[string]int64) map[string]int {
		got := map[string]int{}
		for name, h := range holders {
			_, counted := h.open(t, p.status().Service[name])
			if got[name] = counted(); name == "postbox" {
				got[name] = strings.Count(p.must("data", "postbox", "inbox", "--csv", "--limit", "100000"), ",ines@example.org")
			}
			assert.GreaterOrEqual(t, int64(got[name]), least[name], "%s: %s", when, name)
			assert.LessOrEqual(t, int64(got[name]), most[name], "%s: %s", when, name)
		}
		return got
	}
	last := map[string]int64{}
	for name, w := range all {
		last[name] = w.acknowledged.Load()
	}
	p.must("snapshot", "restore", "moment", "--yes")
	p.eventually(func(s status) bool { return s.Service["bus"].State == "ready" })
	got := count("restored", least, most)
	assert.Contains(t, []int{0, 1}, got["ledger"]-got["books"], "both are of one moment")
	p.must("snapshot", "restore", "replaced", "--yes")
	p.eventually(func(s status) bool { return s.Service["bus"].State == "ready" })
	count("what was replaced", last, last)
	t.Logf("at the moment: %v; at the end: %v", got, last)
}

// A keeper that is killed while it saves or restores leaves the data as it was before or as it is
// after, its services on their way, and nothing beside them.
func TestSnapshotsOfKilledKeepers(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	p := newProject(t, "[service.shelf]\nkind = \"redis\"\n[service.file]\nkind = \"sqlite\"\nfile = \"app.db\"\n[service.reviews]\nkind = \"documents\"\n")
	p.must("start")
	written := []string{"shelf", "file", "reviews"}
	put, count := map[string]func(int) error{}, func() (n int) {
		n = -1
		for _, name := range written {
			_, counted := holders[name].open(t, p.status().Service[name])
			got := counted()
			if n < 0 {
				n = got
			}
			require.Equal(t, n, got, "all are of one moment: %s", name)
		}
		return n
	}
	write := func(from, to int) {
		for _, name := range written {
			put[name], _ = holders[name].open(t, p.status().Service[name])
			for n := from; n <= to; n++ {
				require.NoError(t, put[name](n))
			}
		}
	}
	write(1, 20)
	require.NoError(t, os.WriteFile(p.state("data/reviews/large"), make([]byte, 64<<20), 0o600))
	p.must("snapshot", "save", "twenty")
	write(21, 50)
	require.Equal(t, 50, count())
	p.must("snapshot", "save", "fifty")
	holds := 50
	for i := range 30 {
		keeper := p.status().Keeper.PID
		args, to := []string{"snapshot", "save", fmt.Sprintf("s%d", i)}, holds
		if i%2 == 1 {
			args, to = []string{"snapshot", "restore", "twenty", "--yes"}, 20
			if holds == 20 {
				args, to = []string{"snapshot", "restore", "fifty", "--yes"}, 50
			}
		}
		cmd := exec.Command(binary, args...)
		cmd.Dir = p.dir
		require.NoError(t, cmd.Start())
		time.Sleep(rand.N(400 * time.Millisecond)) // any moment of it
		require.NoError(t, syscall.Kill(keeper, syscall.SIGKILL))
		_ = cmd.Wait()
		p.must("start")
		for _, name := range written {
			p.until(name, "ready")
		}
		got := count()
		assert.Contains(t, []int{holds, to}, got, "%d: %v", i, args)
		holds = got
		if i%2 == 0 {
			if r := p.run("snapshot", "show", args[2]); r.code == 0 {
				p.must("snapshot", "restore", args[2], "--yes")
				require.Equal(t, holds, count(), "what is in the list is whole")
				p.must("snapshot", "drop", args[2])
			}
		}
		beside, _ := filepath.Glob(p.state("data/*.re*"))
		unfinished, _ := filepath.Glob(p.state("snapshots/.unfinished-*"))
		assert.Empty(t, append(beside, unfinished...))
	}
	table, err := proc.ReadTable()
	require.NoError(t, err)
	for pid := range table {
		if mark := proc.MarkOf(pid); strings.HasPrefix(mark, p.dir+":") {
			b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
			assert.NotContains(t, string(b), ") T ", "%s stands still", mark)
		}
	}
}

// What can't be meant is said, and nothing is lost.
func TestSnapshotsRefused(t *testing.T) {
	t.Parallel()
	p := newProject(t, `[service.file]
kind = "sqlite"
file = "app.db"
[service.elsewhere]
kind = "outside"
health = { tcp = "127.0.0.1:9" }
[service.slow]
run = "sh -c 'sleep 1000'"
needs = ["file"]
[errand.long]
run = "sleep 1000"
needs = ["file"]
`)
	p.write("app.db", "")
	p.must("start", "file", "slow")
	p.must("snapshot", "save", "one")
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"save", "one"}, `"one": there is a snapshot of this name`},
		{[]string{"save", "a/b"}, `"a/b" can't be the name of a snapshot`},
		{[]string{"save", "replaced"}, "give the snapshot another name"},
		{[]string{"save", "x", "--only", "elsewhere"}, "elsewhere is of kind outside, which keeps no data here"},
		{[]string{"save", "x", "--only", "nobody"}, "nobody"},
		{[]string{"restore", "two", "--yes"}, `"two": there is no such snapshot; neighbour snapshot list lists them`},
		{[]string{"restore", "one", "--only", "slow", "--yes"}, "the snapshot one has no data of slow; it has file"},
		{[]string{"restore", "one"}, "Nobody is there to be asked"},
		{[]string{"import", "app.db"}, "it is no snapshot that Neighbour has exported"},
		{[]string{"export", "one", "app.db"}, "file already exists"},
		{[]string{"export", "one", "nowhere/x"}, "no such file or directory"},
		{[]string{"drop", ".."}, "can't be the name"},
	} {
		r := p.run(append([]string{"snapshot"}, c.args...)...)
		assert.NotEqual(t, 0, r.code, "%v", c.args)
		assert.Contains(t, r.stderr, c.says, "%v", c.args)
	}
	errand := exec.Command(binary, "run", "long")
	errand.Dir = p.dir
	require.NoError(t, errand.Start())
	require.Eventually(t, func() bool { return len(p.errand("long").Runs) == 1 }, patience, 20*time.Millisecond)
	second := exec.Command(binary, "run", "long")
	second.Dir = p.dir
	require.NoError(t, second.Start())
	require.Eventually(t, func() bool { return len(p.errand("long").Runs) == 2 }, patience, 20*time.Millisecond)
	require.NoError(t, second.Process.Signal(syscall.SIGINT))
	_ = second.Wait()
	require.NotEqual(t, "under way", string(p.lastRun("long").Result), "the first goes on")
	assert.Contains(t, p.run("snapshot", "restore", "one", "--yes").stderr, "the errand long is under way, which needs the data")
	require.NoError(t, errand.Process.Signal(syscall.SIGINT))
	_ = errand.Wait()

	// Another kind, and a newer form.
	manifest := p.state("snapshots/one/manifest.json")
	b, err := os.ReadFile(manifest)
	require.NoError(t, err)
	p.must("snapshot", "export", "one", "one.tar.zst")
	var m map[string]any
	require.NoError(t, json.Unmarshal(b, &m))
	for says, change := range map[string]func(){
		"it was made by a newer version (form 9, this one knows 1)":                     func() { m["format"] = 9 },
		"file is of kind sqlite, and the snapshot one has data of the kind postgres":    func() { m["services"].([]any)[0].(map[string]any)["kind"] = "postgres" },
		"the snapshot one has data of gone, which is no service here":                   func() { m["services"].([]any)[0].(map[string]any)["name"] = "gone" },
		"the machine went down before the snapshot one was on its disk, so that it may": func() { m["boot"] = "another" },
	} {
		require.NoError(t, json.Unmarshal(b, &m))
		change()
		text, _ := json.Marshal(m)
		require.NoError(t, os.WriteFile(manifest, text, 0o600))
		assert.Contains(t, p.run("snapshot", "restore", "one", "--yes").stderr, says)
		delete(m, "boot")
	}
	assert.Equal(t, "ready", p.status().Service["slow"].State, "it was not stopped for any of these")
	p.must("snapshot", "import", "one.tar.zst", "--as", "again")
	p.must("snapshot", "restore", "again", "--yes")
}
