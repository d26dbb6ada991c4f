package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/schedule"
	"yorvet.example/yorvet/internal/store/storetest"
)

// A store of each version of before is brought up to date, and what it kept goes to the estate whose path it was.
func TestUpgrade(t *testing.T) {
	for version := 1; version < len(migrations); version++ {
		each(t, func(t *testing.T, where string) {
			all := migrations
			migrations = all[:version]
			old := open(t, where)
			write := func(statement string, args ...any) {
				t.Helper()
				if _, err := old.db.ExecContext(t.Context(), statement, args...); err != nil {
					t.Fatal(err)
				}
			}
			write(`INSERT INTO estates VALUES ('d1', 'the estate'), ('d2', 'another')`)
			for i, path := range []string{"estate.yaml", "other.yaml"} {
				run := fmt.Sprint("run", i)
				write(`INSERT INTO runs (run, kind, state, estate, path, day, version, terms, notes, approve, began, until)
					VALUES ($1, 'probe', 'ended', $2, $3, '2026-11-23', 'v', '{}', '[]', 0, 1000, 2000)`, run, fmt.Sprint("d", i+1), path)
				write(`INSERT INTO cases (run, n, kind, grp, lane, draft, predicted, message_id, tag)
					VALUES ($1, 0, 'member', 'g@k.example', 'out', '{}', '{}', $1, $1)`, run)
				write(`INSERT INTO looks (run, account, lane) VALUES ($1, 'a@k.example', 'boxes')`, run)
				write(`INSERT INTO checks (run, n, who, predicted, why) VALUES ($1, 0, 'a@k.example', 'inbox', '')`, run)
			}
			if version > 1 {
				write(`INSERT INTO series (series, kind, path, what, last) VALUES ('s1', 'check', 'estate.yaml', '', 1)`)
				write(`INSERT INTO records VALUES ('r1', 's1', 1, '', 0, 1000, 1001, '', '', '', '', 'wrong', 0, 1, 0, 'one')`)
				write(`INSERT INTO findings VALUES ('s1', 'x', 1, 1, 1000, 1000, 'g@k.example', '', '', 'x')`)
				write(`INSERT INTO alarms VALUES ('a1', 'p', 'i', 'r1', 1000, '{}')`)
				write(`INSERT INTO deliveries (alarm, way, due) VALUES ('a1', 'mail', 0)`)
			}
			migrations = all
			st := open(t, where)
			s, err := st.Enter(t.Context(), "mine", Place{"h", "/a"}, false, "estate.yaml", "/a/estate.yaml")
			if err != nil {
				t.Fatal(err)
			}
			if r, err := s.Record(t.Context(), "run0"); err != nil || len(r.Cases) != 1 || len(r.Looks) != 1 || r.Estate != "d1" {
				t.Errorf("the old run is %+v, %v", r, err)
			}
			if body, err := s.EstateOf(t.Context(), "d1"); err != nil || body != "the estate" {
				t.Errorf("its estate is %q, %v", body, err)
			}
			if _, err := s.Record(t.Context(), "run1"); !errors.Is(err, ErrNoRun) {
				t.Errorf("the run of another path: %v", err)
			}
			if list, err := s.ArrivalsOf(t.Context(), "a@k.example", 10); err != nil || len(list) != 1 || list[0].Kind != "member" || list[0].Group != "g@k.example" {
				t.Errorf("arrivals %+v, %v", list, err)
			}
			if version > 1 {
				a := &KeptResult{ID: "r2", Series: Series{Asked: "s1", Kind: "check", Path: "estate.yaml"}, State: Wrong, Began: time.UnixMilli(5000)}
				if news, err := s.Keep(t.Context(), a, facts("x"), nil, nil); err != nil || news.FirstEver || len(news.New) > 0 || a.Seq != 2 {
					t.Errorf("what was found goes on: %+v, %v", news, err)
				}
				if b, err := s.ClaimBatch(t.Context(), "p", "mail", "b", "h", time.UnixMilli(9000), time.Minute); err != nil || b == nil {
					t.Errorf("what was to be told is gone: %v", err)
				}
			}
			plan(t, s, "new-run", 2, "a@k.example")
			if c, err := s.Claim(t.Context(), Worker{Holder: "h", Connections: []string{"out"}}, "out", 1); err != nil || c == nil {
				t.Errorf("nothing is to be sent: %v", err)
			}
			migrations = all[:version]
			defer func() { migrations = all }()
			if _, err := Open(t.Context(), where); !errors.Is(err, ErrNewer) {
				t.Errorf("a program of before opens it: %v", err)
			}
		})
	}
}

