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
		at, err := startTime(text, now)
		require.NoError(t, err, text)
		require.Equal(t, want, at.Format(time.RFC3339), text)
	}
	for text, says := range map[string]string{"2026-11-29 21:29": "is over", "soon": "want a time", "": "want a time",
		"25:00": "want a time", "2026-13-01 10:00": "want a time"} {
		_, err := startTime(text, now)
		require.ErrorContains(t, err, says, text)
	}
}
