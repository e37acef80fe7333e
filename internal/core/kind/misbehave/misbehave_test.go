package misbehave_test

import (
	"encoding/json"
	"io"
	"log"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/testkit"
)

func TestRules(t *testing.T) {
	for _, c := range []struct {
		rules misbehave.Rules
		words string
		key   string // of what can't be meant
	}{
		{misbehave.Rules{}, "", ""},
		{misbehave.Rules{Slow: time.Second}, "waits 1s before each answer", ""},
		{misbehave.Rules{Slow: time.Second, Spread: 300 * time.Millisecond}, "waits 700ms to 1.3s before each answer", ""},
		{misbehave.Rules{Errors: 5, Throttled: 10, Cut: 1}, "answers 5 % with an error, refuses 10 % as too many, cuts the connection of 1 %", ""},
		{misbehave.Rules{Full: true, ReadOnly: true, Clock: 20 * time.Minute}, "is full, is read only, has its clock 20m0s ahead", ""},
		{misbehave.Rules{Slow: -1}, "", "slow"},
		{misbehave.Rules{Slow: 2 * time.Hour}, "", "slow"},
		{misbehave.Rules{Spread: time.Second}, "", "spread"},
		{misbehave.Rules{Cut: 101}, "", "cut"},
		{misbehave.Rules{Errors: 60, Cut: 60}, "", "errors"},
		{misbehave.Rules{Clock: 11 * 365 * 24 * time.Hour}, "", "clock"},
	} {
		key, err := c.rules.Check()
		assert.Equal(t, c.key, key, "%+v", c.rules)
		assert.Equal(t, c.key != "", err != nil)
		if err == nil {
			assert.Equal(t, c.words, c.rules.InWords())
		}
	}
	for text, says := range map[string]string{`{"slow": "soon"}`: "slow: write for example", `{"odd": 1}`: "unknown field", `{"slow": 5}`: "cannot unmarshal"} {
		var r misbehave.Rules
		assert.ErrorContains(t, json.Unmarshal([]byte(text), &r), says)
	}
}

func anyRules() *rapid.Generator[misbehave.Rules] {
	return rapid.Custom(func(t *rapid.T) misbehave.Rules {
		slow := time.Duration(rapid.IntRange(0, 3600).Draw(t, "slow")) * time.Second
		return misbehave.Rules{Slow: slow, Spread: slow / time.Duration(rapid.IntRange(1, 9).Draw(t, "spread")), Errors: rapid.IntRange(0, 30).Draw(t, "errors"),
			Throttled: rapid.IntRange(0, 30).Draw(t, "throttled"), Cut: rapid.IntRange(0, 30).Draw(t, "cut"), Full: rapid.Bool().Draw(t, "full"),
			ReadOnly: rapid.Bool().Draw(t, "read only"), Clock: time.Duration(rapid.IntRange(0, 1<<40).Draw(t, "clock"))}
	})
}

// Rules come back from a file and from JSON as they were, and what is drawn keeps to them.
func TestRulesComeBack(t *testing.T) {
	file := filepath.Join(t.TempDir(), "run", "misbehave.json")
	rapid.Check(t, func(t *rapid.T) {
		r := anyRules().Draw(t, "rules")
		require.NoError(t, misbehave.Write(file, r))
		back, err := misbehave.Read(file)
		require.NoError(t, err)
		require.Equal(t, r, back)
		fates := map[misbehave.Fate]int{}
		for range 200 {
			wait, fate := r.Draw()
			fates[fate]++
			require.GreaterOrEqual(t, wait, r.Slow-r.Spread)
			require.LessOrEqual(t, wait, r.Slow+r.Spread)
		}
		for fate, share := range map[misbehave.Fate]int{misbehave.Failed: r.Errors, misbehave.Throttled: r.Throttled, misbehave.Cut: r.Cut} {
			require.Equal(t, true, share > 0 || fates[fate] == 0)
		}
	})
}

func TestFollower(t *testing.T) {
	file := filepath.Join(t.TempDir(), "misbehave.json")
	quiet := log.New(io.Discard, "", 0)
	var none *misbehave.Follower
	assert.Equal(t, misbehave.Rules{}, none.Rules())
	f := misbehave.Follow(file, quiet)
	assert.Equal(t, misbehave.Rules{}, f.Rules())
	soon := func(want misbehave.Rules) {
		t.Helper()
		require.Eventually(t, func() bool { return f.Rules() == want }, testkit.Patience, 5*time.Millisecond)
	}
	require.NoError(t, misbehave.Write(file, misbehave.Rules{Full: true}))
	soon(misbehave.Rules{Full: true})
	require.NoError(t, os.WriteFile(file, []byte("{"), 0o600))
	soon(misbehave.Rules{})
	require.NoError(t, f.Set(misbehave.Rules{Errors: 7}))
	assert.Equal(t, 7, f.Rules().Errors)
	soon(misbehave.Rules{Errors: 7})
	assert.Error(t, f.Set(misbehave.Rules{Errors: 700}))
	require.NoError(t, misbehave.Write(file, misbehave.Rules{}))
	soon(misbehave.Rules{})
	assert.NoFileExists(t, file)
	alone := misbehave.Follow("", quiet)
	require.NoError(t, alone.Set(misbehave.Rules{Cut: 3}))
	assert.Equal(t, 3, alone.Rules().Cut)
}

func TestAct(t *testing.T) {
	file := filepath.Join(t.TempDir(), "misbehave.json")
	act := func(pairs ...string) store.Act {
		a := store.Act{Action: misbehave.ActionName, Values: map[string]*string{}}
		for i := 0; i < len(pairs); i += 2 {
			a.Values[pairs[i]] = &pairs[i+1]
		}
		return a
	}
	says, err := misbehave.Do(file, act("slow", "1s", "errors", "5 %"[:1], "full", "yes"))
	require.NoError(t, err)
	assert.Equal(t, "until its next start it waits 1s before each answer, answers 5 % with an error, is full", says)
	says, err = misbehave.Do(file, act("slow", "0", "full", "no"))
	require.NoError(t, err)
	assert.Equal(t, "until its next start it answers 5 % with an error", says, "what is left out stays")
	for name, a := range map[string]store.Act{"slow: write for example": act("slow", "long"), "cut: write a number": act("cut", "few"), "full: write yes or no": act("full", "perhaps"), "errors: 500 is not": act("errors", "500")} {
		_, err := misbehave.Do(file, a)
		assert.ErrorContains(t, err, name)
	}
	offered, err := misbehave.Action(file)
	require.NoError(t, err)
	assert.Equal(t, "5", offered.Inputs[2].Value)
	says, err = misbehave.Do(file, act("errors", "0"))
	require.NoError(t, err)
	assert.Equal(t, "it behaves well", says)
	assert.NoFileExists(t, file)
}
