package undo

import (
	"errors"
	"io"
)

// limited fails beyond so many bytes.
type limited struct {
	r    io.Reader
	left int
}

func (l *limited) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	if l.left -= n; l.left < 0 {
		return 0, errors.New("the file is too large")
	}
	return n, err
}
