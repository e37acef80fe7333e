package layout

import "math"

// Ticks returns round numbers for an axis from 0 to top, at most about n of them:
// multiples of 1, 2, 2.5 or 5 times a power of ten.
func Ticks(top float64, n int) []float64 {
	if top <= 0 || n < 1 || math.IsInf(top, 0) || math.IsNaN(top) {
		return []float64{0}
	}
	power := math.Pow(10, math.Floor(math.Log10(top/float64(n))))
	step := 10 * power
	for _, m := range []float64{1, 2, 2.5, 5} {
		if top/(m*power) <= float64(n) {
			step = m * power
			break
		}
	}
	var out []float64
	for i := 0; float64(i)*step <= top*(1+1e-9); i++ {
		out = append(out, math.Round(float64(i)*step*1e9)/1e9) // not 0.6000000000000001
	}
	return out
}
