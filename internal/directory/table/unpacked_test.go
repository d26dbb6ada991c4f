package table

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
)

// packed is a workbook of one sheet, of which the rest of an XML text is given from its rows on, and of
// texts that its cells share.
func packed(t testing.TB, sheet, shared io.Reader) []byte {
	t.Helper()
	const (
		head  = `<?xml version="1.0"?>`
		main  = ` xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"`
		rel   = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
		kind  = "application/vnd.openxmlformats-officedocument.spreadsheetml."
		links = `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">`
	)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, part := range []struct {
		name string
		text io.Reader
	}{
		{"[Content_Types].xml", strings.NewReader(head + `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>` +
			`<Override PartName="/xl/workbook.xml" ContentType="` + kind + `sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="` + kind + `worksheet+xml"/>` +
			`<Override PartName="/xl/sharedStrings.xml" ContentType="` + kind + `sharedStrings+xml"/></Types>`)},
		{"_rels/.rels", strings.NewReader(head + links + `<Relationship Id="rId1" Type="` + rel + `/officeDocument" Target="xl/workbook.xml"/></Relationships>`)},
		{"xl/workbook.xml", strings.NewReader(head + `<workbook` + main + ` xmlns:r="` + rel + `"><sheets><sheet name="S" sheetId="1" r:id="rId1"/></sheets></workbook>`)},
		{"xl/_rels/workbook.xml.rels", strings.NewReader(head + links + `<Relationship Id="rId1" Type="` + rel + `/worksheet" Target="worksheets/sheet1.xml"/>` +
			`<Relationship Id="rId2" Type="` + rel + `/sharedStrings" Target="sharedStrings.xml"/></Relationships>`)},
		{"xl/sharedStrings.xml", io.MultiReader(strings.NewReader(head+`<sst`+main+`>`), shared, strings.NewReader(`</sst>`))},
		{"xl/worksheets/sheet1.xml", io.MultiReader(strings.NewReader(head+`<worksheet`+main+`><sheetData>`), sheet, strings.NewReader(`</worksheet>`))},
	} {
		w, err := z.Create(part.name)
		if err == nil {
			_, err = io.Copy(w, part.text)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// readAll reads a workbook to its end and returns its rows, or why it ends before.
func readAll(data []byte) (rows int, err error) {
	r, closed, err := OpenWorkbook(bytes.NewReader(data), "x.xlsx", Options{})
	if err != nil {
		return 0, err
	}
	defer closed()
	for {
		if _, err := r.next(); err != nil {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return rows, err
		}
		rows++
	}
}

const firstRow = `<row r="1"><c r="A1" t="inlineStr"><is><t>email</t></is></c></row>`

// A small workbook that comes to a large one is an error before it takes time or memory.
func TestHostileWorkbooks(t *testing.T) {
	repeated := func(n int, text string) string { return strings.Repeat(text, n) }
	numbered := func(n int, format string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i+2)
		}
		return b.String()
	}
	columns := ""
	for c := 'B'; c <= 'Z'; c++ {
		columns += fmt.Sprintf(`<mergeCell ref="%c1:%[1]c1048576"/>`, c)
	}
	for about, test := range map[string]struct{ sheet, shared, want string }{
		"cells in the last column":        {firstRow + numbered(30_000, `<row r="%d"><c r="XFD%[1]d"><v>1</v></c></row>`) + "</sheetData>", "", "far more in its cells"},
		"a text that is named again":      {firstRow + numbered(30_000, `<row r="%d"><c r="A%[1]d" t="s"><v>0</v></c></row>`) + "</sheetData>", "<si><t>" + repeated(30_000, "x") + "</t></si>", "far more in its cells"},
		"blanks":                          {firstRow + repeated(80<<20, " ") + "</sheetData>", "", "far larger when it is unpacked"},
		"cells of nothing":                {firstRow + `<row r="2">` + repeated(1_200_000, "<c/>") + "</row></sheetData>", "", "far more cells"},
		"texts of nothing":                {firstRow + "</sheetData>", repeated(1_200_000, "<si/>"), "far more cells"},
		"merged cells":                    {firstRow + "</sheetData><mergeCells>" + numbered(30_000, `<mergeCell ref="A%d:A9"/>`) + "</mergeCells>", "", "more than 10000 merged cells"},
		"merged cells that reach far":     {firstRow + "</sheetData><mergeCells>" + columns + "</mergeCells>", "", "far more rows"},
		"formulas that nobody worked out": {firstRow + `<row r="2"><c r="A2"><f>1+1</f></c></row></sheetData>`, "", "what it comes to"},
	} {
		if rows, err := readAll(packed(t, strings.NewReader(test.sheet), strings.NewReader(test.shared))); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %d rows, %v, want %s", about, rows, err, test.want)
		}
	}
	if rows, err := readAll(packed(t, strings.NewReader(firstRow+numbered(20_000, `<row r="%d"><c r="A%[1]d" t="s"><v>0</v></c></row>`)+"</sheetData>"), strings.NewReader("<si><t>ann@k.example</t></si>"))); err != nil || rows != 20_000 {
		t.Errorf("a plain sheet has %d rows, %v", rows, err)
	}
}

// Whatever a part holds: it is read to its end, or is an error.
func FuzzUnpack(f *testing.F) {
	f.Add([]byte(`<x:c r="A1"><x:f>1</x:f></x:c><row/><si><mergeCell ref="A1:B2"/>`))
	f.Add([]byte(`<<<c<f<v`))
	f.Fuzz(func(t *testing.T, sheet []byte) {
		p, err := unpack(packed(t, bytes.NewReader(sheet), strings.NewReader("")))
		if err != nil || p.merged > bytes.Count(sheet, []byte("mergeCell")) || p.bare && !bytes.Contains(sheet, []byte("f")) {
			t.Errorf("%+v, %v", p, err)
		}
		_, _ = readAll(packed(t, bytes.NewReader(sheet), strings.NewReader("")))
	})
}
