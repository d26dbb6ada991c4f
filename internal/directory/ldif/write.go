package ldif

import (
	"bufio"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"
)

// width is how long a line gets before it continues in the next.
const width = 76

// A Writer writes records.
type Writer struct {
	w   *bufio.Writer
	err error // the first thing that cannot be written
}

// NewWriter returns a Writer and writes the line of the version.
func NewWriter(w io.Writer) *Writer {
	b := &Writer{w: bufio.NewWriter(w)}
	b.line("version: 1")
	return b
}

// Begin begins a record.
func (w *Writer) Begin(dn string) {
	w.line("")
	w.Attribute("dn", dn)
}

// Attribute writes one value. What could be misread is encoded (RFC 2849,
// section 2: SAFE-STRING).
func (w *Writer) Attribute(name, value string) {
	if !isDescription(name) && w.err == nil {
		w.err = fmt.Errorf("%q is no name of an attribute (RFC 4512, section 2.5)", name)
	}
	if isSafe(value) {
		w.fold(name + ": " + value)
	} else {
		w.fold(name + ":: " + base64.StdEncoding.EncodeToString([]byte(value)))
	}
}

// Line writes a line as it is, such as the - between changes.
func (w *Writer) Line(text string) { w.line(text) }

// Flush writes what is left, and returns the first error.
func (w *Writer) Flush() error { return errors.Join(w.err, w.w.Flush()) }

// isDescription reports whether a text is the description of an attribute: its name
// or number, perhaps with options.
func isDescription(name string) bool {
	for i := range len(name) {
		c := name[i]
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && (c < '0' || c > '9') && (i == 0 || c != '-' && c != ';' && c != '.' && c != '_') {
			return false
		}
	}
	return name != ""
}

func (w *Writer) line(text string) {
	_, _ = w.w.WriteString(text) // Flush reports the error
	_ = w.w.WriteByte('\n')
}

// fold writes a line, with continuations where it is long. It is never cut within
// a character.
func (w *Writer) fold(text string) {
	most := width
	for len(text) > most {
		cut := most
		for cut > 1 && !utf8.RuneStart(text[cut]) {
			cut--
		}
		w.line(text[:cut])
		text, most = " "+text[cut:], width
	}
	w.line(text)
}

// isSafe reports whether a value may stand as it is.
func isSafe(value string) bool {
	if value == "" {
		return true
	}
	if c := value[0]; c == ' ' || c == ':' || c == '<' || value[len(value)-1] == ' ' {
		return false
	}
	for i := range len(value) {
		if c := value[i]; c < ' ' || c >= 0x7f {
			return false
		}
	}
	return true
}
