// Package hours says how fast transfers may be at which times of the day.
package hours

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"unvora.example/unvora/core/fit"
)

// Window is a time of the day, on some days of the week, in which transfers are slower.
type Window struct {
	Days     []time.Weekday // on which it begins, in the order of time.Weekday
	From, To int            // minutes since midnight; To before From is on the day after
	Rate     int64          // bytes a second that each transfer may read
}

// days are the names of the days, as they are written.
var days = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Parse reads [DAYS ]HH:MM-HH:MM=RATE: "mon-fri 08:00-18:00=20MiB", "sat,sun 22:00-06:00=100MiB", or without days for
// every day.
func Parse(text string) (w Window, err error) {
	when, rate, ok := strings.Cut(text, "=")
	if !ok {
		return w, fmt.Errorf("hours %q: want [DAYS ]FROM-TO=RATE, such as mon-fri 08:00-18:00=20MiB", text)
	}
	fields := strings.Fields(when)
	if len(fields) == 1 {
		fields = append([]string{"sun-sat"}, fields...)
	}
	if len(fields) == 2 {
		from, to, between := strings.Cut(fields[1], "-")
		if !between {
			err = fmt.Errorf("%q is no time from and to", fields[1])
		}
		if err == nil {
			w.From, err = minuteOf(from)
		}
		if err == nil {
			w.To, err = minuteOf(to)
		}
		if err == nil && w.From == w.To {
			err = errors.New("it ends when it begins")
		}
		if err == nil {
			w.Days, err = daysOf(fields[0])
		}
	} else {
		err = errors.New("days have no spaces between them")
	}
	if err == nil {
		w.Rate, err = fit.ParseSize(strings.TrimSpace(rate))
	}
	if err != nil {
		return Window{}, fmt.Errorf("hours %q: %w; want [DAYS ]FROM-TO=RATE, such as mon-fri 08:00-18:00=20MiB", text,
			err)
	}
	return w, nil
}

func minuteOf(text string) (int, error) {
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of day", text)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// daysOf reads days: mon-fri, or sat,sun, or both together.
func daysOf(text string) (list []time.Weekday, err error) {
	for _, part := range strings.Split(strings.ToLower(text), ",") {
		from, to, span := strings.Cut(part, "-")
		if !span {
			to = from
		}
		a, b := slices.Index(days, from), slices.Index(days, to)
		if a < 0 || b < 0 {
			return nil, fmt.Errorf("%q is no day: they are %s", part, strings.Join(days, ", "))
		}
		for d := a; ; d = (d + 1) % len(days) {
			if !slices.Contains(list, time.Weekday(d)) {
				list = append(list, time.Weekday(d))
			}
			if d == b {
				break
			}
		}
	}
	slices.Sort(list)
	return list, nil
}

// open tells whether a moment is in it.
func (w Window) open(at time.Time) bool {
	minute, today := at.Hour()*60+at.Minute(), at.Weekday()
	yesterday := (today + 6) % 7
	if w.From < w.To {
		return slices.Contains(w.Days, today) && minute >= w.From && minute < w.To
	}
	return slices.Contains(w.Days, today) && minute >= w.From || slices.Contains(w.Days, yesterday) && minute < w.To
}

// RateAt is how fast a transfer may be at a moment, in bytes a second, by its own rate and by the windows that are open
// then, the slowest of which counts; 0 is as fast as it goes.
func RateAt(at time.Time, own int64, windows []Window) int64 {
	for _, w := range windows {
		if w.open(at) && (own == 0 || w.Rate < own) {
			own = w.Rate
		}
	}
	return own
}
