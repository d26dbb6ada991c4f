package table

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/sample"
)

// Rows become entries, whatever separates their cells.
func TestReader(t *testing.T) {
	for _, test := range []struct {
		in        string
		separator rune
		want      string
	}{
		{"\ufeffaddress,name\na@b.example,\"A, B\"\n", 0, "2 address=[a@b.example] name=[A, B]"},
		{"address;name\r\na@b.example;A, B\r\n", 0, "2 address=[a@b.example] name=[A, B]"},
		{"address\tname\n\na@b.example\tA \"x\" B\n", 0, `3 address=[a@b.example] name=[A "x" B]`},
		{"address\tname\na@b.example\tA;B,C\n", '\t', "2 address=[a@b.example] name=[A;B,C]"},
		{"address,,note\na@b.example,x,'=1\n", 0, "2 address=[a@b.example] note=[=1]"},
		{"address\n a@b.example \n", 0, "2 address=[a@b.example]"},
		{"address,name\na@b.example\n", 0, "x:2:1: the row has not 2 cells, as the header has"},
		{"address,\"name\na@b.example\n", 0, "x:2:13:"},
		{"a,A\n", 0, `x:1:2: the column "A" stands here for the second time`},
	} {
		var got strings.Builder
		r, err := NewReader(strings.NewReader(test.in), "x", Options{Separator: test.separator})
		if err == nil {
			err = r.Each(func(e *directory.Entry) {
				fmt.Fprint(&got, e.Line)
				for _, a := range e.Attributes {
					fmt.Fprint(&got, " ", a.Name, "=", a.Values)
				}
			})
		}
		if err != nil {
			got.WriteString(err.Error())
		}
		if !strings.HasPrefix(got.String(), test.want) {
			t.Errorf("%q:\n got %s\nwant %s", test.in, got.String(), test.want)
		}
	}
}

// What kind of table it is, its header tells.
func TestKinds(t *testing.T) {
	for header, want := range map[string]string{"address,name": "people", "Group,Address,x": "memberships", "address,title,Members": "groups", "address,managed-in": "groups", "group,name": "people"} {
		r, err := NewReader(strings.NewReader(header+"\n"), "x", Options{})
		if err != nil {
			t.Fatal(err)
		}
		got := "people"
		if r.IsMemberships() {
			got = "memberships"
		} else if r.IsGroups() {
			got = "groups"
		}
		if got != want {
			t.Errorf("%s: %s, want %s", header, got, want)
		}
	}
}

// Memberships join the groups that are there, with all that they say.
func TestMemberships(t *testing.T) {
	text := "group,address,copy,since,invitations,paused,role\n" +
		"G@k.example,a@k.example,digest,2026-03-02,none,true,\n" +
		"g@k.example,b@k.example,,,,,owner\n" +
		"g@k.example,c@k.example,,,,,moderator\n" +
		"g@k.example,everyone,,,,,\n" +
		"g@k.example,where (base=x),none,,,,member\n" +
		"h@k.example,d@k.example,,,,,\n" +
		"nowhere,d@k.example,,,,,\n" +
		"g@k.example,e@k.example,loud,,,,\n" +
		"g@k.example,e@k.example,,yesterday,,,\n" +
		"g@k.example,e@k.example,,,,,captain\n" +
		"g@k.example,everyone,,,,,owner\n" +
		"g@k.example,where (base=x),,,,,moderator\n"
	d := &directory.Directory{File: "x", Groups: []directory.Group{{Address: "g@k.example"}}}
	r, err := NewReader(strings.NewReader(text), "x", Options{})
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Memberships(d); err != nil {
		t.Fatal(err)
	}
	var got strings.Builder
	for _, g := range d.Groups {
		fmt.Fprintln(&got, g.Address, g.Owners, g.Mods)
		for _, m := range g.Members {
			fmt.Fprintln(&got, " ", m.Address, m.Where, m.Everyone, m.Copy, m.Since, m.Invitations, m.Paused)
		}
	}
	for _, remark := range d.Remarks {
		fmt.Fprintln(&got, remark)
	}
	want := `g@k.example [b@k.example] [c@k.example]
  a@k.example  false digest 2026-03-02 none true
    true    false
   (base=x) false none   false
h@k.example [] []
  d@k.example  false    false
x:8: "nowhere" is no address: there is no @
x:9: copy: expected every, digest, replies or none, not "loud"
x:10: since: expected a date such as 2026-03-02, not "yesterday"
x:11: "captain" is no role, expected member, owner or moderator
x:12: address is "everyone", expected the address of a person or group, as role is owner
x:13: address is "where (base=x)", expected the address of a person or group, as role is moderator
`
	if got.String() != want {
		t.Errorf("got\n%s\nwant\n%s", got.String(), want)
	}
}

