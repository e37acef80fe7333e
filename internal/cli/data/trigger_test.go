package data

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMoments(t *testing.T) {
	now := time.Date(2026, 11, 26, 21, 45, 0, 0, time.UTC) // a Thursday
	for text, want := range map[string]string{
		"monday 8:00": "2026-11-30 08:00", "Mon 8:00": "2026-11-30 08:00", "thursday 21:00": "2026-12-03 21:00", "thu 22:00": "2026-11-26 22:00", "8:00": "2026-11-27 08:00", "23:15": "2026-11-26 23:15",
		"2026-12-24 18:00": "2026-12-24 18:00", "2026-12-24": "2026-12-24 00:00", "+3h": "2026-11-27 00:45", "+2d": "2026-11-28 21:45", "friday": "2026-11-27 00:00",
	} {
		got, err := parseMoment(text, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.Format("2006-01-02 15:04"), text)
	}
	for _, text := range []string{"", "soon", "m 8:00", "monday 25:00", "+", "32:00"} {
		_, err := parseMoment(text, now)
		assert.ErrorContains(t, err, "is no time", text)
	}
}
