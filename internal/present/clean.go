package present

import (
	"bytes"
	"encoding/json"
	"io"

	"yorvet.example/yorvet/internal/harmless"
)

// Clean returns s with every character that could control a terminal, or the
// direction of its text, written as an escape such as \x1b.
func Clean(s string) string {
	return harmless.Text(s)
}

// cells makes the cells of a row of a table (RFC 4180) harmless, and returns it: none steers a
// terminal, and no spreadsheet takes one for a formula.
func cells(row []string) []string {
	for i, cell := range row {
		if cell = Clean(cell); harmless.IsFormula(cell) {
			cell = "'" + cell
		}
		row[i] = cell
	}
	return row
}

// encode writes a value as JSON in which no character that steers stands as itself. Its lines but for
// the first begin with a prefix.
func encode(w io.Writer, value any, prefix, indent string) error {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent(prefix, indent)
	if err := encoder.Encode(value); err != nil {
		return err
	}
	_, err := w.Write(harmless.JSON(b.Bytes()))
	return err
}
