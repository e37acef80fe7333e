package launch

import (
	"regexp"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWaitedForLine(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m := newLogMatch(regexp.MustCompile("^the shed is (open|ajar)$"))
		_, err := m.Check(t.Context())
		assert.EqualError(t, err, "no line matches ^the shed is (open|ajar)$ yet")
		m.see([]byte("not the shed is open\nthe shed is shut\n"))
		_, err = m.Check(t.Context())
		assert.Error(t, err)
		time.AfterFunc(10*time.Millisecond, func() { m.see([]byte("first\r\nthe shed is ajar\r\nlast\r\n")) })
		began := time.Now()
		_, err = m.Check(t.Context())
		assert.NoError(t, err)
		assert.Equal(t, 10*time.Millisecond, time.Since(began), "at once when it comes")
		m.see([]byte("the shed is open\n"))
		m.reset()
		_, err = m.Check(t.Context())
		assert.Error(t, err, "a new process has to say it anew")
	})
}
