package directory

import (
	"strings"
	"testing"
)

// Addresses in a cell are apart by semicolons, line breaks, and commas between addresses.
func TestAddressItems(t *testing.T) {
	c := NewCollector("x", "x", &Map{}, "", nil)
	for cell, want := range map[string]string{
		"a@k.example;b@k.example": "a@k.example|b@k.example", "a@k.example\nb@k.example\r\nc@k.example": "a@k.example|b@k.example|c@k.example",
		"a@k.example, b@k.example": "a@k.example|b@k.example", "Maro, Ines <ines@k.example>": "Maro, Ines <ines@k.example>", "": "",
		"a@k.example;\n b@k.example,c@k.example": "a@k.example|b@k.example|c@k.example",
	} {
		if got := strings.Join(c.addressItems(cell), "|"); got != want {
			t.Errorf("%q: %s, want %s", cell, got, want)
		}
	}
}
