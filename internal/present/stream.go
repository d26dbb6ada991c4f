package present

import (
	"bufio"
	"bytes"
	"io"
	"iter"
	"strings"
)

// jsonStream writes a JSON object field by field, and long lists item by item: what writeJSON
// writes of the whole, without having all of it at once.
type jsonStream struct {
	w     *bufio.Writer
	item  bytes.Buffer
	err   error
	after bool // a field is written
}

// streamJSON writes the object whose fields write gives.
func streamJSON(w io.Writer, write func(*jsonStream)) error {
	s := &jsonStream{w: bufio.NewWriterSize(w, 1<<16)}
	s.text("{")
	write(s)
	s.text("\n}\n")
	if s.err != nil {
		return s.err
	}
	return s.w.Flush()
}

func (s *jsonStream) text(text string) {
	if s.err == nil {
		_, s.err = s.w.WriteString(text)
	}
}

// value writes a value whose lines but for the first begin with a prefix.
func (s *jsonStream) value(v any, prefix string) {
	s.item.Reset()
	if err := encode(&s.item, v, prefix, "  "); err != nil && s.err == nil {
		s.err = err
		return
	}
	s.text(strings.TrimSuffix(s.item.String(), "\n"))
}

// name begins a field.
func (s *jsonStream) name(name string) {
	if s.after {
		s.text(",")
	}
	s.after = true
	s.text("\n  \"" + name + "\": ")
}

// field writes a field.
func (s *jsonStream) field(name string, v any) {
	s.name(name)
	s.value(v, "  ")
}

// streamList writes a field that is a list.
func streamList[T any](s *jsonStream, name string, items iter.Seq[T]) {
	s.name(name)
	s.text("[")
	any := false
	for item := range items {
		if any {
			s.text(",")
		}
		any = true
		s.text("\n    ")
		s.value(item, "    ")
		if s.err != nil {
			return
		}
	}
	if any {
		s.text("\n  ")
	}
	s.text("]")
}
