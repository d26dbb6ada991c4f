package schedule

import (
	"math/rand/v2"
	"testing"
	"time"
)

func day(text string) time.Time {
	t, err := time.Parse("2006-01-02 15:04", text)
	if err != nil {
		panic(err)
	}
	return t
}

func times(texts ...string) (list []TimeOfDay) {
	for _, text := range texts {
		t, ok := ParseTimeOfDay(text)
		if !ok {
			panic(text)
		}
		list = append(list, t)
	}
	return list
}

func TestTimesOfDay(t *testing.T) {
	for _, text := range []string{"", "6:00", "24:00", "06:60", "06:00:00", "x", "-1:00"} {
		if _, ok := ParseTimeOfDay(text); ok {
			t.Errorf("%q is a time of the day", text)
		}
	}
	for _, text := range []string{"00:00", "06:05", "23:59"} {
		if at, ok := ParseTimeOfDay(text); !ok || at.String() != text {
			t.Errorf("%q is %v", text, at)
		}
	}
}

// Items of the day come at their times, in their zone, also where a clock is put forward or back.
func TestDays(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Skip("the machine knows no zones: ", err)
	}
	timing := Timing{At: times("02:30", "18:00"), Zone: zone}
	row := timing.First("x", day("2026-03-27 12:00"))
	var got []string
	for range 8 {
		got = append(got, row.Slot.In(zone).Format("02 15:04"))
		row, _ = timing.End("x", row, row.Due)
	}
	// On the 29th there is no 02:30: an hour later it is 03:30.
	want := []string{"27 18:00", "28 02:30", "28 18:00", "29 03:30", "29 18:00", "30 02:30", "30 18:00", "31 02:30"}
	for i := range want {
		if got[i] != want[i] {
			t.Fatalf("%v, want %v", got, want)
		}
	}
}

// An interval is kept from its slots on, not from when a run ends; what was slept through is
// made up for once.
func TestIntervals(t *testing.T) {
	timing := Timing{Every: time.Hour, Jitter: 10 * time.Minute}
	now := day("2026-11-26 10:00")
	row := timing.First("x", now)
	if row.Slot != now || row.Due != now {
		t.Fatalf("%+v", row)
	}
	next, missed := timing.End("x", row, now.Add(5*time.Minute))
	if next.Slot != now.Add(time.Hour) || missed != 0 {
		t.Errorf("%+v, %d missed", next, missed)
	}
	next, missed = timing.End("x", row, now.Add(5*time.Hour+time.Minute))
	if next.Slot != now.Add(6*time.Hour) || missed != 5 {
		t.Errorf("%+v, %d missed", next, missed)
	}
}

// The jitter spreads items, and is less than it says.
func TestJitter(t *testing.T) {
	timing := Timing{Every: time.Hour, Jitter: time.Minute}
	seen := map[time.Duration]bool{}
	now := day("2026-11-26 10:00")
	for i := range 200 {
		row := timing.row(string(rune('a'+i%20)), now.Add(time.Duration(i/20)*time.Hour))
		if late := row.Due.Sub(row.Slot); late < 0 || late >= timing.Jitter {
			t.Fatal(late)
		} else {
			seen[late] = true
		}
	}
	if len(seen) < 150 {
		t.Errorf("only %d of 200 differ", len(seen))
	}
}

// An item is begun by one, and by another one only when the first is gone.
func TestClaims(t *testing.T) {
	timing := Timing{Every: time.Hour}
	now := day("2026-11-26 10:00")
	row := timing.First("x", now)
	if !row.IsDue(now) || row.IsDue(now.Add(-time.Second)) {
		t.Error("due at another time")
	}
	held := row.Begin("a", now, time.Minute)
	if held.IsDue(now.Add(time.Minute)) || !held.IsDue(now.Add(time.Minute+1)) {
		t.Error("a lease ends at another time")
	}
	if held = held.Renew(now.Add(time.Minute), time.Minute); held.IsDue(now.Add(2 * time.Minute)) {
		t.Error("a lease is not renewed")
	}
	if again := held.Begin("b", now, time.Minute); again.Tries != 2 || again.Slot != row.Slot {
		t.Errorf("%+v", again)
	}
}

// A clock that is put back, by whatever amount, puts off no item for longer than its interval, or
// than to its next time of the day but one; and it repeats none of the day.
func TestClockPutBack(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 1))
	for range 5000 {
		timing := Timing{Every: time.Duration(1+random.IntN(600)) * time.Minute}
		if random.IntN(2) == 0 {
			timing = Timing{At: times("03:00", "15:00")}
		}
		timing.Jitter = time.Duration(random.IntN(5)) * time.Minute
		now := day("2026-11-26 10:00").Add(time.Duration(random.IntN(100_000)) * time.Second)
		row, _ := timing.End("x", timing.First("x", now), now)
		slot := row.Slot
		back := now.Add(-time.Duration(random.IntN(20*24*3600)) * time.Second)
		row, mended := timing.Adjust("x", row, back)
		wait := row.Due.Sub(back)
		most := timing.Every + timing.Jitter
		if timing.Every == 0 {
			most = 48*time.Hour + timing.Jitter
		}
		if wait > most {
			t.Fatalf("%v: it waits for %v", timing, wait)
		}
		if timing.Every == 0 && now.Sub(back) < 12*time.Hour && mended {
			t.Fatalf("%v: slot %v became %v at %v", timing, slot, row.Slot, back)
		}
		if again, twice := timing.Adjust("x", row, back); twice {
			t.Fatalf("mended twice: %+v, %+v", row, again)
		}
	}
}

func TestSoonest(t *testing.T) {
	now := day("2026-11-26 10:00")
	rows := []Row{{Due: now.Add(time.Hour)}, {Due: now, Holder: "a", Lease: now.Add(time.Minute)}}
	if at := Soonest(rows); at != now.Add(time.Minute) {
		t.Error(at)
	}
	if !Soonest(nil).IsZero() {
		t.Error("nothing is due at a time")
	}
}
