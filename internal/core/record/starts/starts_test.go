package starts

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// simulate makes a start in which each service begins when all that it needs is
// ready, and takes its own time.
func simulate(own []float64, needs [][]int) *Start {
	s := &Start{Result: Ready}
	ends := make([]float64, len(own))
	for i := range own {
		from := 0.0
		v := Service{Name: fmt.Sprintf("s%d", i), Result: Ready}
		for _, n := range needs[i] {
			from = max(from, ends[n])
			v.Needs = append(v.Needs, fmt.Sprintf("s%d", n))
		}
		ends[i] = from + own[i]
		if from > 0 {
			v.Phases = append(v.Phases, Phase{Is: Waiting, To: from})
		}
		v.Phases = append(v.Phases, Phase{Is: Starting, From: from, To: ends[i]})
		s.Services = append(s.Services, v)
		s.Took = max(s.Took, ends[i])
	}
	return s
}

func draw(r *rapid.T) (own []float64, needs [][]int) {
	n := rapid.IntRange(1, 9).Draw(r, "services")
	for i := range n {
		own = append(own, float64(rapid.IntRange(1, 50).Draw(r, "own")))
		var of []int
		for j := range i {
			if rapid.IntRange(0, 2).Draw(r, "needs") == 0 {
				of = append(of, j)
			}
		}
		needs = append(needs, of)
	}
	return own, needs
}

// The path and the slack are what changing each length of time by itself, and
// simulating the start again, says.
func TestPathAndSlackAgainstSimulation(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		own, needs := draw(r)
		s := simulate(own, needs)
		a := Analyse(s, 2)
		longer := func(i int, by float64) float64 {
			changed := append([]float64{}, own...)
			changed[i] += by
			return simulate(changed, needs).Took
		}
		sum, slowest, work := 0.0, 0.0, 0.0
		for i := range own {
			name := fmt.Sprintf("s%d", i)
			assert.InDelta(r, own[i], a.Own[name], 1e-9)
			slack := a.Slack[name]
			assert.InDelta(r, s.Took, longer(i, slack), 1e-9, "%s may take its slack", name)
			assert.InDelta(r, s.Took+1, longer(i, slack+1), 1e-9, "%s may not take more", name)
			slowest, work = max(slowest, own[i]), work+own[i]
		}
		for i, name := range a.Path {
			assert.Zero(r, a.Slack[name], "what decides has no slack")
			sum += a.Own[name]
			if v, _ := s.Service(name); i > 0 {
				assert.Contains(r, v.Needs, a.Path[i-1])
			} else {
				assert.Empty(r, v.Needs)
			}
		}
		assert.InDelta(r, s.Took, sum, 1e-9, "the path is as long as the start")
		assert.InDelta(r, slowest, a.AtOnce, 1e-9)
		assert.InDelta(r, work/s.Took, a.Parallelism, 1e-9)
		all := WhatIfs(s)
		for _, w := range all {
			var i int
			fmt.Sscanf(w.Service, "s%d", &i)
			changed := append([]float64{}, own...)
			changed[i] = 0
			assert.InDelta(r, simulate(changed, needs).Took, w.Took, 1e-9)
			assert.Less(r, w.Took, s.Took)
		}
	})
}

func TestWhatFailedOrNeverBegan(t *testing.T) {
	s := simulate([]float64{100, 50, 30}, [][]int{nil, {0}, {1}})
	s.Services[1].Result = Failed
	s.Services[2] = Service{Name: "s2", Needs: []string{"s1"}, Phases: []Phase{{Is: Waiting, To: 150, What: "for s1, which failed"}}, Result: Failed}
	a := Analyse(s, 2)
	assert.Equal(t, []string{"s0", "s1"}, a.Path)
	assert.NotContains(t, a.Slack, "s2")
	assert.Empty(t, Analyse(&Start{}, 2).Path)
	assert.Empty(t, Analyse(&Start{Services: []Service{{Name: "a", Needs: []string{"a", "gone"}, Phases: []Phase{{Is: Starting}}}}}, 0).Slack["a"], "a record may say anything")
}

func TestPreparationsThatDidNotRun(t *testing.T) {
	s := simulate([]float64{300, 900}, [][]int{nil, {0}})
	s.Services[1].Phases = []Phase{{Is: Waiting, To: 300}, {Is: Preparing, From: 310, To: 1010, What: "npm ci"}, {Is: Starting, From: 1010, To: 1200}}
	assert.Equal(t, []WhatIf{{"s1", "", 300}, {"s1", "npm ci", 500}, {"s0", "", 900}}, WhatIfs(s))
}