// enter has two estates use one store.
func enter(t *testing.T, where string) (ours, theirs *Store) {
	t.Helper()
	st := open(t, where)
	var both []*Store
	for i := range 2 {
		s, err := st.Enter(t.Context(), strings.Repeat(string('a'+rune(i)), 26), Place{"host", fmt.Sprint("/estate", i)}, false)
		if err != nil {
			t.Fatal(err)
		}
		both = append(both, s)
	}
	return both[0], both[1]
}

// fill writes a run, an answer with what it found and an alarm, all with the same names for each estate.
func fill(t *testing.T, s *Store, id string) {
	t.Helper()
	p := &PlannedRun{Body: "estate " + id, Run: Run{ID: id, Name: "monday", Kind: "probe", Estate: "d", Path: "estate.yaml", Day: "2026-11-23",
		Began: s.Now(), Until: s.Now().Add(time.Hour), Terms: Terms{Patience: time.Minute}},
		Looks: []Look{{Account: "a@k.example", Connection: "boxes"}}}
	for n := range 4 {
		name := fmt.Sprint(id, ".", n)
		p.Cases = append(p.Cases, Case{N: n, Kind: "member", Group: "g@k.example", Connection: "outside", Draft: json.RawMessage(`{}`),
			Predicted: json.RawMessage(`{}`), MessageID: name, Tag: name})
		p.Checks = append(p.Checks, Check{N: n, Who: "a@k.example", Predicted: "inbox"})
		p.Expected = append(p.Expected, Expected{n, "a@k.example", ExpectCopy})
	}
	if err := s.Plan(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	a := &KeptResult{ID: "answer-" + id, Series: Series{Asked: "asked", Kind: "check", Path: "estate.yaml"}, State: Wrong, Began: s.Now(), Item: "plan/item"}
	tell := func(*News) []Alarm {
		return []Alarm{{ID: a.ID, Plan: "plan", Item: "item", Record: a.ID, At: a.Began, Body: "{}", Ways: map[string]time.Time{"post": a.Began}}}
	}
	if news, err := s.Keep(t.Context(), a, facts("found by "+id), tell, nil); err != nil || !news.FirstEver {
		t.Fatalf("%+v, %v", news, err)
	}
	if err := s.Beat(t.Context(), Agent{Name: "agent", Host: "host", Offers: json.RawMessage(`{}`)}); err != nil {
		t.Fatal(err)
	}
}

// seen is all that an estate sees in a store, as text.
func seen(t *testing.T, s *Store) string {
	t.Helper()
	ctx := t.Context()
	record, err := s.Record(ctx, "monday")
	runs, err1 := s.Runs(ctx)
	answers, err2 := s.Answers(ctx, time.Time{}, 100)
	latest, err3 := s.Latest(ctx)
	spells, _, err4 := s.IntervalsOf(ctx, "g@k.example", 100)
	arrivals, err5 := s.ArrivalsOf(ctx, "a@k.example", 100)
	agents, err6 := s.Agents(ctx)
	mail, err7 := s.Mail(ctx, time.Time{})
	backlogs, err8 := s.Backlogs(ctx, "plan")
	body, err9 := s.EstateOf(ctx, "d")
	under, err10 := s.Under(ctx, Worker{Connections: []string{"outside", "boxes"}})
	if err := errors.Join(err1, err2, err3, err4, err5, err6, err7, err8, err10); err != nil {
		t.Fatal(err)
	}
	for i := range agents {
		agents[i].Beat = time.Time{}
	}
	text, err11 := json.Marshal([]any{record, fmt.Sprint(err, err9), runs, answers, latest, spells, arrivals, agents, mail, backlogs, body, under})
	if err11 != nil {
		t.Fatal(err11)
	}
	return string(text)
}

// What one estate has in a store is not seen, sent, told, looked into, judged or removed by another, whose names are all alike.
func TestEstatesApart(t *testing.T) {
	each(t, func(t *testing.T, where string) {
		ours, theirs := enter(t, where)
		if text := seen(t, theirs); strings.Contains(text, "monday\"") {
			t.Errorf("before anything: %s", text)
		}
		fill(t, ours, "one")
		fill(t, theirs, "two")
		before := seen(t, theirs)
		if strings.Contains(before, "one") {
			t.Errorf("theirs has ours: %s", before)
		}
		worker := Worker{Holder: "agent", Connections: []string{"outside", "boxes"}}
		for sent := 0; ; sent++ {
			c, err := ours.Claim(t.Context(), worker, "outside", 100)
			if err != nil {
				t.Fatal(err)
			}
			if c == nil {
				if sent != 4 {
					t.Errorf("%d messages were claimed", sent)
				}
				break
			}
			if c.Run != "one" {
				t.Fatalf("a message of %s was claimed", c.Run)
			}
			if err := ours.Settle(t.Context(), "agent", c, Sent, nil, time.Time{}); err != nil {
				t.Fatal(err)
			}
		}
		if waiting, err := theirs.Waiting(t.Context(), worker); err != nil || len(waiting) != 1 {
			t.Errorf("theirs wait in %v, %v", waiting, err)
		}
		if v, err := ours.Visit(t.Context(), worker, 9); err != nil || v == nil || v.Run != "one" {
			t.Errorf("the mailbox of %+v, %v", v, err)
		}
		if v, err := ours.Visit(t.Context(), worker, 9); err != nil || v != nil {
			t.Errorf("a second mailbox %+v, %v", v, err)
		}
		if n, err := ours.Mailboxes(t.Context(), worker); err != nil || n != 1 {
			t.Errorf("%d mailboxes, %v", n, err)
		}
		if b, err := ours.ClaimBatch(t.Context(), "plan", "post", "b1", "h", ours.Now(), time.Minute); err != nil || b == nil || len(b.Alarms) != 1 ||
			b.Alarms[0].ID != "answer-one" {
			t.Errorf("the alarms are %+v, %v", b, err)
		}
		item := Item{"plan", "item", "every 1h"}
		row := schedule.Row{Slot: time.UnixMilli(1000), Due: time.UnixMilli(2000)}
		first, err := ours.ItemRow(t.Context(), item, row)
		if err != nil {
			t.Fatal(err)
		}
		if ok, err := ours.Swap(t.Context(), item, first, first.Begin("agent", time.UnixMilli(3000), time.Hour)); err != nil || !ok {
			t.Errorf("the item is not begun: %v", err)
		}
		if other, err := theirs.ItemRow(t.Context(), item, row); err != nil || other.Holder != "" {
			t.Errorf("the item of the others is begun: %+v, %v", other, err)
		}
		if _, err := ours.Turn(t.Context(), "outside", time.Hour); err != nil {
			t.Fatal(err)
		}
		if at, err := theirs.Turn(t.Context(), "outside", time.Hour); err != nil || at.After(theirs.Now()) {
			t.Errorf("their turn is at %v: %v", at, err)
		}
		for _, err := range []error{
			ours.Judge(t.Context(), "one", []Check{{N: 0, Who: "a@k.example", Seen: "inbox", OK: true}}, 1, 0, 0),
			ours.Leave(t.Context(), "agent"), ours.Finish(t.Context(), "one", time.Time{}), ours.End(t.Context(), "one"), ours.Remove(t.Context(), "monday"),
		} {
			if err != nil {
				t.Fatal(err)
			}
		}
		if n, err := ours.RemoveAnswers(t.Context(), ours.Now().Add(time.Hour), Part{}); err != nil || n != 0 {
			t.Errorf("%d removed, %v", n, err) // the last one stays
		}
		if after := seen(t, theirs); after != before {
			t.Errorf("theirs was\n%s\nand is\n%s", before, after)
		}
		if err := ours.Remove(t.Context(), "monday"); !errors.Is(err, ErrNoRun) {
			t.Errorf("theirs is removed: %v", err)
		}
		if _, err := ours.RunOf(t.Context(), "two"); !errors.Is(err, ErrNoRun) {
			t.Errorf("theirs by its ID: %v", err)
		}
		if list, err := ours.All().Runs(t.Context()); err != nil || len(list) != 1 || list[0].Owner != theirs.Estate() {
			t.Errorf("all runs are %+v, %v", list, err)
		}
		if list, err := ours.All().Answers(t.Context(), time.Time{}, 9); err != nil || len(list) != 2 {
			t.Errorf("all answers are %+v, %v", list, err)
		}
		estates, err := ours.All().Estates(t.Context())
		if err != nil || len(estates) != 2 || estates[1].Runs != 1 || estates[0].Answers != 1 || estates[1].Agents != 1 {
			t.Errorf("the estates are %+v, %v", estates, err)
		}
	})
}

// An estate is asked about at each new place, once.
func TestEnter(t *testing.T) {
	each(t, func(t *testing.T, where string) {
		st := open(t, where)
		name, here, there := NewName(), Place{"host", "/estate"}, Place{"other", "/estate"}
		for _, step := range []struct {
			at        Place
			join      bool
			elsewhere string
		}{{here, false, ""}, {here, false, ""}, {there, false, "/estate on host"}, {there, true, ""}, {there, false, ""}, {here, false, ""}} {
			s, err := st.Enter(t.Context(), name, step.at, step.join)
			elsewhere, ok := errors.AsType[*ElsewhereError](err)
			switch {
			case step.elsewhere == "" && (err != nil || s.Estate() != name):
				t.Errorf("%+v: %v", step, err)
			case step.elsewhere != "" && (!ok || !strings.Contains(elsewhere.Error(), step.elsewhere)):
				t.Errorf("%+v: %v", step, err)
			}
		}
	})
}

// A login of one estate sees and changes nothing of another, whatever SQL is written by hand.
func TestApart(t *testing.T) {
	if s := open(t, filepath.Join(t.TempDir(), "x.db")); s != nil {
		if _, err := s.Apart(t.Context(), "probes"); err == nil {
			t.Error("a file has logins")
		}
	}
	where := storetest.PostgreSQL(t)
	ours, theirs := enter(t, where)
	fill(t, ours, "one")
	fill(t, theirs, "two")
	login := "login_" + NewName()[:8] // roles are of the server, which other tests use
	if _, err := ours.Apart(t.Context(), `x"; DROP TABLE runs`); err == nil {
		t.Error("no login is taken")
	}
	if _, err := ours.Apart(t.Context(), "yorvet"); err == nil || !strings.Contains(err.Error(), "may see all rows") {
		t.Errorf("the owner of the tables is taken: %v", err)
	}
	for range 2 { // again changes nothing
		statements, err := ours.Apart(t.Context(), login)
		if err == nil {
			err = ours.Execute(t.Context(), statements)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, err := theirs.Apart(t.Context(), login); err == nil || !strings.Contains(err.Error(), "of another estate") {
		t.Errorf("a login is given to two: %v", err)
	}
	u, err := url.Parse(where)
	if err != nil {
		t.Fatal(err)
	}
	query := u.Query()
	query.Set("user", login)
	u.RawQuery = query.Encode()
	theirsBefore := seen(t, theirs)
	limited := open(t, u.String()) // which brings no tables up to date
	if s, err := limited.Enter(t.Context(), ours.Estate(), Place{"second", "/x"}, true); err != nil || seen(t, s) != seen(t, ours) {
		t.Errorf("the login does not see its own: %v", err)
	}
	if list, err := limited.All().Estates(t.Context()); err != nil || len(list) != 1 || list[0].Role != login {
		t.Errorf("it sees the estates %+v, %v", list, err)
	}
	if _, err := limited.Enter(t.Context(), NewName(), Place{"h", "/new"}, false); err == nil {
		t.Error("it begins an estate")
	}
	if list, err := limited.All().Runs(t.Context()); err != nil || len(list) != 1 {
		t.Errorf("of all, it sees %+v, %v", list, err)
	}
	if text := seen(t, limited.Of(theirs.Estate())); strings.Contains(text, "two") {
		t.Errorf("under the other's name it sees %s", text)
	}
	byHand(t, limited.db, ours, theirs)
	if after := seen(t, theirs); after != theirsBefore {
		t.Errorf("theirs was\n%s\nand is\n%s", theirsBefore, after)
	}
	if err := limited.Of(ours.Estate()).Remove(t.Context(), "monday"); err != nil {
		t.Errorf("its own is not removed: %v", err)
	}
	fill(t, limited.Of(ours.Estate()).renamed(t), "three")
}

// renamed gives the store of an estate as it is, once what it asked before is forgotten.
func (s *Store) renamed(t *testing.T) *Store {
	t.Helper()
	if _, err := s.db.ExecContext(t.Context(), `DELETE FROM series`); err != nil {
		t.Fatal(err)
	}
	return s
}

// byHand tries what SQL can do to another estate.
func byHand(t *testing.T, db *sql.DB, ours, theirs *Store) {
	t.Helper()
	ctx := context.Background()
	for _, table := range append(append([]string{"owners"}, ofOwner...), ofRun...) {
		column := "owner"
		if table == "sends" || table == "observations" || table == "signs" || table == "answers" {
			column = "run"
		}
		var n int
		if err := db.QueryRowContext(ctx, `SELECT COUNT(*) FROM `+table+` WHERE `+column+` IN ($1, 'two')`, theirs.Estate()).Scan(&n); err != nil || n > 0 {
			t.Errorf("%s shows %d rows, %v", table, n, err)
		}
		if done, err := db.ExecContext(ctx, `DELETE FROM `+table+` WHERE `+column+` IN ($1, 'two')`, theirs.Estate()); err == nil {
			if n, _ := done.RowsAffected(); n > 0 {
				t.Errorf("%d rows of %s are removed", n, table)
			}
		}
		if done, err := db.ExecContext(ctx, `UPDATE `+table+` SET `+column+` = $1 WHERE `+column+` = $2`, theirs.Estate(), ours.Estate()); err == nil {
			if n, _ := done.RowsAffected(); n > 0 {
				t.Errorf("%d rows of %s are given away", n, table)
			}
		}
	}
	for _, statement := range []string{
		`UPDATE owners SET role = current_user`, `INSERT INTO owners VALUES ('x', 0, current_user, 0, 0)`,
		`ALTER TABLE runs DISABLE ROW LEVEL SECURITY`, `DROP POLICY own_estate ON runs`, `SET ROLE yorvet`, `TRUNCATE runs CASCADE`,
		fmt.Sprintf(`INSERT INTO runs SELECT 'x', kind, state, estate, path, day, version, terms, notes, approve, began, until, closing, ended,
			good, bad, unlooked, '%s', 'x', steered, resumed FROM runs`, theirs.Estate()),
		fmt.Sprintf(`INSERT INTO agents VALUES ('%s', 'a', 'h', '{}', '', 0, 0)`, theirs.Estate()),
		`INSERT INTO signs VALUES ('two', 0, 'x@k.example', 'copy')`,
	} {
		if _, err := db.ExecContext(ctx, statement); err == nil {
			t.Errorf("it may %s", statement)
		}
	}
}

// What a rule no longer keeps goes, of one plan, of none, or of all; what was last found stays, and so do runs that are open.
func TestSweep(t *testing.T) {
	each(t, func(t *testing.T, where string) {
		s, other := enter(t, where)
		put := func(s *Store, days int, item, run string) {
			t.Helper()
			at := s.Now().AddDate(0, 0, -days)
			id := fmt.Sprint(s.Estate()[:1], days, item, run)
			if run != "" {
				p := &PlannedRun{Run: Run{ID: id, Name: run, Kind: "probe", Estate: "d", Began: at, Until: at}}
				if err := errors.Join(s.Plan(t.Context(), p), s.Finish(t.Context(), id, time.Time{}), s.End(t.Context(), id)); err != nil {
					t.Fatal(err)
				}
				return
			}
			a := &KeptResult{ID: id, Series: Series{Asked: item, Kind: "check"}, Item: item, Began: at, State: Wrong}
			if _, err := s.Keep(t.Context(), a, facts(id), nil, nil); err != nil {
				t.Fatal(err)
			}
		}
		fill := func(s *Store) {
			for _, days := range []int{500, 300, 100, 10} {
				for _, item := range []string{"p/one", "q/one", ""} {
					put(s, days, item, "")
				}
				put(s, days, "", fmt.Sprint("watch-p-", days))
				put(s, days, "", fmt.Sprint("mine-", days))
			}
		}
		fill(s)
		fill(other)
		if err := s.Plan(t.Context(), &PlannedRun{Run: Run{Name: "open", Began: s.Now().AddDate(-9, 0, 0)}}); err != nil {
			t.Fatal(err)
		}
		left := func(s *Store) string {
			t.Helper()
			runs, err1 := s.Runs(t.Context())
			answers, err2 := s.Answers(t.Context(), time.Time{}, 99)
			if err := errors.Join(err1, err2); err != nil {
				t.Fatal(err)
			}
			return fmt.Sprint(len(runs), " ", len(answers))
		}
		plan, rest := Part{Item: "p/", Run: "watch-p-"}, Part{Rest: true, Run: "watch-"}
		for _, step := range []struct {
			rule Rule
			part Part
			left string
		}{
			{Rule{}, Part{}, "9 12"}, {Rule{Days: 400}, plan, "8 11"}, {Rule{Days: 400}, plan, "8 11"}, {Rule{Days: 400}, rest, "7 10"},
			{Rule{Runs: 3}, plan, "6 8"}, {Rule{Runs: 3, Days: 50}, plan, "5 8"}, {Rule{Days: 1}, Part{}, "1 3"},
		} {
			runs, answers, cutoff, err := s.Sweep(t.Context(), step.rule, step.part)
			if got := left(s); err != nil || got != step.left {
				t.Errorf("%v of %+v leaves %s, want %s; %d and %d from before %v, %v", step.rule, step.part, got, step.left, runs, answers, cutoff, err)
			}
		}
		if got := left(other); got != "8 12" {
			t.Errorf("the other estate has %s", got)
		}
		if list, all, err := s.IntervalsOf(t.Context(), "g@k.example", 9); err != nil || all != 3 || !list[0].Open {
			t.Errorf("what was found last: %+v, %v", list, err)
		}
		if r, err := s.Rule(t.Context()); err != nil || r != (Rule{Days: 400}) {
			t.Errorf("the rule is %v, %v", r, err)
		}
		if err := s.SetRule(t.Context(), Rule{30, 5}); err != nil {
			t.Fatal(err)
		}
		if r, err := s.Rule(t.Context()); err != nil || r != (Rule{30, 5}) || r.String() != "the newest 5 of 30 days are kept" {
			t.Errorf("the rule is %v, %v", r, err)
		}
		if r, err := other.Rule(t.Context()); err != nil || r != (Rule{Days: 400}) {
			t.Errorf("the other's rule is %v, %v", r, err)
		}
	})
}
