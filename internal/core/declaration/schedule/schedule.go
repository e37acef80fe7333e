// Package schedule says when something comes that is to happen again and again.
package schedule

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Schedule is when something happens.
type Schedule struct {
	line  string
	every time.Duration
	cron  cron.Schedule
	zone  *time.Location
	// hourly says that the line does not name its hours, so that it goes on by the hours that
	// pass, and not by those of the clock.
	hourly bool
}

// Every returns a schedule by the time that passes.
func Every(d time.Duration) (Schedule, error) {
	if d < time.Second {
		return Schedule{}, fmt.Errorf("every %v is too often: write at least 1s", d)
	}
	return Schedule{every: d}, nil
}

var parser = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor)

// Parse reads a line of cron with five fields, or a name such as @daily, in a zone such as
// "Europe/Oslo"; "" is that of the machine. An hour that the clock skips is made up for when it
// goes on, and in one that comes twice what names its hour happens once.
func Parse(line, zone string) (Schedule, error) {
	s := Schedule{line: line, zone: time.Local}
	if zone != "" {
		var err error
		if s.zone, err = time.LoadLocation(zone); err != nil {
			return s, fmt.Errorf("%q is no time zone; write for example %q", zone, "Europe/Oslo")
		}
	}
	if strings.Contains(line, "TZ=") {
		return s, errors.New(`the zone stands in a key of its own: zone = "Europe/Oslo"`)
	}
	if n := len(strings.Fields(line)); !strings.HasPrefix(line, "@") && n != 5 {
		return s, fmt.Errorf("%q has %d fields; it takes five: minute, hour, day, month and day of the week", line, n)
	}
	c, err := parser.Parse(line)
	if err != nil {
		return s, fmt.Errorf("%q is no line of cron: %w", line, err)
	}
	s.cron = c
	spec, ok := c.(*cron.SpecSchedule)
	if ok {
		const everyHour = 1<<24 - 1
		s.hourly = spec.Hour&everyHour == everyHour
	} else {
		s.hourly = true // @every
	}
	if s.Next(time.Now()).IsZero() {
		return s, fmt.Errorf("%q never comes", line)
	}
	return s, nil
}

// String returns the schedule as it was written, and its zone if that isn't this machine's.
func (s Schedule) String() string {
	if s.every > 0 {
		return "every " + s.every.String()
	}
	if s.zone == nil || s.zone == time.Local {
		return s.line
	}
	return s.line + " " + s.zone.String()
}

// Next returns when it comes next after a time; the zero time if it never does.
func (s Schedule) Next(after time.Time) time.Time {
	switch {
	case s.every > 0:
		// By the clock, so that it comes at the same times whenever it was begun.
		return after.Truncate(s.every).Add(s.every)
	case s.cron == nil:
		return time.Time{}
	case s.hourly:
		return s.cron.Next(after.In(s.zone))
	}
	// What the clock shows, as if it had no changes.
	at := after.In(s.zone)
	shown := time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), at.Nanosecond(), time.UTC)
	for {
		if shown = s.cron.Next(shown); shown.IsZero() {
			return shown
		}
		// In an hour that comes twice, the first is meant.
		if next := s.at(shown); next.After(after) {
			return next
		}
	}
}

// at returns when the clock of the zone first shows a time, or, if it skips that, when it goes
// on.
func (s Schedule) at(shown time.Time) time.Time {
	t := time.Date(shown.Year(), shown.Month(), shown.Day(), shown.Hour(), shown.Minute(), shown.Second(), 0, s.zone)
	start, end := t.ZoneBounds()
	shows := func(t time.Time) bool {
		return t.Hour() == shown.Hour() && t.Minute() == shown.Minute()
	}
	if !shows(t) { // skipped: one of the bounds is where it goes on
		if t.Sub(start) < end.Sub(t) {
			return start
		}
		return end
	}
	// It may have been shown before the clock was set back.
	if !start.IsZero() {
		_, now := t.Zone()
		_, was := start.Add(-time.Second).Zone()
		if earlier := t.Add(-time.Duration(was-now) * time.Second); was > now && earlier.Before(start) {
			return earlier
		}
	}
	return t
}
