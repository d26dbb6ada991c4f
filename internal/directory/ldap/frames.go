package ldap

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/endpoint"
)

// The bounds of one LDAP message, which an entry is.
const (
	mostMessage  = 32 << 20  // bytes
	mostElements = 1_000_000 // values and what holds them: each takes memory beyond its bytes
)

// errNoLDAP is what the errors are of answers that are no LDAP.
var errNoLDAP = errors.New("the server does not speak LDAP as it should")

// frames hands on what a server says, an LDAP message at a time, if it is within
// bounds: anyone who reads from it never sees the beginning of another one.
type frames struct {
	*endpoint.Conn
	in    *bufio.Reader
	frame bytes.Buffer // what is left of the message at hand

	mutex sync.Mutex
	done  int   // searches that the server has ended (SearchResultDone)
	err   error // why there is no more
}

func newFrames(conn *endpoint.Conn) *frames {
	return &frames{Conn: conn, in: bufio.NewReader(conn)}
}

// step begins to wait for the next message.
func (f *frames) step(wait time.Duration) { f.Conn.Step(wait, 2*mostMessage) }

// ended returns how many searches the server has ended.
func (f *frames) ended() int {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.done
}

// failure returns why reading ended, or nil.
func (f *frames) failure() error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.err
}

func (f *frames) Read(p []byte) (int, error) {
	if f.frame.Len() == 0 {
		if err := f.next(); err != nil {
			f.mutex.Lock()
			f.err = err
			f.mutex.Unlock()
			return 0, err
		}
	}
	return f.frame.Read(p)
}

// next reads a message. Memory is taken as it comes, whatever length it claims.
func (f *frames) next() error {
	f.frame.Reset()
	head, err := f.in.Peek(2)
	if err != nil {
		return err
	}
	more := 0 // further bytes of the length
	if head[1] >= 0x80 {
		more = int(head[1] & 0x7f)
	}
	if head[0] != 0x30 || more > 4 || head[1] == 0x80 {
		return errNoLDAP // a message is a sequence of a definite length (RFC 4511, section 5.1)
	}
	if head, err = f.in.Peek(2 + more); err != nil {
		return err
	}
	size, _, _ := length(head[1:])
	if size > mostMessage {
		return fmt.Errorf("the directory sends an entry of more than %d MiB", mostMessage>>20)
	}
	if _, err := io.CopyN(&f.frame, f.in, int64(2+more+size)); err != nil {
		return err
	}
	if err := check(f.frame.Bytes()); err != nil {
		return err
	}
	if operation(f.frame.Bytes()) == searchResultDone {
		f.mutex.Lock()
		f.done++
		f.mutex.Unlock()
	}
	return nil
}

// searchResultDone is the tag of the message that ends a search (RFC 4511, section
// 4.5.2).
const searchResultDone = 0x65

// operation returns the tag of what a message says, behind its number, or 0.
func operation(message []byte) byte {
	_, taken, _ := length(message[1:])
	within := message[1+taken:]
	if len(within) < 2 {
		return 0
	}
	size, taken, ok := length(within[1:])
	if at := 1 + taken + size; ok && at < len(within) {
		return within[at]
	}
	return 0
}

// length reads the length of an element (X.690, section 8.1.3), and returns how many
// bytes that takes.
func length(data []byte) (size, taken int, ok bool) {
	if len(data) == 0 {
		return 0, 0, false
	}
	if data[0] < 0x80 {
		return int(data[0]), 1, true
	}
	n := int(data[0] & 0x7f)
	if n == 0 || n > 4 || len(data) < 1+n {
		return 0, 0, false
	}
	for _, b := range data[1 : 1+n] {
		size = size<<8 | int(b)
	}
	return size, 1 + n, true
}

// check looks through the elements of a message before anybody makes something of
// them.
func check(message []byte) error {
	const (
		constructed = 0x20
		longTag     = 0x1f // which LDAP does not have
		deepest     = 100
	)
	ends := []int{len(message)} // of what is being looked into
	for at, elements := 0, 0; at < len(message); {
		for ends[len(ends)-1] == at {
			ends = ends[:len(ends)-1]
		}
		tag := message[at]
		size, taken, ok := length(message[at+1:])
		begins := at + 1 + taken
		if !ok || tag&longTag == longTag || begins+size > ends[len(ends)-1] {
			return errNoLDAP
		}
		if elements++; elements > mostElements {
			return fmt.Errorf("the directory sends an entry of more than %d values", mostElements)
		}
		if tag&constructed == 0 {
			at = begins + size
			continue
		}
		if ends = append(ends, begins+size); len(ends) > deepest {
			return errNoLDAP
		}
		at = begins
	}
	return nil
}