// Text in other encodings is read as it is said, and bytes that are none are an error with
// its place and what the text may be.
func TestEncodings(t *testing.T) {
	utf16 := func(text string, big bool) string {
		var b strings.Builder
		b.WriteString(map[bool]string{true: "\xfe\xff", false: "\xff\xfe"}[big])
		for _, r := range text {
			if big {
				b.Write([]byte{byte(r >> 8), byte(r)})
			} else {
				b.Write([]byte{byte(r), byte(r >> 8)})
			}
		}
		return b.String()
	}
	const plain = "name,note\nZoë,x\n"
	for _, test := range []struct{ in, encoding, want string }{
		{plain, "", "2 name=[Zoë] note=[x]"},
		{"\ufeff" + plain, "", "2 name=[Zoë] note=[x]"},
		{utf16(plain, true), "", "2 name=[Zoë] note=[x]"},
		{utf16(plain, false), "", "2 name=[Zoë] note=[x]"},
		{"name,note\nZo\xeb,x\n", "windows-1252", "2 name=[Zoë] note=[x]"},
		{"name,note\nZo\xeb,x\n", "iso-8859-15", "2 name=[Zoë] note=[x]"},
		{"name,note\nZo\xeb,x\n", "", `x:2:3: this is no UTF-8; it may be windows-1252: say "encoding: windows-1252" in the map`},
		{"name,note\nZoë,\xff\n", "", "x:2:5: a byte here is no UTF-8, though others before it are"},
		{"name,note\nx,\x81\n", "windows-1252", "x:2:3: there are bytes here that are no windows-1252"},
		{plain, "klingon", `x: the encoding "klingon" is not known`},
		{"sep=|\nname|note\na;b|c\n", "", "3 name=[a;b] note=[c]"},
		{"Report of groups\n\nname,note,more\na,b,c\n", "", "4 name=[a] note=[b] more=[c]"},
		{"Report;;;;\nMade on;2026-11-26;;;\nname;note;more;else;last\na;b;c;;e\n", "", "4 name=[a] note=[b] more=[c] last=[e]"},
		{"name,note,more\na,b\n", "", "x:2:1: the row has not 3 cells, as the header has"},
		{"name,note\na,b\nc,d\ne,\"f\n", "", "2 name=[a] note=[b]3 name=[c] note=[d]x:4:"},
	} {
		var got strings.Builder
		r, err := NewReader(strings.NewReader(test.in), "x", Options{Encoding: test.encoding})
		if err == nil {
			err = r.Each(func(e *directory.Entry) {
				fmt.Fprint(&got, e.Line)
				for _, a := range e.Attributes {
					fmt.Fprint(&got, " ", a.Name, "=", a.Values)
				}
			})
		}
		if err != nil {
			got.WriteString(err.Error())
		}
		if !strings.HasPrefix(got.String(), test.want) {
			t.Errorf("%q as %q:\n got %s\nwant %s", test.in, test.encoding, got.String(), test.want)
		}
	}
}

// FuzzWorkbook: no file makes the reader panic or read without end.
func FuzzWorkbook(f *testing.F) {
	book := excelize.NewFile()
	for i, row := range [][]any{{"address", "since", "size"}, {"a@k.example", time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC), 7}} {
		if err := book.SetSheetRow("Sheet1", fmt.Sprint("A", i+1), &row); err != nil {
			f.Fatal(err)
		}
	}
	b, err := book.WriteToBuffer()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, closed, err := OpenWorkbook(bytes.NewReader(data), "x", Options{})
		if err != nil {
			return
		}
		_ = r.Each(func(*directory.Entry) {})
		_ = closed()
	})
}

