package usage

import (
	"fmt"
	"time"

	"neighbour/internal/core/machine/words"
)

// Summarise says in a sentence or two who uses most, what grows, and whether the
// machine is busy with something else.
func (r *Report) Summarise() {
	var memory, cpu *Series
	own := 0.0
	for i := range r.Services {
		s := &r.Services[i]
		if memory == nil || s.Now.Memory > memory.Now.Memory {
			memory = s
		}
		if cpu == nil || s.Now.CPU > cpu.Now.CPU {
			cpu = s
		}
		own += float64(s.Now.CPU)
	}
	if memory == nil || memory.Now.Memory == 0 {
		r.Summary = "Nothing runs."
		return
	}
	r.Summary = fmt.Sprintf("%s uses most memory: %s", memory.Service, words.Bytes(memory.Now.Memory))
	if grows, over := growth(memory.Memory, r.To.Sub(r.From)); grows > 0 {
		r.Summary += fmt.Sprintf(", growing %s a minute for %s", words.Bytes(uint64(grows)), words.Span(over))
	}
	r.Summary += "."
	all := float64(r.Machine.Now.CPU)
	switch {
	case cpu.Now.CPU >= 20:
		r.Summary += fmt.Sprintf(" %s keeps the processor busiest: %.0f %% of one.", cpu.Service, cpu.Now.CPU)
	case all > own+50:
		r.Summary += fmt.Sprintf(" The processors are busy with something else: %.0f %% of one, of which %.0f %% are these services.", all, own)
	default:
		r.Summary += " The processor is quiet."
	}
}

// growth returns by how many bytes a minute something has grown steadily up to
// the end of a period, and for how long; 0 if it hasn't.
func growth(parts []float64, period time.Duration) (perMinute float64, over time.Duration) {
	if len(parts) == 0 {
		return 0, 0
	}
	length := period / time.Duration(len(parts))
	i := len(parts) - 1
	for i >= 0 && parts[i] < 0 {
		i--
	}
	end := i
	for i > 0 && parts[i-1] >= 0 && parts[i-1] <= parts[i]*1.001 {
		i--
	}
	if end < 0 || end-i < 5 {
		return 0, 0
	}
	over = time.Duration(end-i) * length
	grown := parts[end] - parts[i]
	if grown < 0.1*parts[i] || grown < 4<<20 { // a little is no growth
		return 0, 0
	}
	return grown / over.Minutes(), over
}
