package estate

import (
	"errors"
	"strconv"
	"time"
)

// A Day is a date of the Gregorian calendar: the number of days since
// 0001-01-01, which is day 1. The zero Day is no date.
type Day int32

// epoch is the day before day 1.
var epoch = time.Date(0, 12, 31, 0, 0, 0, 0, time.UTC)

// DayOf returns the date that t has in UTC.
func DayOf(t time.Time) Day {
	return Day((t.Unix() - epoch.Unix()) / (24 * 60 * 60))
}

// ParseDay reads a date written as YYYY-MM-DD (RFC 3339, full-date).
func ParseDay(text string) (Day, error) {
	var digits [8]int
	n := 0
	for i := range len(text) {
		c := text[i]
		switch {
		case len(text) != len(time.DateOnly), (i == 4 || i == 7) != (c == '-'), c != '-' && (c < '0' || c > '9'):
			return 0, errors.New("expected a date such as 2026-03-02, not " + quote(text))
		case c != '-':
			digits[n] = int(c - '0')
			n++
		}
	}
	year := digits[0]*1000 + digits[1]*100 + digits[2]*10 + digits[3]
	month, day := digits[4]*10+digits[5], digits[6]*10+digits[7]
	if n < len(digits) || year < 1 || month < 1 || month > 12 || day < 1 || day > daysIn(year, month) {
		return 0, errors.New("there is no date " + quote(text) + ", expected one such as 2026-03-02")
	}
	// Years that begin in March put the leap day last.
	if month <= 2 {
		year--
		month += 12
	}
	return Day(365*year + year/4 - year/100 + year/400 + (153*(month-3)+2)/5 + day - 306), nil
}

func daysIn(year, month int) int {
	switch month {
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	}
	return 31
}

// String returns the date as YYYY-MM-DD, or "" for no date.
func (d Day) String() string {
	if d == 0 {
		return ""
	}
	return epoch.AddDate(0, 0, int(d)).Format(time.DateOnly)
}

// quote quotes a piece of an input for a message, cut to a sane length.
func quote(s string) string {
	const most = 60
	if len(s) > most {
		return strconv.Quote(s[:most]) + "..."
	}
	return strconv.Quote(s)
}
