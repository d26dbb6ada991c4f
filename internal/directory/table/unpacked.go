package table

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
)

// A workbook is a ZIP file of XML (ECMA-376) and may be far larger than it looks. These are the bounds of
// what is unpacked of one: some for any, and more in proportion to its size.
const (
	mostPacked = 256 << 20 // bytes of the file
	mostParts  = 10_000

	leastUnpacked, unpackedRatio = 32 << 20, 60  // bytes, and times the size
	leastMarks, marksRatio       = 1_000_000, 4  // begins and ends of elements
	leastCells, cellsRatio       = 1_000_000, 1  // cells and texts that they share
	leastColumns, columnsRatio   = 5_000_000, 20 // cells with the empty ones before them
	leastText, textRatio         = 64 << 20, 20  // bytes in cells
	mostBesideMarks              = 500_000       // in parts without cells: styles, relations and the like
	mostMerged                   = 10_000        // cells that are several
	mostElementName              = 64
)

// parts are the parts of an unpacked workbook.
type parts struct {
	size   int  // of the file
	merged int  // cells that are several
	bare   bool // there are formulas that nobody has worked out
}

// unpack reads a workbook once without keeping any of it, and returns an error if it is too large.
func unpack(data []byte) (*parts, error) {
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, errors.New("it is no ZIP file")
	}
	if len(archive.File) > mostParts {
		return nil, fmt.Errorf("it has more than %d parts", mostParts)
	}
	p := &parts{size: len(data)}
	left := &amounts{int64(leastUnpacked + unpackedRatio*len(data)), leastMarks + marksRatio*len(data), leastCells + cellsRatio*len(data)}
	for _, file := range archive.File {
		if err := p.scan(file, left); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// amounts are how much more there may be.
type amounts struct {
	bytes        int64
	marks, cells int
}

// scan goes through one part.
func (p *parts) scan(file *zip.File, left *amounts) error {
	unpacked, err := file.Open()
	if err != nil {
		return fmt.Errorf("%s cannot be unpacked", file.Name)
	}
	defer unpacked.Close()
	name := strings.ToLower(file.Name)
	hasCells := strings.Contains(name, "worksheets/") || strings.Contains(name, "sharedstrings")
	counted := &io.LimitedReader{R: unpacked, N: left.bytes + 1}
	in := bufio.NewReaderSize(counted, 1<<16)
	beside := mostBesideMarks
	formula, value := false, false
	for {
		for { // up to the next element
			if _, err = in.ReadSlice('<'); !errors.Is(err, bufio.ErrBufferFull) {
				break
			}
		}
		if err != nil {
			break
		}
		start, _ := in.Peek(mostElementName)
		end := bytes.IndexAny(start, " />\t\r\n")
		if left.marks--; end < 0 {
			end = len(start)
		}
		if beside--; !hasCells && beside < 0 {
			return fmt.Errorf("%s is larger than any that is needed", file.Name)
		}
		element := start[:end]
		if at := bytes.LastIndexByte(element, ':'); at >= 0 {
			element = element[at+1:]
		}
		switch string(element) {
		case "c", "row", "si":
			p.bare, formula, value = p.bare || formula && !value, false, false
			left.cells--
		case "f":
			formula = true
		case "v", "is":
			value = true
		case "mergeCell":
			p.merged++
		}
		if p.merged > mostMerged {
			return fmt.Errorf("it has more than %d merged cells", mostMerged)
		}
		if left.marks < 0 || left.cells < 0 {
			return errors.New("it has far more cells than its size lets expect")
		}
	}
	p.bare = p.bare || formula && !value
	if !errors.Is(err, io.EOF) {
		return fmt.Errorf("%s cannot be unpacked", file.Name)
	}
	if left.bytes = counted.N - 1; left.bytes < 0 {
		return errors.New("it is far larger when it is unpacked than its size lets expect")
	}
	return nil
}
