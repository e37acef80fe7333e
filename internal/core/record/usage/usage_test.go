package usage

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

var begin = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

func TestRowsOfFallingResolution(t *testing.T) {
	r := NewRecorder()
	for i := range 240 { // four minutes
		r.Add("api", begin.Add(time.Duration(i)*time.Second), Sample{CPU: float32(i % 10), Memory: uint64(1000 + i), Processes: 2})
	}
	rows := map[time.Duration][]Row{}
	for _, row := range r.Take(false) {
		rows[row.Step] = append(rows[row.Step], row)
	}
	assert.Len(t, rows[Fine], 23, "the last is not complete")
	assert.Len(t, rows[Coarse], 1)
	assert.Equal(t, Row{Service: "api", At: begin, Step: Fine, Peak: 9, Sample: Sample{CPU: 4.5, Memory: 1004, Processes: 2}}, rows[Fine][0])
	assert.Len(t, r.Pending("api", Fine), 1)
	assert.Empty(t, r.Take(false))
	assert.Len(t, r.Take(true), 2)
	assert.Empty(t, r.Pending("api", Fine))
	for i := range 10_000 {
		r.Add("api", begin.Add(time.Hour+time.Duration(i)*time.Second), Sample{})
		r.Take(false)
	}
	assert.LessOrEqual(t, len(r.Recent("api")), recent+recent/4+1, "in bounded space")
}

func TestSeries(t *testing.T) {
	rows := []Row{
		{At: begin.Add(-15 * time.Second), Step: Fine, Sample: Sample{CPU: 99}}, // before the period
		{At: begin.Add(-5 * time.Second), Step: Fine, Sample: Sample{CPU: 10, Memory: 100, Read: 1, Written: 2}, Peak: 20},
		{At: begin.Add(20 * time.Second), Step: Fine, Sample: Sample{CPU: 30, Memory: 300}, Peak: 40},
		{At: begin.Add(20 * time.Second), Step: 5 * time.Second, Sample: Sample{CPU: 50, Memory: 500}, Peak: 90},
		{At: begin.Add(50 * time.Second), Step: time.Hour, Sample: Sample{CPU: 1}, Peak: 1},
	}
	s := NewSeries("api", rows, begin, begin.Add(time.Minute), 12)
	assert.Equal(t, []float64{10, -1, -1, -1, 40, 30, -1, -1, -1, -1, 1, 1}, s.CPU)
	assert.Equal(t, []float64{20, -1, -1, -1, 90, 40, -1, -1, -1, -1, 1, 1}, s.Peak)
	assert.Equal(t, 400.0, s.Memory[4])
	assert.Equal(t, 3.0, s.Disk[0])
}

func TestSummaries(t *testing.T) {
	steady := func(from, by float64) (out []float64) {
		for i := range 30 {
			out = append(out, from+by*float64(i))
		}
		return out
	}
	mb := float64(1 << 20)
	for want, r := range map[string]Report{
		"Nothing runs.": {},
		"api uses most memory: 50 MB. The processor is quiet.": {Services: []Series{
			{Service: "api", Now: Sample{Memory: 50 << 20}, Memory: steady(50*mb, 0.01*mb)}, {Service: "web", Now: Sample{Memory: 9}}}},
		"api uses most memory: 80 MB, growing 1.0 MB a minute for 29 min. web keeps the processor busiest: 95 % of one.": {From: begin, To: begin.Add(30 * time.Minute), Services: []Series{
			{Service: "api", Now: Sample{Memory: 80 << 20}, Memory: steady(50*mb, mb)}, {Service: "web", Now: Sample{CPU: 95}}}},
		"api uses most memory: 1.0 MB. The processors are busy with something else: 180 % of one, of which 1 % are these services.": {
			Machine: Series{Now: Sample{CPU: 180}}, Services: []Series{{Service: "api", Now: Sample{Memory: 1 << 20, CPU: 1}}}},
	} {
		r.Summarise()
		assert.Equal(t, want, r.Summary)
	}
}