// Days of a workbook are days, whatever they look like there.
func TestWorkbook(t *testing.T) {
	book := excelize.NewFile()
	style, err := book.NewStyle(&excelize.Style{NumFmt: 14})
	if err != nil {
		t.Fatal(err)
	}
	rows := [][]any{{"Groups"}, {}, {"address", "since", "size", "open"}, {"a@k.example", time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC), 7, true}}
	for i, row := range rows {
		if err := book.SetSheetRow("Sheet1", fmt.Sprint("A", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	if err := book.SetCellStyle("Sheet1", "B4", "B4", style); err != nil {
		t.Fatal(err)
	}
	b, err := book.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	r, closed, err := OpenWorkbook(bytes.NewReader(b.Bytes()), "x", Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer closed()
	var got strings.Builder
	if err := r.Each(func(e *directory.Entry) { fmt.Fprint(&got, e.Line, e.Attributes) }); err != nil {
		t.Fatal(err)
	}
	if want := "4 [{address [a@k.example] } {since [2026-03-02] } {size [7] } {open [TRUE] }]"; got.String() != want {
		t.Errorf("%s, want %s", got.String(), want)
	}
	if _, _, err := OpenWorkbook(bytes.NewReader(b.Bytes()), "x", Options{Sheet: "Other"}); err == nil || !strings.Contains(err.Error(), `no sheet "Other", but Sheet1`) {
		t.Errorf("another sheet: %v", err)
	}
	if _, _, err := OpenWorkbook(strings.NewReader("address,name\n"), "x", Options{}); err == nil || !strings.Contains(err.Error(), "this is no workbook") {
		t.Errorf("a text: %v", err)
	}
}

// Merged cells give their value to each of their rows, and days with dots are as a workbook hands
// them out.
// A formula that nobody has worked out is no empty cell; one that came to nothing is.
func TestFormulaWithoutResult(t *testing.T) {
	book := excelize.NewFile()
	for cell, value := range map[string]any{"A1": "group", "B1": "owner", "A2": "a@k.example", "B2": "o@k.example", "A3": "b@k.example"} {
		if err := book.SetCellValue("Sheet1", cell, value); err != nil {
			t.Fatal(err)
		}
	}
	if err := book.SetCellFormula("Sheet1", "B3", `B2&""`); err != nil {
		t.Fatal(err)
	}
	read := func(from, to string) error {
		b, err := book.WriteToBuffer()
		if err != nil {
			t.Fatal(err)
		}
		r, closed, err := OpenWorkbook(repacked(t, b.Bytes(), from, to), "x.xlsx", Options{})
		if err != nil {
			t.Fatal(err)
		}
		defer closed()
		return r.Each(func(*directory.Entry) {})
	}
	if err := read(`<c r="B3" t="str">`, `<c r="B3">`); err == nil || !strings.HasPrefix(err.Error(), "x.xlsx:3:2: the cell has a formula") {
		t.Errorf("a formula without a result: %v", err)
	}
	if err := read("</f>", "</f><v></v>"); err != nil {
		t.Errorf("a formula that came to an empty text: %v", err)
	}
}

// repacked is a workbook with a text of its sheets replaced.
func repacked(t *testing.T, workbook []byte, from, to string) *bytes.Buffer {
	t.Helper()
	in, err := zip.NewReader(bytes.NewReader(workbook), int64(len(workbook)))
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	out, replaced := zip.NewWriter(&b), false
	for _, f := range in.File {
		part, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(part)
		w, err2 := out.Create(f.Name)
		if strings.Contains(f.Name, "sheet1.xml") {
			replaced = bytes.Contains(data, []byte(from))
			data = bytes.ReplaceAll(data, []byte(from), []byte(to))
		}
		if _, err3 := w.Write(data); errors.Join(err, err2, err3) != nil {
			t.Fatal(err, err2, err3)
		}
	}
	if err := out.Close(); err != nil || !replaced {
		t.Fatalf("%q is replaced: %t, %v", from, replaced, err)
	}
	return &b
}

func TestMergedCells(t *testing.T) {
	book := excelize.NewFile()
	for i, row := range [][]any{{"group", "owner", "member"}, {"a@k.example", "o@k.example", "x@k.example"}, {"", "", "y@k.example"}, {"b@k.example", "", "z@k.example"}} {
		if err := book.SetSheetRow("Sheet1", fmt.Sprint("A", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
	for _, cells := range [][2]string{{"A2", "A3"}, {"B2", "B4"}} {
		if err := book.MergeCell("Sheet1", cells[0], cells[1]); err != nil {
			t.Fatal(err)
		}
	}
	b, err := book.WriteToBuffer()
	if err != nil {
		t.Fatal(err)
	}
	r, closed, err := OpenWorkbook(b, "x", Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer closed()
	var got []string
	if err := r.Each(func(e *directory.Entry) {
		got = append(got, fmt.Sprint(e.First(directory.Names{"group"}), e.First(directory.Names{"owner"}), e.First(directory.Names{"member"})))
	}); err != nil {
		t.Fatal(err)
	}
	if want := "[a@k.exampleo@k.examplex@k.example a@k.exampleo@k.exampley@k.example b@k.exampleo@k.examplez@k.example]"; fmt.Sprint(got) != want {
		t.Errorf("%v, want %s", got, want)
	}
	for cell, want := range map[string]string{"15.11.2026": "2026-11-15", "1.2.2026": "2026-02-01", "31.2.2026": "31.2.2026", "3/4/2026": "3/4/2026", "v1.2.2026": "v1.2.2026", "1.2.3": "1.2.3"} {
		if got := plainDay(cell); got != want {
			t.Errorf("%s is %s, want %s", cell, got, want)
		}
	}
}

// A heading that a spreadsheet would take for a formula is none, and comes back as it was.
func TestNeutralHeadings(t *testing.T) {
	e := sample.Load(t, "yorvet: 1\ndomains: [k.example]\npeople:\n  - {address: ann@k.example, attributes: {'=HYPERLINK(1)': a, \"\uff1dx\": b, post: '@c'}}\n").Estate()
	data := Write(e)["people.csv"]
	head, _, _ := strings.Cut(string(data), "\n")
	if !strings.Contains(head, ",'=HYPERLINK(1)") || !strings.Contains(head, ",'\uff1dx") {
		t.Errorf("the headings are %q", head)
	}
	r, err := NewReader(bytes.NewReader(data), "people.csv", Options{})
	if err != nil || !slices.Contains(r.Header, "=HYPERLINK(1)") || !slices.Contains(r.Header, "\uff1dx") {
		t.Errorf("they are read as %v, %v", r.Header, err)
	}
}
