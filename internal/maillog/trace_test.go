package maillog

import (
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"yorvet.example/yorvet/internal/core/trail"
)

const traceMap = `yorvet-trace: 1
time-zone: Europe/Oslo
time: {from: "Date and time", format: DD.MM.YYYY hh:mm:ss}
message: Message ID
from: Sender
to: Recipients
detail: Remark
size: Bytes
event:
  from: What
  as: {Received: arrived, Delivered: delivered, Failed: bounced, Spread: expanded, Looked at: done}
`

const trace = "Date and time;Message ID;Sender;Recipients;What;Remark;Bytes\n" +
	"25.11.2026 21:00:05;<t@x.example>;olga@out.example;bo@corp.example;Failed;550 5.1.1 gone;\n" +
	"25.11.2026 21:00:04;<t@x.example>;olga@out.example;ada@corp.example, cy@corp.example;Delivered;;\n" +
	"25.11.2026 21:00:01;<t@x.example>;olga@out.example;team@corp.example;Received;;1234\n" +
	"25.11.2026 21:00:02;<t@x.example>;olga@out.example;team@corp.example;Spread;;\n" +
	"25.11.2026 21:00:06;<t@x.example>;olga@out.example;;Blessed;;\n" +
	"25-11-2026;<u@x.example>;;a@corp.example;Delivered;;\n"

const traced = "t@x.example from olga@out.example whole true: ada@corp.example() delivered; cy@corp.example() delivered; bo@corp.example() bounced;"

// A trace is told as a log is, whatever the order of its rows.
func TestTrace(t *testing.T) {
	m, err := ParseMap("trace.map", []byte(traceMap))
	if err != nil {
		t.Fatal(err)
	}
	with := options
	with.Map = m
	for name, text := range map[string]string{
		"trace.csv": trace, "trace.csv.gz": gzipped(trace), "trace.json": asJSON(trace), "trace.jsonl": asLines(trace),
		"trace.xlsx": asWorkbook(t, trace),
	} {
		got, counts := follow(t, with, file(t, name, text))
		if want := []string{traced}; !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
		if counts.Unknown != 2 || counts.Events != 4 || counts.Lines != 6 {
			t.Errorf("%s: %+v", name, counts)
		}
		if text := counts.Samples[0].Text; text != `What is "Blessed", which the map does not know` {
			t.Errorf("%s: %s", name, text)
		}
	}
	var first int64
	if _, err := Read(t.Context(), []string{file(t, "x.csv", trace)}, nil, with, func(e *trail.Event) {
		if first == 0 {
			first = e.Time
		}
	}); err != nil || trail.At(first, now.Location()).Format("15:04:05") != "20:00:01" {
		t.Error(err, trail.At(first, now.Location()))
	}
}

// rowsOf returns the rows of a trace as objects.
func rowsOf(text string) (rows []string) {
	var names []string
	for line := range strings.Lines(text) {
		cells := strings.Split(strings.TrimSpace(line), ";")
		if names == nil {
			names = cells
			continue
		}
		var fields []string
		for i, cell := range cells {
			fields = append(fields, `"`+names[i]+`": "`+cell+`"`)
		}
		rows = append(rows, "{"+strings.Join(fields, ", ")+"}")
	}
	return rows
}

func asJSON(text string) string { return "[" + strings.Join(rowsOf(text), ",\n") + "]" }

func asLines(text string) string { return strings.Join(rowsOf(text), "\n") + "\n" }

func asWorkbook(t *testing.T, text string) string {
	t.Helper()
	f := excelize.NewFile()
	row := 0
	for line := range strings.Lines(text) {
		row++
		for column, cell := range strings.Split(strings.TrimSpace(line), ";") {
			at, _ := excelize.CoordinatesToCellName(column+1, row)
			if err := f.SetCellStr("Sheet1", at, cell); err != nil {
				t.Fatal(err)
			}
		}
	}
	var b strings.Builder
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// What is wrong with a map is told with its place.
func TestWrongMaps(t *testing.T) {
	for text, want := range map[string]string{
		"time: {from: x}\nevent: {from: y}\nto: z\n":                                           `m:1:1: the format version is missing`,
		"yorvet-trace: 1\nevent: {from: y}\nto: z\n":                                           `m:1:1: time is missing`,
		"yorvet-trace: 1\ntime: {from: x}\nevent: {from: y}\n":                                 `m:1:1: message or to is missing`,
		"yorvet-trace: 1\ntime: {from: x}\nto: z\n":                                            `m:1:1: event is missing`,
		"yorvet-trace: 1\ntime: {from: x}\nto: z\nevent:\n  from: y\n  as: {A: deliverd}\n":    `m:6:11: event is "deliverd", expected one of`,
		"yorvet-trace: 1\ntime: {from: x}\nto: z\nevent: delivered\ntime-zone: Atlantis/Sea\n": `m:5:1: no time zone "Atlantis/Sea"`,
		"yorvet-trace: 1\ntimes: {from: x}\n":                                                  `m:2:1: `,
	} {
		if _, err := ParseMap("m", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
}

func FuzzMap(f *testing.F) {
	f.Add(traceMap, trace)
	f.Add("yorvet-trace: 1\ntime: {from: t}\nevent: delivered\nto: [a, b]\nrecords: x.y\n", `{"x":{"y":[{"t":1795640092,"a":"q"}]}}`)
	f.Fuzz(func(t *testing.T, text, rows string) {
		m, err := ParseMap("m", []byte(text))
		if err != nil {
			return
		}
		with, n := options, 0
		with.Map = m
		counts, err := Read(t.Context(), []string{"-"}, strings.NewReader(rows), with, func(*trail.Event) { n++ })
		if err == nil && n < counts.Events {
			t.Errorf("%d events of %d rows that say something", n, counts.Events)
		}
	})
}

// A map that is not there, and a trace that cannot be read, are told.
func TestUnreadableTraces(t *testing.T) {
	if _, err := ReadMap(t.Context(), "none.map"); err == nil {
		t.Error("a map that is not there was read")
	}
	m, err := ParseMap("m", []byte(traceMap))
	if err != nil {
		t.Fatal(err)
	}
	with := options
	with.Map = m
	for name, text := range map[string]string{"cut.csv.gz": gzipped(trace)[:60], "broken.json": `[{"What": "Received"`, "none.xlsx": "PK\x03\x04"} {
		if _, err := Read(t.Context(), []string{file(t, name, text)}, nil, with, func(*trail.Event) {}); err == nil {
			t.Errorf("%s was read", name)
		}
	}
}
