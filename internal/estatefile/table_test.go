package estatefile

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
)

// readAll reads a table as the loader does: row by row, in batches.
func readAll(r io.Reader) (rows []string) {
	full, used := make(chan *batch, 1), make(chan *batch, 2)
	used <- &batch{}
	go func() {
		defer close(full)
		newRowReader(r, 0).send(full, used)
	}()
	for b := range full {
		for _, row := range b.rows {
			cells, places := []string{}, ""
			for _, c := range row.cells {
				cells = append(cells, b.text[c.from:c.to])
				places += fmt.Sprintf(" %d:%d", c.place.Line, c.place.Column)
			}
			line := fmt.Sprintf("%q%s", cells, places)
			if row.err != nil {
				line += " " + row.err.Error()
			}
			rows = append(rows, line)
		}
		used <- b
	}
	return rows
}

// readAllCSV reads a table with package csv alone.
func readAllCSV(text string) (rows []string) {
	reader := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	for {
		record, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return rows
		}
		line := fmt.Sprintf("%q", record)
		for i := range record {
			l, c := reader.FieldPos(i)
			line += fmt.Sprintf(" %d:%d", l, capColumn(c))
		}
		if err != nil {
			line += " " + err.Error()
		}
		rows = append(rows, line)
	}
}

// The rows that are cut at their commas are those that package csv reads.
func TestRowsAreThoseOfCSV(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	pieces := []string{"a", "bc", ",", ",", "\n", "\r\n", "é", "x y", ";", "\r", "\n\n", `"q"`, `"a,""b""` + "\n" + `c"`, `"`, "\ufeff"}
	for range campaign.Rounds(2000, 8000) {
		var b strings.Builder
		plain := random.IntN(2) == 0
		for range random.IntN(30) {
			n := len(pieces)
			if plain {
				n -= 4
			}
			b.WriteString(pieces[random.IntN(n)])
		}
		checkRows(t, b.String())
	}
	checkRows(t, strings.Repeat("a,b\n", 1000)+`"c",d`+"\n"+strings.Repeat("e,f\n", 1000))
	checkRows(t, "a,b\n"+strings.Repeat("x", 1<<19)+",y\n")
}

