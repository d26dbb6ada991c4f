package table

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/encoding/unicode"
)

// decoded returns a text as UTF-8: from the given encoding, from UTF-16 if it begins
// with its mark, and else as it is. Bytes that the encoding does not know are an error.
func decoded(r io.Reader, name, encoding string) (io.Reader, error) {
	start := bufio.NewReaderSize(r, 1<<16)
	mark, _ := start.Peek(3)
	check := &checked{name: name, encoding: encoding, line: 1, column: 1}
	switch {
	case bytes.HasPrefix(mark, []byte("\xff\xfe")), bytes.HasPrefix(mark, []byte("\xfe\xff")):
		check.encoding = "UTF-16"
		check.r = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Reader(start)
	case encoding == "":
		if bytes.HasPrefix(mark, []byte("\ufeff")) {
			_, _ = start.Discard(3)
		}
		check.r = start
	default:
		known, err := ianaindex.IANA.Encoding(encoding)
		if err != nil || known == nil {
			return nil, fmt.Errorf("%s: the encoding %q is not known; expected an IANA character set such as windows-1252, "+
				"iso-8859-15 or utf-16", name, encoding)
		}
		check.r = known.NewDecoder().Reader(start)
	}
	return check, nil
}

// checked passes text on as long as it is UTF-8 without signs that stand for bytes which
// could not be decoded.
type checked struct {
	r            io.Reader
	name         string
	encoding     string
	line, column int    // of what comes next, from 1; columns are characters
	held         []byte // the beginning of a character
	seen         bool   // a character beyond ASCII was passed on
	failed       error
}

// Undecodable is the error of bytes that an encoding does not know.
type Undecodable struct {
	text  string
	Guess string // the encoding that it may be, or ""
}

func (u *Undecodable) Error() string { return u.text }

func (c *checked) Read(p []byte) (int, error) {
	if len(p) < utf8.UTFMax {
		return 0, io.ErrShortBuffer
	}
	if c.failed != nil {
		return 0, c.failed
	}
	n := copy(p, c.held)
	c.held = c.held[:0]
	more, err := c.r.Read(p[n:])
	n += more
	end := n
	for i := 0; i < n; {
		if p[i] < utf8.RuneSelf {
			c.step(rune(p[i]))
			i++
			continue
		}
		if !utf8.FullRune(p[i:n]) && err == nil {
			c.held, end = append(c.held, p[i:n]...), i
			break
		}
		r, size := utf8.DecodeRune(p[i:n])
		if r == utf8.RuneError && (size == 1 || c.encoding != "") {
			c.failed = c.fail(p[i:n])
			return i, c.failed
		}
		c.seen = true
		c.step(r)
		i += size
	}
	return end, err
}

func (c *checked) step(r rune) {
	if r == '\n' {
		c.line, c.column = c.line+1, 1
		return
	}
	c.column++
}

// fail says where bytes are that cannot be decoded, and what they may be.
func (c *checked) fail(rest []byte) error {
	where := fmt.Sprintf("%s:%d:%d: ", c.name, c.line, c.column)
	switch {
	case c.encoding != "":
		return &Undecodable{text: where + "there are bytes here that are no " + c.encoding}
	case c.seen:
		return &Undecodable{text: where + "a byte here is no UTF-8, though others before it are: the text may have been " +
			"cut or joined"}
	}
	guess := "windows-1252"
	if at := bytes.IndexByte(rest[:min(len(rest), 64)], 0); at >= 0 {
		guess = "utf-16le"
		if at%2 == 0 {
			guess = "utf-16be"
		}
	}
	return &Undecodable{where + "this is no UTF-8; it may be " + guess + ": say \"encoding: " + guess + "\" in the map",
		guess}
}
