// Package schedule says when work that comes again and again is due, and whose it is: at
// intervals or at times of the day, spread by a jitter, once for each time however many
// processes there are, and without two runs at the same time.
//
// What is known of an item of work is its Row, which all processes share. A process that
// wants to change a row works out the new one here, and puts it in place of the old one only
// if that is still there. Nothing here knows a clock: what time it is is said by the caller.
package schedule

import (
	"hash/maphash"
	"slices"
	"strconv"
	"time"
)

// A Timing says when an item is due: after each interval, or at times of the day.
type Timing struct {
	Every  time.Duration  // 0: At counts
	At     []TimeOfDay    // in order
	Zone   *time.Location // of At; nil: UTC
	Jitter time.Duration  // an item is due up to so much later, each time by another amount
}

// A TimeOfDay is a number of minutes since midnight.
type TimeOfDay int

// ParseTimeOfDay reads HH:MM.
func ParseTimeOfDay(text string) (TimeOfDay, bool) {
	t, err := time.Parse("15:04", text)
	if err != nil || len(text) != len("15:04") {
		return 0, false
	}
	return TimeOfDay(t.Hour()*60 + t.Minute()), true
}

// String returns the time as HH:MM.
func (t TimeOfDay) String() string {
	two := func(n int) string { return strconv.Itoa(n/10) + strconv.Itoa(n%10) }
	return two(int(t)/60) + ":" + two(int(t)%60)
}

// String returns the timing in words: two timings with the same words are the same.
func (t Timing) String() string {
	text := "every " + t.Every.String()
	if t.Every == 0 {
		text = "at"
		for _, at := range t.At {
			text += " " + at.String()
		}
		text += " " + t.zone().String()
	}
	return text + ", jitter " + t.Jitter.String()
}

func (t Timing) zone() *time.Location {
	if t.Zone == nil {
		return time.UTC
	}
	return t.Zone
}

// A Row is what all processes know of an item.
type Row struct {
	Slot   time.Time // the time for which it is due next, jitter aside
	Due    time.Time // when that is, with it
	Holder string    // the process that has begun it; "": nobody
	Lease  time.Time // until when it does, unless it says more
	Tries  int       // how often it has been begun for Slot
}

// First returns the row of an item that was never begun: one of an interval is due at once.
func (t Timing) First(item string, now time.Time) Row {
	if t.Every > 0 {
		return Row{Slot: now, Due: now}
	}
	return t.row(item, t.next(now))
}

func (t Timing) row(item string, slot time.Time) Row {
	return Row{Slot: slot, Due: slot.Add(t.later(item, slot))}
}

// seed makes the jitter of all processes the same, for each item and slot another one.
var seed = maphash.MakeSeed()

// later returns the jitter of an item for a slot. Anyone who puts a row in place works it out for
// all others.
func (t Timing) later(item string, slot time.Time) time.Duration {
	if t.Jitter <= 0 {
		return 0
	}
	return time.Duration(maphash.String(seed, item+slot.UTC().String()) % uint64(t.Jitter))
}

// next returns the first time of the day, of the item's, after a time.
func (t Timing) next(after time.Time) time.Time {
	day := after.In(t.zone())
	for ahead := range 3 { // a time may not be there on the day on which clocks are put forward
		for _, at := range t.At {
			slot := time.Date(day.Year(), day.Month(), day.Day()+ahead, int(at)/60, int(at)%60, 0, 0, t.zone())
			if slot.After(after) {
				return slot
			}
		}
	}
	return after.Add(24 * time.Hour)
}

// after returns the first slot after a time, where one was at slot, and how many others are
// between them.
func (t Timing) after(slot, now time.Time) (next time.Time, missed int) {
	if t.Every > 0 {
		if now.Before(slot) {
			return slot.Add(t.Every), 0
		}
		missed = int(now.Sub(slot) / t.Every)
		return slot.Add(time.Duration(missed+1) * t.Every), missed
	}
	const most = 10_000
	for next = t.next(slot); !next.After(now) && missed < most; next = t.next(next) {
		missed++
	}
	if !next.After(now) {
		next = t.next(now)
	}
	return next, missed
}

// Adjust returns the row of an item after a clock was set back so far that its time would not
// come as it should, and whether it was.
func (t Timing) Adjust(item string, row Row, now time.Time) (Row, bool) {
	if row.Holder != "" {
		const longest = time.Hour // no lease is as long
		if row.Lease.Sub(now) > longest {
			row.Lease = now
			return row, true
		}
		return row, false
	}
	if t.Every > 0 && row.Slot.Sub(now) > t.Every {
		return t.row(item, now.Add(t.Every)), true
	}
	// A time of the day that the clock comes to once more was kept the first time.
	if t.Every == 0 && row.Slot.Sub(t.next(now)) > 24*time.Hour {
		return t.row(item, t.next(now)), true
	}
	return row, false
}

// IsDue reports whether an item can be begun: its time has come, and nobody has begun it, or
// the one who has it is gone.
func (r Row) IsDue(now time.Time) bool {
	return !r.Due.After(now) && (r.Holder == "" || r.Lease.Before(now))
}

// Begin returns the row of an item that a process begins.
func (r Row) Begin(holder string, now time.Time, lease time.Duration) Row {
	r.Holder, r.Lease = holder, now.Add(lease)
	r.Tries++
	return r
}

// Renew returns the row of an item that its holder is still at.
func (r Row) Renew(now time.Time, lease time.Duration) Row {
	r.Lease = now.Add(lease)
	return r
}

// End returns the row of an item that was begun at a time and is done, or abandoned, and how many
// of its times went by before it was begun: of those it was begun once.
func (t Timing) End(item string, r Row, begun time.Time) (row Row, missed int) {
	next, missed := t.after(r.Slot, begun)
	return t.row(item, next), missed
}

// Soonest returns when the first of some rows is due, or a lease ends; zero if there are none.
func Soonest(rows []Row) time.Time {
	var list []time.Time
	for _, r := range rows {
		if r.Holder != "" && r.Lease.After(r.Due) {
			list = append(list, r.Lease)
		} else {
			list = append(list, r.Due)
		}
	}
	if len(list) == 0 {
		return time.Time{}
	}
	return slices.MinFunc(list, time.Time.Compare)
}