func checkRows(t *testing.T, text string) {
	t.Helper()
	want := readAllCSV(text)
	for name, r := range map[string]io.Reader{"whole": strings.NewReader(text), "byte by byte": iotest.OneByteReader(strings.NewReader(text))} {
		if name == "byte by byte" && len(text) > 1000 {
			continue
		}
		if got := readAll(r); !slices.Equal(got, want) {
			t.Fatalf("%.200q, %s:\n got %.1000s\nwant %.1000s", text, name, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

func FuzzRows(f *testing.F) {
	f.Add("a,b\n1,2\n\"x\",y\n")
	f.Fuzz(func(t *testing.T, text string) { checkRows(t, text) })
}

func TestReadFailure(t *testing.T) {
	rows := readAll(io.MultiReader(strings.NewReader("a,b\nc"), iotest.ErrReader(errors.New("the disk is gone"))))
	if len(rows) != 2 || !strings.Contains(rows[1], "2:1 the disk is gone") {
		t.Errorf("the rows are %v", rows)
	}
	rows = readAll(io.MultiReader(strings.NewReader("a,b\n\"c\""), iotest.ErrReader(errors.New("the disk is gone"))))
	if len(rows) != 2 || !strings.Contains(rows[1], "the disk is gone") {
		t.Errorf("the rows are %v", rows)
	}
}

func TestTables(t *testing.T) {
	dir := write(t, map[string]string{
		"e.yaml": top + "subaddress: \"+\"\npeople: {table: people.csv}\ngroups: {table: groups.csv}\nmemberships: {table: memberships.csv}\n",
		"people.csv": "\ufeffname,address,also,mailbox,base,tags\r\n" +
			"\"Maro, Ines\",ines@kelp.example,i@kelp.example; ines@out.example ,full,north,a; b\r\n" +
			"\r\n" +
			"Tam,tam@kelp.example,,,, spaced \r\n",
		"groups.csv": "address,kind,owners,gate,members,access.find,echo,pause-after,welcome\n" +
			`desk@kelp.example,forum,ines@kelp.example;far@out.example,"refuse unproven because ""No; not so, \""x\""; really."" ; admit anyone",` +
			`tam@kelp.example; where (base=north\3bx); everyone,nobody,false,3,true` + "\n" +
			"plain@kelp.example,,,,,,,,\n",
		"memberships.csv": "address,group,copy,since,invitations,paused\n" +
			"ines@kelp.example,desk@kelp.example,digest,2026-03-02,every,true\n" +
			"TAM+x@kelp.example,DESK@kelp.example,,,,\n" +
			"new@out.example,plain@kelp.example,none,,,false\n" +
			"desk@kelp.example,plain@kelp.example,none,,,\n",
	})
	e, err := Load(context.Background(), filepath.Join(dir, "e.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	ines, _ := e.Find(address.MustParse("ines@out.example"))
	if p := e.Person(ines); p.Name != "Maro, Ines" || p.Mailbox != estate.MailboxFull || len(p.Also) != 2 || p.Place.Line != 2 || p.Place.Column != 14 {
		t.Errorf("the person is %+v", p)
	}
	if got := fmt.Sprint(e.Attributes(ines)); got != "[base: north tags: a tags: b]" {
		t.Errorf("the attributes are %s", got)
	}
	tam, _ := e.Find(address.MustParse("tam@kelp.example"))
	if got := fmt.Sprint(e.Attributes(tam)); got != "[tags:  spaced ]" || e.Person(tam).Place.Line != 4 {
		t.Errorf("the attributes are %s", got)
	}
	desk := e.Group(0)
	if len(desk.Gate) != 2 || desk.Gate[0].Because != `No; not so, "x"; really.` || desk.Gate[1].Text != "admit anyone" ||
		desk.Gate[1].Place.Column != 119 || !desk.NoEcho || desk.PauseAfter != 3 || desk.NoWelcome || desk.Access[estate.Find].Text != "nobody" || len(desk.Owners) != 2 {
		t.Errorf("the group is %+v", desk)
	}
	entries := e.Entries(0)
	if len(entries) != 3 || entries[0].Member != tam || entries[1].Member != ines || entries[2].Member != tam || len(e.Rules(0)) != 2 {
		t.Errorf("the entries are %+v, the rules %+v", entries, e.Rules(0))
	}
	if x := entries[1]; x.Copy() != estate.CopyDigest || x.Since().String() != "2026-03-02" || !x.Paused() || x.Invitations() != estate.InvitationsEvery ||
		x.Place.Line != 2 || x.Place.Column != 1 {
		t.Errorf("the membership is %+v", x)
	}
	if x := e.Entries(1); len(x) != 2 || x[0].Copy() != estate.CopyNone || x[0].Paused() || x[1].Member != 0 || e.People() != 4 {
		t.Errorf("the memberships are %+v, %d people", x, e.People())
	}
}

func TestTableErrors(t *testing.T) {
	const yaml = top + "people: {table: people.csv}\ngroups: {table: groups.csv}\nmemberships: {table: m.csv}\n"
	for _, c := range []struct {
		name               string
		people, groups, ms string
		want               []string
	}{
		{"empty", "", "address\n", "group,address\n", []string{"people.csv:1:1: the table has no header row, expected one such as address,name,also"}},
		{"headers", "adress,name,name\n", "address,titel\n", "group,address,member\n", []string{
			`groups.csv:1:9: unknown column "titel" in a table of groups; did you mean "title"?`,
			`people.csv:1:1: the column "address" is missing; did you mean "adress"?`,
			`people.csv:1:13: the column "name" stands here for the second time`,
			`m.csv:1:15: unknown column "member" in a table of memberships, expected one of group, address,`,
		}},
		{"attributes as a column", "address,attributes\n", "address\n", "group,address\n", []string{`people.csv:1:9: a table has no column attributes`}},
		{"ragged rows and quotes", "address,name\na@kelp.example\nb@kelp.example,x,y\nc@kelp.example,x\"y\nd@kelp.example,\"x\"y\ne@kelp.example,ok\n", "address\n", "group,address\n", []string{
			"people.csv:2:1: the row has 1 cells, expected 2 as in the header",
			"people.csv:3:1: the row has 3 cells, expected 2 as in the header",
			"people.csv:4:17: a quote stands in a cell that is not in quotes",
			"people.csv:5:18: a cell in quotes does not end here",
		}},
		{"a quote that never ends", "address,name\na@kelp.example,\"x\nb,c\n", "address\n", "group,address\n", []string{"people.csv:3:5: a cell in quotes does not end here"}},
		{"cells", "address,name,mailbox\nines,é,opne\n\xff@kelp.example,x,\n,x,\n", "address,gate\ng@kelp.example,\"admit anyone; hold é outsdie\"\n", "group,address,since,paused,copy\n" +
			"g@kelp.example,ines@kelp.example,2026-02-30,yes,all\nx@kelp.example,b@kelp.example,,,\ng@kelp.example,b c@kelp.example,,,\n,b@kelp.example,,,\n", []string{
			`groups.csv:2:35: unknown word "é"`,
			`    hold é outsdie`,
			`         ^`,
			`people.csv:2:1: "ines" is no address: there is no @`,
			`people.csv:2:8: mailbox: unknown value "opne"; did you mean "open"?`,
			`people.csv:3:1: this is not UTF-8`,
			`people.csv:4:1: the person has no address`,
			`m.csv:2:34: since: there is no date "2026-02-30"`,
			`m.csv:2:45: paused: expected true or false, not "yes"`,
			`m.csv:2:49: copy: expected every, digest, replies or none, not "all"`,
			`m.csv:3:1: there is no group "x@kelp.example", expected the address of one`,
			`m.csv:4:16: "b c@kelp.example" is no address`,
			`m.csv:5:1: "" is no address: it is empty`,
		}},
		{"a long line", "address,name\n" + strings.Repeat("x", 5<<20) + "\n", "address\n", "group,address\n", []string{"people.csv:2:1: the line is longer than 4 MiB"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := write(t, map[string]string{"e.yaml": yaml, "people.csv": c.people, "groups.csv": c.groups, "m.csv": c.ms})
			e, err := Load(context.Background(), filepath.Join(dir, "e.yaml"))
			checkErrors(t, e, err, dir, c.want)
		})
	}
}

func TestSplitList(t *testing.T) {
	for _, c := range []struct {
		in   string
		want []string
	}{
		{"", []string{""}},
		{"a;b", []string{"a", "b"}},
		{`admit x because "a;b";c`, []string{`admit x because "a;b"`, "c"}},
		{`admit x because "a\";b";c`, []string{`admit x because "a\";b"`, "c"}},
		{`admit x because "a\\";c`, []string{`admit x because "a\\"`, "c"}},
		{`"a;b"@x.example;c@x.example`, []string{`"a;b"@x.example`, "c@x.example"}},
		{`where (a=5" pipe);b`, []string{`where (a=5" pipe)`, "b"}},
	} {
		var got []string
		for _, part := range splitList(c.in) {
			got = append(got, c.in[part.from:part.to])
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("splitList(%q) = %q, want %q", c.in, got, c.want)
		}
	}
}
