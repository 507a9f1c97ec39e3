package hours_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/hours"
)

// TestRateAt: of the windows that are open the slowest counts, on the days that they are for, over midnight too.
func TestRateAt(t *testing.T) {
	const mib = 1 << 20
	at := func(day, hour, minute int) time.Time { // the 6th is a Sunday
		return time.Date(2026, 12, 6+day, hour, minute, 0, 0, time.FixedZone("Northhead", 7200))
	}
	for _, c := range []struct {
		windows []string
		at      time.Time
		own     int64
		want    int64
	}{
		{nil, at(1, 9, 0), 0, 0},
		{nil, at(1, 9, 0), 5 * mib, 5 * mib},
		{[]string{"mon-fri 08:00-18:00=20MiB"}, at(1, 8, 0), 0, 20 * mib},
		{[]string{"mon-fri 08:00-18:00=20MiB"}, at(1, 18, 0), 0, 0},
		{[]string{"mon-fri 08:00-18:00=20MiB"}, at(5, 17, 59), 0, 20 * mib},
		{[]string{"mon-fri 08:00-18:00=20MiB"}, at(6, 9, 0), 0, 0},
		{[]string{"mon-fri 08:00-18:00=20MiB"}, at(1, 9, 0), 5 * mib, 5 * mib},
		{[]string{"08:00-18:00=20MiB", "12:00-13:00=1MiB"}, at(0, 12, 30), 0, mib},
		{[]string{"12:00-13:00=1MiB", "08:00-18:00=20MiB"}, at(0, 12, 30), 0, mib},
		{[]string{"fri 22:00-06:00=3MiB"}, at(5, 21, 59), 0, 0},
		{[]string{"fri 22:00-06:00=3MiB"}, at(5, 22, 0), 0, 3 * mib},
		{[]string{"fri 22:00-06:00=3MiB"}, at(6, 5, 59), 0, 3 * mib},
		{[]string{"fri 22:00-06:00=3MiB"}, at(6, 6, 0), 0, 0},
		{[]string{"fri 22:00-06:00=3MiB"}, at(5, 5, 0), 0, 0},
		{[]string{"sat-mon 08:00-18:00=4MiB"}, at(0, 9, 0), 0, 4 * mib},
		{[]string{"sat-mon 08:00-18:00=4MiB"}, at(2, 9, 0), 0, 0},
		{[]string{"tue,Sat 08:00-18:00=4MiB"}, at(6, 9, 0), 0, 4 * mib},
		{[]string{"sat 22:00-06:00=3MiB"}, at(0, 1, 0), 0, 3 * mib},
	} {
		var windows []hours.Window
		for _, text := range c.windows {
			w, err := hours.Parse(text)
			require.NoError(t, err)
			windows = append(windows, w)
		}
		require.Equal(t, c.want, hours.RateAt(c.at, c.own, windows), "%v at %v", c.windows, c.at)
	}
	for text, says := range map[string]string{
		"": "want [DAYS ]", "08:00-18:00": "want", "08:00-18:00=": "size", "8-18=1MiB": "no time of day",
		"mon 08:00=1MiB": "from and to", "mun 08:00-09:00=1MiB": "is no day", "mon fri 08:00-09:00=1MiB": "no spaces",
		"08:00-08:00=1MiB": "ends when", "24:00-25:00=1MiB": "no time of day", "08:00-09:00=7": "no unit",
	} {
		_, err := hours.Parse(text)
		require.ErrorContains(t, err, says, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("mon-fri 08:00-18:00=20MiB")
	f.Add("sat,sun 22:00-06:00=1GiB")
	f.Fuzz(func(t *testing.T, text string) {
		w, err := hours.Parse(text)
		if err == nil && (w.Rate <= 0 || len(w.Days) == 0 || w.From < 0 || w.To > 24*60) {
			t.Fatalf("%q is %+v", text, w)
		}
	})
}
