package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestStartTime: a time of day is the next such time; what is over, and what is no time, is refused.
func TestStartTime(t *testing.T) {
	zone := time.FixedZone("Northhead", 2*60*60)
	now := time.Date(2026, 11, 29, 21, 30, 0, 0, zone)
	for text, want := range map[string]string{
		"22:00": "2026-11-29T22:00:00+02:00", "21:00": "2026-11-30T21:00:00+02:00",
		"21:30": "2026-11-29T21:30:00+02:00", "2026-12-01 06:30": "2026-12-01T06:30:00+02:00",
		"2026-12-01T06:30": "2026-12-01T06:30:00+02:00", "2026-12-01T06:30:00Z": "2026-12-01T06:30:00Z"} {
		at, err := startTime("--start", text, now)
		require.NoError(t, err, text)
		require.Equal(t, want, at.Format(time.RFC3339), text)
	}
	for text, says := range map[string]string{"2026-11-29 21:29": "is over", "soon": "want a time", "": "want a time",
		"25:00": "want a time", "2026-13-01 10:00": "want a time"} {
		_, err := startTime("--start", text, now)
		require.ErrorContains(t, err, says, text)
	}
}

// TestWindow: a time to cut over may have an end, on the same day or after midnight.
func TestWindow(t *testing.T) {
	zone := time.FixedZone("Northhead", 2*60*60)
	now := time.Date(2026, 11, 29, 21, 30, 0, 0, zone)
	for text, want := range map[string][2]string{
		"": {}, "22:00": {"2026-11-29T22:00:00+02:00"},
		"22:00-23:30":            {"2026-11-29T22:00:00+02:00", "2026-11-29T23:30:00+02:00"},
		"22:00-02:00":            {"2026-11-29T22:00:00+02:00", "2026-11-30T02:00:00+02:00"},
		"2026-12-01 06:30":       {"2026-12-01T06:30:00+02:00"},
		"2026-12-01 06:30-07:00": {"2026-12-01T06:30:00+02:00", "2026-12-01T07:00:00+02:00"},
	} {
		at, until, err := window(text, now)
		require.NoError(t, err, text)
		for i, is := range []*time.Time{at, until} {
			if want[i] == "" {
				require.Nil(t, is, text)
			} else {
				require.Equal(t, want[i], is.Format(time.RFC3339), text)
			}
		}
	}
	for text, says := range map[string]string{"22:00-": "want a time", "-22:00": "want a time", "soon": "--cut-over",
		"2026-11-29 21:00-23:00": "is over"} {
		_, _, err := window(text, now)
		require.ErrorContains(t, err, says, text)
	}
}
