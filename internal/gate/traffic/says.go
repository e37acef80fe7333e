package traffic

import (
	"fmt"
	"neighbour/internal/core/words"
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
			return "Nothing passed in the last minute."
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