func TestComparison(t *testing.T) {
	like := func(id int64, own ...float64) *Start {
		s := simulate(append(own, 1, 1)[:3], [][]int{nil, {0}, nil})
		s.ID = id
		return s
	}
	var earlier []*Start
	for i := range 15 {
		earlier = append(earlier, like(int64(i+1), float64(75+i), 200, 100))
	}
	cold := like(16, 2000, 200, 100)
	cold.Services[0].Phases[0].Is, cold.Cold = Preparing, true
	failed := like(17, 5, 5, 5)
	failed.Result = Failed
	earlier = append(earlier, cold, failed, like(18, 1))
	earlier[17].Services = earlier[17].Services[:1]
	now := like(20, 310, 210, 20)
	c := Compare(now, append(earlier, now))
	assert.Equal(t, 15, c.Whole.Of, "of those that are alike")
	assert.Equal(t, 17, c.Services["s0"].Of, "a service is compared where it was warm, too")
	assert.Equal(t, []string{"s0"}, c.Slower)
	assert.Equal(t, []string{"s2"}, c.Faster)
	assert.Equal(t, "0.31 s, usually 0.08 s, slower than 17 of 17", c.Services["s0"].InWords(310))
	assert.Equal(t, "0.31 s, as usual", Usual{Of: 9, Median: 300}.InWords(310))
	assert.Equal(t, "0.31 s", Usual{}.InWords(310))
	assert.Equal(t, "0.31 s, before 0.20 s", Usual{Of: 2, Median: 200}.InWords(310))
	assert.Equal(t, "0.10 s, usually 0.20 s, faster than 9 of 9", Usual{Of: 9, Median: 200}.InWords(100))
}

// What a cursor on the time axis reads.
func TestMoment(t *testing.T) {
	s := Start{Result: UnderWay, Services: []Service{
		{Name: "ledger", Result: Ready, Phases: []Phase{{Is: Starting, From: 0, To: 300}}},
		{Name: "api", Phases: []Phase{{Is: Waiting, From: 0, To: 300}, {Is: Preparing, From: 300, To: 700, What: "npm ci"}, {Is: Starting, From: 700}}},
		{Name: "web", Result: Failed, Phases: []Phase{{Is: Waiting, From: 0, To: 650}}},
	}}
	for at, want := range map[float64]string{
		0:   "at 0.000 s: ledger starting, api and web waiting",
		300: "at 0.300 s: api preparing (npm ci), web waiting, 1 ready",
		650: "at 0.650 s: api preparing (npm ci), web failed, 1 ready",
		900: "at 0.900 s: api starting, web failed, 1 ready",
	} {
		assert.Equal(t, want, s.At(at, 900).InWords())
	}
	assert.Equal(t, 300.0, s.Next(0, 1))
	assert.Equal(t, 650.0, s.Next(700, -1))
	assert.Equal(t, 800.0, s.Next(800, 1), "there is none after it")
}

// What is done before and beside a service's own start makes it cold, and is what
// could be left out.
func TestPhasesThatPrepare(t *testing.T) {
	for is, want := range map[Kind]bool{Waiting: false, Starting: false, Preparing: true, Migrating: true, Seeding: true, Errand: true} {
		assert.Equal(t, want, is.Prepares(), is)
		s := Start{Result: Ready, Took: 500, Services: []Service{{Name: "ledger", Result: Ready, Phases: []Phase{{Is: Starting, To: 100}, {Is: is, From: 100, To: 400, What: "x"}, {Is: Starting, From: 400, To: 500}}}}}
		assert.Equal(t, want, s.Services[0].Cold(), is)
		all := WhatIfs(&s)
		if !want {
			assert.Empty(t, all, is)
			continue
		}
		name := map[Kind]string{Preparing: "x", Errand: "x", Migrating: "migrations", Seeding: "seed"}[is]
		if assert.Len(t, all, 1, is) {
			assert.Equal(t, WhatIf{"ledger", name, 200}, all[0], is)
		}
	}
	s := Start{Took: 900, Result: UnderWay, Services: []Service{{Name: "a", Result: Ready, Phases: []Phase{{Is: Starting, To: 100}}}, {Name: "b", Phases: []Phase{{Is: Migrating, From: 100}}}, {Name: "c"}}}
	s.Cancel(900, "the keeper ended")
	assert.Equal(t, Cancelled, s.Result)
	assert.Equal(t, Ready, s.Services[0].Result, "what was ready was so")
	assert.Equal(t, Phase{Is: Migrating, From: 100, To: 900}, s.Services[1].Phases[0])
	assert.Equal(t, "the keeper ended", s.Services[2].Reason)
}
