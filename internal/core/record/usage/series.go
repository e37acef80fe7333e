package usage

import (
	"slices"
	"time"
)

// Series is what a service used over a period, in equal parts of it. A part
// without any sample has -1.
type Series struct {
	Service string    `json:"service"` // "" is the machine
	Now     Sample    `json:"now"`
	CPU     []float64 `json:"cpu"`  // percent of one processor, on the average
	Peak    []float64 `json:"peak"` // the highest
	Memory  []float64 `json:"memory"`
	Disk    []float64 `json:"disk"` // bytes a second, read and written
	Files   []float64 `json:"files"`
	Threads []float64 `json:"threads"`
}

// Report is what all services used over a period.
type Report struct {
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Cores  int       `json:"cores"`
	Memory uint64    `json:"memory"` // the machine's, in bytes
	// Machine is the machine as a whole; Services are in the order of a start.
	Machine  Series   `json:"machine"`
	Services []Series `json:"services"`
	// Summary says in a sentence who uses most.
	Summary string `json:"summary"`
}

// NewSeries puts rows, which may overlap, into so many equal parts of a period.
func NewSeries(service string, rows []Row, from, to time.Time, parts int) Series {
	s := Series{Service: service}
	lists := []*[]float64{&s.CPU, &s.Peak, &s.Memory, &s.Disk, &s.Files, &s.Threads}
	for _, l := range lists {
		*l = slices.Repeat([]float64{-1}, parts)
	}
	counts := make([]int, parts)
	length := to.Sub(from) / time.Duration(parts)
	for _, r := range rows {
		// A row fills all parts that it lasts over.
		end := r.At.Add(r.Step).Sub(from)
		if end <= 0 {
			continue
		}
		first, last := int(r.At.Sub(from)/length), int((end-1)/length)
		for i := max(0, first); i <= min(last, parts-1); i++ {
			n := float64(counts[i])
			for j, v := range []float64{float64(r.CPU), float64(r.Peak), float64(r.Memory), float64(r.Read + r.Written), float64(r.Files), float64(r.Threads)} {
				was := (*lists[j])[i]
				switch {
				case n == 0:
					(*lists[j])[i] = v
				case j == 1:
					(*lists[j])[i] = max(was, v)
				default:
					(*lists[j])[i] = (was*n + v) / (n + 1)
				}
			}
			counts[i]++
		}
	}
	return s
}
