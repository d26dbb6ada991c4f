package maillog

import (
	"strings"
	"time"
)

// A stamps reads the times of lines. It remembers the last hour that it has worked out.
type stamps struct {
	zone *time.Location // of times that do not say theirs
	now  time.Time      // about when the last line was written: times without a year are before
	hour string         // how the last one was written
	base int64          // when it began, in milliseconds since 1970
}

// rest is what follows a time.
type rest struct {
	text string
	own  bool // it is one as Exim writes it itself, which no host and program follow
}

// stamp takes the time from the beginning of a line, in milliseconds since 1970.
//
// It knows those of RFC 3164 (section 4.1.2, no year), of RFC 3339, of journalctl (short,
// short-iso, short-precise, short-full, short-unix), and Exim's own
// (specification, section 53.6, with log_selector = +millisec, log_timezone and +pid).
func (c *stamps) stamp(line string) (ms int64, r rest, ok bool) {
	switch {
	case len(line) > 16 && line[3] == ' ' && line[6] == ' ' && line[9] == ':' && line[12] == ':':
		return c.classic(line)
	case len(line) > 20 && line[4] == '-' && line[7] == '-' && line[13] == ':' && line[16] == ':':
		return c.dated(line)
	case len(line) > 24 && line[3] == ' ' && line[8] == '-' && line[11] == '-' && line[14] == ' ':
		return c.dated(line[4:]) // of short-full: after the day of the week
	case line != "" && line[0] >= '0' && line[0] <= '9':
		return unixStamp(line)
	}
	return 0, rest{}, false
}

// classic reads a time like "Nov  5 20:54:52", or "... 20:54:52.123456".
func (c *stamps) classic(line string) (int64, rest, bool) {
	if c.hour != line[:9] {
		month := months[line[:3]]
		day, ok := number(strings.TrimLeft(line[4:6], " "))
		hour, ok2 := number(line[7:9])
		if month == 0 || !ok || !ok2 || day == 0 || day > 31 || hour > 23 {
			return 0, rest{}, false
		}
		begin := time.Date(c.now.In(c.zone).Year(), month, day, hour, 0, 0, 0, c.zone)
		if begin.After(c.now.Add(24 * time.Hour)) {
			begin = time.Date(begin.Year()-1, month, day, hour, 0, 0, 0, c.zone)
		}
		c.hour, c.base = strings.Clone(line[:9]), begin.UnixMilli()
	}
	return c.within(line, 10, false)
}

// within adds minutes and seconds, which begin at a place of a line, to the hour.
func (c *stamps) within(line string, at int, own bool) (int64, rest, bool) {
	minute, ok := number(line[at : at+2])
	second, ok2 := number(line[at+3 : at+5])
	if !ok || !ok2 || minute > 59 || second > 60 {
		return 0, rest{}, false
	}
	fraction, end := fractionOf(line, at+5)
	for end < len(line) && line[end] == ' ' {
		end++
	}
	return c.base + int64(minute)*60_000 + int64(second)*1000 + fraction, rest{line[end:], own}, true
}

// fractionOf reads parts of a second, in milliseconds, and returns where they end.
func fractionOf(line string, at int) (ms int64, end int) {
	if at >= len(line) || line[at] != '.' && line[at] != ',' {
		return 0, at
	}
	end = at + 1
	for scale := int64(100); end < len(line) && line[end] >= '0' && line[end] <= '9'; end++ {
		ms += scale * int64(line[end]-'0')
		scale /= 10
	}
	return ms, end
}

// dated reads a time with a year: "2026-11-25T20:54:52.123+01:00" and "2026-11-25 20:54:52".
func (c *stamps) dated(line string) (int64, rest, bool) {
	if len(line) < 20 {
		return 0, rest{}, false
	}
	_, end := fractionOf(line, 19)
	own := line[10] == ' '
	zone := ""
	switch { // the zone, written right after it or after a blank
	case end < len(line) && (line[end] == 'Z' || line[end] == '+' || line[end] == '-'):
		zone = wordAt(line, end)
		end += len(zone)
	case own && end+6 <= len(line) && (line[end+1] == '+' || line[end+1] == '-'):
		zone = wordAt(line, end+1)
		end += 1 + len(zone)
	case own && strings.HasPrefix(line[end:], " UTC "):
		zone, own = "Z", false
		end += len(" UTC")
	}
	if len(c.hour) != 13+len(zone) || c.hour[:13] != line[:13] || c.hour[13:] != zone {
		begin, ok := hourOf(line[:13], zone, c.zone)
		if !ok {
			return 0, rest{}, false
		}
		c.hour, c.base = line[:13]+zone, begin.UnixMilli()
	}
	ms, _, ok := c.within(line, 14, own)
	text := strings.TrimLeft(line[end:], " ")
	if own && strings.HasPrefix(text, "[") { // the number of the process
		if _, after, found := strings.Cut(text, "] "); found {
			text = after
		}
	}
	return ms, rest{text, own}, ok
}

// hourOf returns when an hour began.
func hourOf(hour, zone string, usual *time.Location) (time.Time, bool) {
	begin, err := time.ParseInLocation("2006-01-02T15", hour[:10]+"T"+hour[11:], usual)
	if err != nil || zone == "" {
		return begin, err == nil
	}
	if zone == "Z" {
		return time.Date(begin.Year(), begin.Month(), begin.Day(), begin.Hour(), 0, 0, 0, time.UTC), true
	}
	layout := "-07:00"
	if len(zone) == 5 {
		layout = "-0700"
	}
	offset, err := time.Parse(layout, zone)
	if err != nil {
		return begin, false
	}
	_, seconds := offset.Zone()
	utc := time.Date(begin.Year(), begin.Month(), begin.Day(), begin.Hour(), 0, 0, 0, time.UTC)
	return utc.Add(-time.Duration(seconds) * time.Second), true
}

// unixStamp reads seconds since 1970, with parts of one.
func unixStamp(line string) (int64, rest, bool) {
	const digits = 10
	for i := range digits {
		if i >= len(line) || line[i] < '0' || line[i] > '9' {
			return 0, rest{}, false
		}
	}
	if len(line) == digits || line[digits] != '.' && line[digits] != ' ' {
		return 0, rest{}, false
	}
	seconds := int64(0)
	for i := range digits {
		seconds = seconds*10 + int64(line[i]-'0')
	}
	ms, end := fractionOf(line, digits)
	return seconds*1000 + ms, rest{strings.TrimLeft(line[end:], " "), false}, true
}

func wordAt(s string, at int) string {
	if end := strings.IndexByte(s[at:], ' '); end >= 0 {
		return s[at : at+end]
	}
	return s[at:]
}

// months are those of RFC 3164.
var months = map[string]time.Month{
	"Jan": time.January, "Feb": time.February, "Mar": time.March, "Apr": time.April, "May": time.May, "Jun": time.June,
	"Jul": time.July, "Aug": time.August, "Sep": time.September, "Oct": time.October, "Nov": time.November,
	"Dec": time.December,
}

// number reads a number of one or two digits.
func number(s string) (int, bool) {
	n := 0
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return 0, false
		}
		n = n*10 + int(s[i]-'0')
	}
	return n, len(s) > 0
}
