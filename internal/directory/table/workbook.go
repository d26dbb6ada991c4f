package table

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"
)

// workbook are the rows of a sheet of a workbook.
type workbook struct {
	name   string
	book   *excelize.File
	sheet  string
	rows   *excelize.Rows
	line   int
	cells  int // of a row that have a heading
	merged []merged

	parts   *parts
	columns int // that were read so far
	text    int // bytes in them
}

// merged are cells of a sheet that are one: each row of it has the value.
type merged struct {
	left, top, right, bottom int // from 1
	value                    string
}

// mergedCells returns the merged cells of a sheet, by their first row, over most rows together at most.
func mergedCells(book *excelize.File, sheet string, most int) (list []merged, err error) {
	cells, err := book.GetMergeCells(sheet)
	if err != nil {
		return nil, err
	}
	for _, cell := range cells {
		one := merged{value: cell.GetCellValue()}
		if one.left, one.top, err = excelize.CellNameToCoordinates(cell.GetStartAxis()); err != nil {
			return nil, err
		}
		if one.right, one.bottom, err = excelize.CellNameToCoordinates(cell.GetEndAxis()); err != nil {
			return nil, err
		}
		if most -= one.bottom - one.top; most < 0 {
			return nil, errors.New("its merged cells reach over far more rows than its size lets expect")
		}
		list = append(list, one)
	}
	slices.SortStableFunc(list, func(a, b merged) int { return a.top - b.top })
	return list, nil
}

// fill puts the values of merged cells into a row that they reach down to.
func (s *workbook) fill(cells []string) []string {
	s.merged = slices.DeleteFunc(s.merged, func(one merged) bool { return s.line > one.bottom })
	for _, one := range s.merged {
		if s.line < one.top {
			break // and so are the others
		}
		if one.value == "" || s.line == one.top {
			continue
		}
		for len(cells) < one.left {
			cells = append(cells, "")
		}
		if cells[one.left-1] == "" {
			cells[one.left-1] = one.value
		}
	}
	return cells
}

// OpenWorkbook reads the header row of a sheet of a workbook (ECMA-376, .xlsx). The Reader
// has to be read to its end or closed by the function that is returned. Formulas count as
// what they came to, and days are as YYYY-MM-DD.
func OpenWorkbook(r io.Reader, name string, options Options) (t *Reader, closed func() error, err error) {
	defer func() { // a library that is given anything
		if recover() != nil {
			t, closed, err = nil, nil, fmt.Errorf("%s: this is no workbook (.xlsx)", name)
		}
	}()
	data, err := io.ReadAll(io.LimitReader(r, mostPacked+1))
	if err != nil {
		return nil, nil, err
	}
	if len(data) > mostPacked {
		return nil, nil, fmt.Errorf("%s: the workbook is larger than %d MiB", name, mostPacked>>20)
	}
	unpacked, err := unpack(data)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: this is no workbook (.xlsx) that is read: %w", name, err)
	}
	book, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{
		UnzipSizeLimit:   leastUnpacked + unpackedRatio*int64(len(data)),
		ShortDatePattern: "yyyy-mm-dd",
		LongDatePattern:  "yyyy-mm-dd",
	})
	if err != nil {
		return nil, nil, fmt.Errorf("%s: this is no workbook (.xlsx): %s", name, plainError(err))
	}
	defer func() {
		if err != nil {
			_ = book.Close()
		}
	}()
	sheets := book.GetSheetList()
	called := options.Sheet
	switch {
	case called == "" && len(sheets) > 0:
		called = sheets[0]
	case !slices.Contains(sheets, called):
		return nil, nil, fmt.Errorf("%s: the workbook has no sheet %q, but %s", name, called, strings.Join(sheets, ", "))
	}
	rows, err := book.Rows(called)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %s", name, plainError(err))
	}
	var joined []merged
	if unpacked.merged > 0 {
		if joined, err = mergedCells(book, called, leastColumns+columnsRatio*len(data)); err != nil {
			return nil, nil, fmt.Errorf("%s: %s", name, plainError(err))
		}
	}
	table := &workbook{name: name, book: book, sheet: called, rows: rows, cells: mostAhead, merged: joined, parts: unpacked}
	t, err = newReader(table, name, options)
	if err != nil && len(sheets) > 1 {
		err = fmt.Errorf("%w; this is sheet %q, of %s", err, called, strings.Join(sheets, ", "))
	}
	if err != nil {
		return nil, nil, err
	}
	t.Sheets = sheets
	return t, book.Close, nil
}

// plainError is an error as one line.
func plainError(err error) string { return strings.Join(strings.Fields(err.Error()), " ") }

func (s *workbook) next() (next row, err error) {
	defer func() {
		if recover() != nil {
			next, err = row{}, fmt.Errorf("%s:%d:1: the workbook is damaged here", s.name, s.line)
		}
	}()
	for s.rows.Next() {
		s.line++
		cells, err := s.rows.Columns()
		if err != nil {
			return row{}, fmt.Errorf("%s:%d:1: %s", s.name, s.line, plainError(err))
		}
		s.columns += len(cells)
		for i, cell := range cells {
			if s.text += len(cell); len(cell) > mostRow {
				return row{}, fmt.Errorf("%s:%d:%d: the cell is longer than %d MiB", s.name, s.line, i+1, mostRow>>20)
			}
		}
		if s.columns > leastColumns+columnsRatio*s.parts.size || s.text > leastText+textRatio*s.parts.size {
			return row{}, fmt.Errorf("%s:%d:1: the sheet has far more in its cells than its size lets expect", s.name, s.line)
		}
		if s.parts.bare {
			if err := s.computed(cells); err != nil {
				return row{}, err
			}
		}
		if filled(cells) > 0 { // a row of merged cells alone is none
			return row{s.fill(cells), s.line}, nil
		}
	}
	if err := s.rows.Error(); err != nil {
		return row{}, fmt.Errorf("%s:%d:1: %s", s.name, s.line+1, plainError(err))
	}
	return row{}, io.EOF
}

func (s *workbook) width(cells int) { s.cells = min(cells, mostComputed) }

// In how many columns formulas are looked for that nobody has worked out: below a heading, and
// before it is found.
const mostComputed, mostAhead = 1000, 100

// computed returns an error if a cell has a formula and not what it came to, as in a workbook
// that a program has written and no spreadsheet opened: it would look like an empty one.
func (s *workbook) computed(cells []string) error {
	for i := range s.cells {
		if i < len(cells) && cells[i] != "" {
			continue
		}
		cell, err := excelize.CoordinatesToCellName(i+1, s.line)
		if err != nil {
			return err
		}
		formula, err := s.book.GetCellFormula(s.sheet, cell)
		if err != nil || formula == "" {
			continue
		}
		// One that came to an empty text says so.
		if kind, err := s.book.GetCellType(s.sheet, cell); err == nil && kind == excelize.CellTypeUnset {
			return fmt.Errorf("%s:%d:%d: the cell has a formula, and the workbook does not say what it comes to; "+
				"open it in a spreadsheet program, which works it out, and save it", s.name, s.line, i+1)
		}
	}
	return nil
}
