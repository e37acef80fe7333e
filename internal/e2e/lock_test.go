package e2e

import (
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/gomodule/redigo/redis"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/machine/killpoint"
	"neighbour/internal/core/machine/proc"
	"neighbour/internal/testkit"
)

// startKilledAt starts the project with a keeper that is killed at a point of its code.
// The command may have another one go on; that one is killed, too.
func (p *project) startKilledAt(point string) {
	p.t.Helper()
	runWith(p.t, append(p.env, killpoint.Variable+"="+point), p.dir, "start")
	if p.status().Keeper != nil {
		p.killKeeper()
	}
}

// holder returns the process that was started for a service, by the service's lock.
func (p *project) holder(service string) proc.ID {
	main, _ := proc.Holders(p.state("run", "services", service+".lock"))
	return main
}

// A keeper that is killed right after it has started a service, before it could write down
// which process that is, is followed by one that adopts it: no second one is ever
// started on the same files.
func TestLaunchedByAKilledKeeper(t *testing.T) {
	t.Parallel()
	kinds := map[string]struct {
		needs       []string
		declaration string
	}{
		"postgres":   {[]string{testkit.Postgres}, `kind = "postgres"`},
		"mariadb":    {[]string{"/usr/sbin/mariadbd"}, `kind = "mariadb"`},
		"redis":      {[]string{"redis-server"}, `kind = "redis"`},
		"memcached":  {[]string{"memcached"}, `kind = "memcached"`},
		"rabbitmq":   {[]string{"rabbitmq-server"}, `kind = "rabbitmq"`},
		"nats":       {[]string{"nats-server"}, `kind = "nats"`},
		"mqtt":       {[]string{"mosquitto"}, `kind = "mqtt"`},
		"beanstalkd": {[]string{"beanstalkd"}, `kind = "beanstalkd"`},
		"nginx":      {[]string{"nginx"}, "kind = \"nginx\"\nroot = \".\""},
		"apache":     {[]string{"apache2"}, "kind = \"apache\"\nroot = \".\""},
		"php":        {[]string{"/usr/sbin/php-fpm8.2"}, `kind = "php"`},
		"documents":  {nil, `kind = "documents"`},
		"objects":    {nil, `kind = "objects"`},
		"mail":       {nil, `kind = "mail"`},
		"identity":   {nil, `kind = "identity"`},
		"program":    {nil, `run = "sleep 1000"`},
		"shell":      {nil, "run = \"exec 3>&- 4>&-; while :; do sleep 1; done\""},
	}
	for name, k := range kinds {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if len(k.needs) > 0 {
				testkit.Need(t, k.needs...)
			}
			p := newProject(t, "[service.shed]\n"+k.declaration+"\n")
			p.startKilledAt("launched shed")
			assert.NotContains(t, p.must("logs", "shed", "--events"), "started, pid", "the keeper was not killed in time")
			left := p.holder("shed")
			require.NotZero(t, left.PID, "its lock doesn't tell which process it is")
			p.must("start")
			now := p.status().Service["shed"]
			assert.Equal(t, "ready", now.State)
			assert.Equal(t, left.PID, now.PID, "it was adopted")
			assert.True(t, left.Alive())
			assert.Equal(t, left, p.holder("shed"), "there is one")
			p.must("apply")
			assert.Equal(t, left.PID, p.status().Service["shed"].PID, "and it has what is declared")
			p.must("stop")
			assert.False(t, left.Alive())
			assert.False(t, proc.Locked(p.state("run", "services", "shed.lock")))
		})
	}
	t.Run("nothing that was acknowledged is lost", func(t *testing.T) {
		t.Parallel()
		testkit.Need(t, "redis-server")
		p := newProject(t, "[service.shelf]\nkind = \"redis\"\nport = "+fmt.Sprint(freePort(t))+"\n")
		for _, point := range []string{"launching shelf", "launched shelf"} {
			p.startKilledAt(point)
		}
		port := p.status().Service["shelf"].Port
		var c redis.Conn
		require.Eventually(t, func() bool {
			var err error
			if c, err = redis.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
				if _, err = c.Do("PING"); err != nil {
					c.Close()
				}
			}
			return err == nil
		}, patience, 20*time.Millisecond)
		defer c.Close()
		put := func(from, to int) {
			for i := from; i < to; i++ {
				_, err := c.Do("SET", fmt.Sprint("loan:", i), i)
				require.NoError(t, err)
			}
		}
		put(0, 100)
		p.must("start")
		put(100, 200)
		p.must("restart", "shelf")
		port = p.status().Service["shelf"].Port
		again, err := redis.Dial("tcp", net.JoinHostPort("127.0.0.1", fmt.Sprint(port)))
		require.NoError(t, err)
		defer again.Close()
		n, err := redis.Int64(again.Do("DBSIZE"))
		require.NoError(t, err)
		assert.Equal(t, int64(200), n)
	})
	t.Run("a stop finds it", func(t *testing.T) {
		t.Parallel()
		p := newProject(t, "[service.api]\nrun = \"sleep 1000\"\n")
		p.startKilledAt("launched api")
		left := p.holder("api")
		require.NotZero(t, left.PID)
		p.must("stop")
		assert.False(t, left.Alive())
	})
	t.Run("not declared any more", func(t *testing.T) {
		t.Parallel()
		p := newProject(t, "[service.old]\nrun = \"sleep 1000\"\n[service.new]\nrun = \"sleep 1000\"\n")
		p.must("start")
		left := p.holder("old")
		p.killKeeper()
		p.write("neighbour.toml", "[service.new]\nrun = \"sleep 1000\"\n")
		p.must("start")
		require.Eventually(t, func() bool { return !left.Alive() }, patience, 20*time.Millisecond)
	})
}
