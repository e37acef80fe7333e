package supervise

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestSentences(t *testing.T) {
	now := time.Now()
	ago := func(d time.Duration) time.Time { return now.Add(-d) }
	for want, s := range map[string]Status{
		"Ready for 12 min, after 0.31 s; 3 of 340 checks failed, the last 4 min ago": {State: Ready, Since: ago(12 * time.Minute), ReadyMS: 310, Checks: Checks{Total: 340, Failed: 3, LastFailed: ago(4 * time.Minute)}},
		"Ready for 3.0 s, after 12 s; 1 check, none failed; restarted twice":         {State: Ready, Since: ago(3 * time.Second), ReadyMS: 12_345, Restarts: 2, Checks: Checks{Total: 1}},
		"Starting for 1.5 s; newest check: 503 after 14 ms; 58 s left":               {State: Starting, Since: ago(1500 * time.Millisecond), Reason: "503 after 14 ms", Until: now.Add(58*time.Second + time.Millisecond)},
		"Waiting: for ledger": {State: Waiting, Reason: "for ledger"},
		"Waiting: exit 1 after 2.0 s; restart 1 of 5; next try in 0.5 s": {State: Waiting, Reason: "exit 1 after 2.0 s; restart 1 of 5", Until: now.Add(500 * time.Millisecond)},
		"Failed 3 h ago: exit 1":                    {State: Failed, Since: ago(3 * time.Hour), Reason: "exit 1"},
		"Finished 3 days ago, as it should: exit 0": {State: Finished, Since: ago(77 * time.Hour), Reason: "exit 0"},
		"Stopped": {State: Stopped},
	} {
		assert.Equal(t, want, s.Sentence(now))
	}
}

func TestBackOffGrowsToItsLimit(t *testing.T) {
	for n, want := range map[int]time.Duration{1: 250 * time.Millisecond, 3: time.Second, 8: 30 * time.Second, 500: 30 * time.Second} {
		for range 20 {
			assert.InDelta(t, want.Seconds(), backOff(n).Seconds(), want.Seconds()*0.21)
		}
	}
}

func TestPortTaken(t *testing.T) {
	assert.True(t, portTaken("neighbour: listen tcp 127.0.0.1:1027: bind: address already in use", 1027))
	assert.True(t, portTaken("bind(): Address already in use (127.0.0.1:6380)", 6380))
	assert.True(t, portTaken("1795781305: Error: Address already in use", 1883))
	assert.False(t, portTaken("could not bind port 9000: Address already in use", 1027))
	assert.False(t, portTaken("listen tcp 127.0.0.1:9000: bind: address already in use", 1027))
	assert.False(t, portTaken("listening on 1027", 1027))
}
