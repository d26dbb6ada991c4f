package records

import "io"

// Lines knows on which line an offset of what was read through it is, for offsets that only
// grow.
type Lines struct {
	r      io.Reader
	offset int64
	ends   []int64 // of lines that are not asked about yet
	line   int
}

// NewLines returns a Reader that counts the lines of another.
func NewLines(r io.Reader) *Lines { return &Lines{r: r, line: 1} }

func (c *Lines) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	for i, b := range p[:n] {
		if b == '\n' {
			c.ends = append(c.ends, c.offset+int64(i))
		}
	}
	c.offset += int64(n)
	return n, err
}

// At returns the line that an offset is on, from 1.
func (c *Lines) At(offset int64) int {
	for len(c.ends) > 0 && c.ends[0] < offset {
		c.ends = c.ends[1:]
		c.line++
	}
	return c.line
}
