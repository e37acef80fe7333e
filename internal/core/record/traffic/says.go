package traffic

import (
	"fmt"
	"neighbour/internal/core/machine/words"
	"strings"
	"time"
)

// Says says what is the matter with the requests of a project in the last minute.
func (l *Log) Says(project string, now time.Time) string {
	l.mu.Lock()
	var recent []Exchange
	any := false
	for i := len(l.all) - 1; i >= 0; i-- {
		e := &l.all[i].Exchange
		if e.Project != project || e.Of != "" {
			continue
		}
		any = true
		if now.Sub(e.Began) > time.Minute {
			break
		}
		recent = append(recent, *e)
	}
	l.mu.Unlock()
	if len(recent) == 0 {
		if any {
			return nothingLately
		}
		return ""
	}
	text := fmt.Sprintf("%d in the last minute", len(recent))
	failed, waiting, route, same := 0, 0, "", true
	var slow *Exchange
	for i := range recent {
		e := &recent[i]
		if e.UsualMS > 0 && (slow == nil || e.TookMS > slow.TookMS) {
			slow = e
		}
		if e.Waiting {
			waiting++
			continue
		}
		if !e.Failed() {
			continue
		}
		failed++
		if r := e.Method + " " + Route(e.Path); route == "" {
			route = r
		} else {
			same = same && r == route
		}
	}
	switch {
	case failed == 1:
		text += "; one failed, " + route
	case failed > 1 && same:
		text += fmt.Sprintf("; %d failed, all %s", failed, route)
	case failed > 1:
		text += fmt.Sprintf("; %d failed", failed)
	default:
		text += ", none failed"
	}
	if waiting > 0 {
		text += fmt.Sprintf("; %d came before a service was ready", waiting)
	}
	text += "."
	if slow != nil {
		text += fmt.Sprintf(" Slow: %s %s took %s, usually %s.", slow.Method, Route(slow.Path), Took(slow.TookMS), Took(slow.UsualMS))
	}
	return text
}

// Sum completes what Says says of the gate by what passed beside it in the last minute, and by
// how many events and webhooks were put aside.
func Sum(says string, others []Exchange, aside int, now time.Time) string {
	recent, failed := 0, 0
	for i := range others {
		e := &others[i]
		if now.Sub(e.Began) > time.Minute {
			continue
		}
		recent++
		if e.Failed() {
			failed++
		}
	}
	var parts []string
	switch {
	case aside == 1:
		parts = append(parts, "One is put aside and waits for a decision.")
	case aside > 1:
		parts = append(parts, fmt.Sprintf("%d are put aside and wait for a decision.", aside))
	}
	if says != "" && (recent == 0 || says != nothingLately) {
		parts = append(parts, says)
	}
	if recent > 0 {
		text := fmt.Sprintf("%d between services", recent)
		if says == "" || says == nothingLately {
			text += " in the last minute"
		}
		if failed > 0 {
			text += fmt.Sprintf(", %d failed", failed)
		}
		parts = append(parts, text+".")
	}
	return strings.Join(parts, " ")
}

const nothingLately = "Nothing passed in the last minute."

// Took returns a duration in milliseconds in three digits.
func Took(ms float64) string {
	switch {
	case ms >= 1000:
		return words.Millis(ms)
	case ms >= 10:
		return fmt.Sprintf("%.0f ms", ms)
	case ms >= 1:
		return fmt.Sprintf("%.1f ms", ms)
	}
	return fmt.Sprintf("%.2f ms", ms)
}
