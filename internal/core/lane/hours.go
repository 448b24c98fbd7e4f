package lane

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Hours are the times of a week at which lots are let in.
type Hours struct {
	Days     []time.Weekday
	From, To time.Duration // since midnight; a To that is not later than From is on the next day
	Zone     *time.Location
	text     string
}

var days = []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

// ParseHours reads such as "Mon-Thu 09:00-16:00 Europe/Oslo"; days may be a list, and a range that goes over the weekend. Zones are
// those of the IANA time zone database.
func ParseHours(text string) (*Hours, error) {
	wrong := fmt.Errorf("%q; write such as Mon-Thu 09:00-16:00 Europe/Oslo", text)
	f := strings.Fields(text)
	if len(f) != 3 {
		return nil, wrong
	}
	h := &Hours{text: strings.Join(f, " ")}
	for _, part := range strings.Split(f[0], ",") {
		from, to, is := strings.Cut(part, "-")
		if !is {
			to = from
		}
		a, b := slices.Index(days, from), slices.Index(days, to)
		if a < 0 || b < 0 {
			return nil, wrong
		}
		for d := a; ; d = (d + 1) % 7 {
			if !slices.Contains(h.Days, time.Weekday(d)) {
				h.Days = append(h.Days, time.Weekday(d))
			}
			if d == b {
				break
			}
		}
	}
	from, to, is := strings.Cut(f[1], "-")
	a, errA := time.Parse("15:04", from)
	b, errB := time.Parse("15:04", to)
	if !is || errA != nil || errB != nil {
		return nil, wrong
	}
	h.From, h.To = sinceMidnight(a), sinceMidnight(b)
	var err error
	if h.Zone, err = time.LoadLocation(f[2]); err != nil || f[2] == "Local" {
		return nil, fmt.Errorf("there is no time zone %q; write one such as Europe/Oslo, or UTC", f[2])
	}
	return h, nil
}

func sinceMidnight(t time.Time) time.Duration {
	return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
}

func (h *Hours) String() string { return h.text }

// Open tells whether lots are let in at a time; next is when they are again, where they are not.
func (h *Hours) Open(at time.Time) (open bool, next time.Time) {
	here := at.In(h.Zone)
	for day := -1; day <= 8; day++ { // yesterday's may go on into today
		y, m, d := here.AddDate(0, 0, day).Date()
		noon := time.Date(y, m, d, 12, 0, 0, 0, h.Zone)
		if !slices.Contains(h.Days, noon.Weekday()) {
			continue
		}
		clock := func(t time.Duration, more int) time.Time { // as the clock on the wall says, also on a day that has 23 or 25 hours
			return time.Date(y, m, d+more, int(t/time.Hour), int(t%time.Hour/time.Minute), 0, 0, h.Zone)
		}
		over := 0
		if h.To <= h.From {
			over = 1
		}
		from, to := clock(h.From, 0), clock(h.To, over)
		switch {
		case !from.Before(to): // in a night that has no such hour
		case !at.Before(from) && at.Before(to):
			return true, time.Time{}
		case from.After(at):
			return false, from
		}
	}
	return false, time.Time{}
}
