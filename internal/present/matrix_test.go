package present

import (
	"testing"

	"yorvet.example/yorvet/internal/core/resolve"
)

// Every column that is shown can be asked about, and stands in CSV: its head is one of the columns.
func TestColumnsOfTheMatrix(t *testing.T) {
	shown := map[string]bool{}
	for _, cell := range (&Matrix{}).cells(MatrixRow{}) {
		if _, err := findColumn(cell.head); err != nil {
			t.Errorf("%s is shown, and is no column: %v", cell.head, err)
		}
		shown[cell.head] = true
	}
	single := map[string]bool{"forged-known": true} // shown with another one
	for _, word := range resolve.OutcomeWords() {
		single[word] = true // shown as get and miss
	}
	for _, c := range columns {
		if !shown[c.name] && !single[c.name] {
			t.Errorf("%s is not shown", c.name)
		}
	}
}
