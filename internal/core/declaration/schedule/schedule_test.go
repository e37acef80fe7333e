package schedule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestNext(t *testing.T) {
	for _, c := range []struct{ line, after, want string }{
		{"0 8 * * MON-FRI", "2026-11-27T07:00:00+01:00", "2026-11-27T08:00:00+01:00"},
		{"0 8 * * MON-FRI", "2026-11-27T08:00:00+01:00", "2026-11-30T08:00:00+01:00"},
		{"30 6 29 2 *", "2026-11-27T08:00:00+01:00", "2028-02-29T06:30:00+01:00"},
		{"@daily", "2026-11-27T08:00:00+01:00", "2026-11-28T00:00:00+01:00"},
		{"@every 90m", "2026-11-27T08:00:00+01:00", "2026-11-27T09:30:00+01:00"},
		// On 29 March 2026 the clock of Oslo goes from 2:00 to 3:00.
		{"30 2 * * *", "2026-03-28T12:00:00+01:00", "2026-03-29T03:00:00+02:00"},
		{"30 2 * * *", "2026-03-29T03:00:00+02:00", "2026-03-30T02:30:00+02:00"},
		{"*/20 * * * *", "2026-03-29T01:45:00+01:00", "2026-03-29T03:00:00+02:00"},
		// On 25 October 2026 it goes from 3:00 back to 2:00.
		{"30 2 * * *", "2026-10-24T12:00:00+02:00", "2026-10-25T02:30:00+02:00"},
		{"30 2 * * *", "2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"},
		{"*/20 * * * *", "2026-10-25T02:45:00+02:00", "2026-10-25T02:00:00+01:00"},
		{"0 3 * * *", "2026-10-25T02:30:00+02:00", "2026-10-25T03:00:00+01:00"},
	} {
		s, err := Parse(c.line, "Europe/Oslo")
		require.NoError(t, err, c.line)
		after, err := time.Parse(time.RFC3339, c.after)
		require.NoError(t, err)
		assert.Equal(t, c.want, s.Next(after).Format(time.RFC3339), "%s after %s", c.line, c.after)
	}
	e, err := Every(5 * time.Minute)
	require.NoError(t, err)
	assert.Equal(t, "12:35:00", e.Next(time.Date(2026, 1, 1, 12, 34, 56, 0, time.UTC)).Format(time.TimeOnly))
	assert.Equal(t, "every 5m0s", e.String())
}

func TestWrongLines(t *testing.T) {
	for line, why := range map[string]string{
		"0 0 30 2 *": "never comes", "* * * *": "has 4 fields; it takes five", "0 0 * * * *": "has 6 fields", "61 * * * *": "is no line of cron", "@sometimes": "is no line of cron",
		"TZ=UTC 0 0 * * *": "a key of its own", "": "has 0 fields", "0 0 31 4,6,9,11 *": "never comes",
	} {
		_, err := Parse(line, "")
		assert.ErrorContains(t, err, why, line)
	}
	_, err := Parse("0 8 * * *", "Nowhere/Town")
	assert.ErrorContains(t, err, `"Nowhere/Town" is no time zone`)
	_, err = Every(time.Millisecond)
	assert.ErrorContains(t, err, "too often")
}

// However the clock changes, what comes next is later, and what names its hour comes once on
// each day.
func TestDaysOfAYear(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		zone := rapid.SampledFrom([]string{"Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "America/Santiago", "UTC", "Asia/Kathmandu"}).Draw(r, "zone")
		at := time.Date(2026, 1, 1, rapid.IntRange(0, 3).Draw(r, "hour"), rapid.IntRange(0, 59).Draw(r, "minute"), 0, 0, time.UTC)
		s, err := Parse(at.Format("4 15 * * *"), zone)
		require.NoError(r, err)
		where, err := time.LoadLocation(zone)
		require.NoError(r, err)
		now := time.Date(2026, 1, 1, 12, 0, 0, 0, where)
		for day := now.AddDate(0, 0, 1); day.Year() == 2026; day = day.AddDate(0, 0, 1) {
			next := s.Next(now)
			require.True(r, next.After(now))
			require.Equal(r, day.Format(time.DateOnly), next.In(where).Format(time.DateOnly), "%s after %s", s, now)
			now = next
		}
	})
}

func FuzzLine(f *testing.F) {
	f.Add("0 8 * * MON-FRI", "Europe/Oslo")
	f.Add("@every 1s", "")
	f.Fuzz(func(t *testing.T, line, zone string) {
		s, err := Parse(line, zone)
		if err != nil {
			return
		}
		now := time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC)
		for range 5 {
			next := s.Next(now)
			if next.IsZero() {
				return
			}
			if !next.After(now) {
				t.Fatalf("%q: %v is not after %v", line, next, now)
			}
			now = next
		}
	})
}
