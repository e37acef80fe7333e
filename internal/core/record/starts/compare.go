package starts

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"neighbour/internal/core/machine/words"
)

// Usual is how long something took in earlier starts.
type Usual struct {
	Of     int     `json:"of"` // how many starts
	Median float64 `json:"median_ms"`
	// Low and High are the quartiles.
	Low  float64 `json:"low_ms"`
	High float64 `json:"high_ms"`
	// Slower is than how many of them this one was slower.
	Slower int `json:"slower"`
}

// Comparison is a start beside earlier ones of its like.
type Comparison struct {
	// Whole is of the starts of the same services that were cold, or warm, as
	// this one was, and that ended well.
	Whole    Usual            `json:"whole"`
	Services map[string]Usual `json:"services"`
	// Slower and Faster are the services that took clearly longer or shorter
	// than usual, the one with the largest difference first.
	Slower []string `json:"slower,omitempty"`
	Faster []string `json:"faster,omitempty"`
}

// Alike reports whether two starts can be compared as a whole: they are of the
// same services, ended well, and are both cold or both warm.
func Alike(a, b *Start) bool {
	return a.Result == Ready && b.Result == Ready && a.Cold == b.Cold && SameServices(a, b)
}

// SameServices reports whether two starts are of the same services.
func SameServices(a, b *Start) bool {
	return slices.Equal(names(a), names(b))
}

func names(s *Start) []string {
	var out []string
	for _, v := range s.Services {
		out = append(out, v.Name)
	}
	slices.Sort(out)
	return out
}

// Compare compares a start with earlier ones. A service is compared with itself
// wherever it was as cold, or as warm, as now.
func Compare(s *Start, earlier []*Start) Comparison {
	c := Comparison{Services: map[string]Usual{}}
	own := Analyse(s, 1).Own
	var whole []float64
	of := map[string][]float64{}
	for _, e := range earlier {
		if e.ID == s.ID || e.Result == UnderWay {
			continue
		}
		if Alike(e, s) {
			whole = append(whole, e.Took)
		}
		theirs := Analyse(e, 1).Own
		for _, v := range s.Services {
			was, ok := e.Service(v.Name)
			if ok && was.Result == Ready && v.Result == Ready && was.Cold() == v.Cold() {
				of[v.Name] = append(of[v.Name], theirs[v.Name])
			}
		}
	}
	c.Whole = usual(s.Took, whole)
	for name, all := range of {
		u := usual(own[name], all)
		c.Services[name] = u
		switch {
		case clearly(own[name], u, u.Slower):
			c.Slower = append(c.Slower, name)
		case clearly(own[name], u, u.Of-u.Slower):
			c.Faster = append(c.Faster, name)
		}
	}
	by := func(a, b string) int {
		gap := func(n string) float64 { return math.Abs(own[n] - c.Services[n].Median) }
		return cmp.Or(cmp.Compare(gap(b), gap(a)), cmp.Compare(a, b))
	}
	slices.SortFunc(c.Slower, by)
	slices.SortFunc(c.Faster, by)
	return c
}

// Differences below these are noise on any machine.
const (
	leastGap   = 30.0 // ms
	leastShare = 0.25
	leastOf    = 5 // starts
)

// clearly reports whether something is far enough from the usual, beyond all but
// one in ten of the earlier starts.
func clearly(now float64, u Usual, beyond int) bool {
	gap := math.Abs(now - u.Median)
	return u.Of >= leastOf && gap >= leastGap && gap >= leastShare*u.Median && float64(beyond) >= 0.9*float64(u.Of) &&
		(now > u.High || now < u.Low)
}

func usual(now float64, all []float64) Usual {
	if len(all) == 0 {
		return Usual{}
	}
	slices.Sort(all)
	u := Usual{Of: len(all), Median: quantile(all, 0.5), Low: quantile(all, 0.25), High: quantile(all, 0.75)}
	for _, v := range all {
		if v < now {
			u.Slower++
		}
	}
	return u
}

// quantile interpolates between the values next to it (the definition of R-7).
func quantile(sorted []float64, q float64) float64 {
	at := q * float64(len(sorted)-1)
	i := int(at)
	if i+1 >= len(sorted) {
		return sorted[i]
	}
	return sorted[i] + (at-float64(i))*(sorted[i+1]-sorted[i])
}

// InWords says how usual a length of time is: "0.31 s, as usual", "0.31 s, usually
// 0.08 s, slower than 14 of 15".
func (u Usual) InWords(now float64) string {
	text := words.Millis(now)
	switch {
	case u.Of == 0:
		return text
	case u.Of < leastOf:
		return fmt.Sprintf("%s, before %s", text, words.Millis(u.Median))
	}
	if math.Abs(now-u.Median) < max(5, 0.1*u.Median) {
		return text + ", as usual"
	}
	text += ", usually " + words.Millis(u.Median)
	if u.Slower*2 >= u.Of {
		return fmt.Sprintf("%s, slower than %d of %d", text, u.Slower, u.Of)
	}
	return fmt.Sprintf("%s, faster than %d of %d", text, u.Of-u.Slower, u.Of)
}

// Difference is what a service took in two starts from when all that it needs was
// there; 0 where it did not take part.
type Difference struct {
	Service string  `json:"service"`
	Before  float64 `json:"before_ms"`
	After   float64 `json:"after_ms"`
}

// Differences compares two starts, the largest difference first.
func Differences(a, b *Report) []Difference {
	out := []Difference{}
	for name, before := range a.Analysis.Own {
		out = append(out, Difference{name, before, b.Analysis.Own[name]})
	}
	for name, after := range b.Analysis.Own {
		if _, both := a.Analysis.Own[name]; !both {
			out = append(out, Difference{name, 0, after})
		}
	}
	slices.SortFunc(out, func(x, y Difference) int {
		return cmp.Or(cmp.Compare(math.Abs(y.After-y.Before), math.Abs(x.After-x.Before)), cmp.Compare(x.Service, y.Service))
	})
	return out
}
