package records

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/directory"
)

// Paging says how a service gives its records page by page: by a token or URL in each answer
// (Next), by the number of the first record (Offset), or by Link headers (RFC 8288).
type Paging struct {
	Next   string `yaml:"next"`   // the path of the token, or of the URL, in an answer
	As     string `yaml:"as"`     // the parameter that the token goes into; "": Next is a URL
	Offset string `yaml:"offset"` // the parameter with the number of the first record
	First  int    `yaml:"first"`  // what it is for the first page
	Pages  bool   `yaml:"pages"`  // Offset counts pages and not records
	Size   string `yaml:"size"`   // the parameter that asks for so many records, or ""
	Most   int    `yaml:"most"`   // how many
	Link   bool   `yaml:"link"`
}

// Problem returns what is wrong with a paging, or "".
func (p *Paging) Problem() string {
	ways := 0
	for _, is := range []bool{p.Next != "", p.Offset != "", p.Link} {
		if is {
			ways++
		}
	}
	switch {
	case ways != 1:
		return "paging needs one of next, offset and link"
	case p.Size != "" && p.Most < 1:
		return "size needs most, how many records a page has"
	case p.As != "" && p.Next == "":
		return "as goes with next"
	}
	return ""
}

// Follow asks once more for each record of a list, for what the record itself has not got.
type Follow struct {
	Each   string  `yaml:"each"` // the path of the list
	From   string  `yaml:"from"` // a URL, perhaps from that of the service on; {name} is an attribute of the record
	List   string  `yaml:"list"` // the path of the list in the answer
	Into   string  `yaml:"into"` // what it is called in the record
	Paging *Paging `yaml:"pages"`
}

// A Service gives records as JSON over HTTP.
type Service struct {
	URL    string
	Client Client
	Lists  []string // the paths of the lists of records
	Paging *Paging
	Follow []Follow
	AtOnce int // requests at one time for Follow; 0: 4
}

const (
	mostPages   = 100_000
	mostEmpty   = 100       // pages without a record, one after the other
	mostRecords = 2_000_000 // of a list and all its pages
	mostBytes   = 1 << 30   // of all answers
	whole       = 30 * time.Minute
)

// budget is what is left of the bytes of all answers.
type budget struct {
	mu   sync.Mutex
	left int
}

func (b *budget) take(n int) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.left -= n; b.left < 0 {
		return fmt.Errorf("the service gives more than %d MiB", mostBytes>>20)
	}
	return nil
}

// Read calls visit with all records, in the order in which they come.
func (s *Service) Read(ctx context.Context, visit func(*directory.Entry)) error {
	left := &budget{left: mostBytes}
	number := 0
	ctx, end := context.WithTimeoutCause(ctx, whole, fmt.Errorf("%s: the service does not end within %v", bare(s.URL), whole))
	defer end()
	return s.pages(ctx, s.URL, s.Paging, s.Lists, left, func(page map[string][]map[string]any) error {
		for i := range s.Follow {
			if err := s.follow(ctx, &s.Follow[i], page[s.Follow[i].Each], left); err != nil {
				return err
			}
		}
		for _, list := range s.Lists {
			for _, record := range page[list] {
				number++
				e, err := entryOf(list, record)
				if err != nil {
					return err
				}
				e.Line = number
				visit(e)
			}
		}
		return nil
	})
}

// pages calls visit with the lists of each page.
func (s *Service) pages(
	ctx context.Context, from string, paging *Paging, lists []string, left *budget,
	visit func(map[string][]map[string]any) error,
) error {
	start, err := url.Parse(from)
	if err != nil {
		return errors.New("the URL of the service cannot be read")
	}
	turn := &turn{paging: paging, base: start}
	seen := map[string]bool{}
	records, empty := 0, 0
	for at := turn.first(); at != ""; {
		switch {
		case seen[at]:
			return fmt.Errorf("%s gives the same page again", bare(at))
		case len(seen) == mostPages, records > mostRecords:
			return fmt.Errorf("%s gives more than %d pages or %d records", bare(at), mostPages, mostRecords)
		case empty > mostEmpty:
			return fmt.Errorf("%s gives more than %d pages without a record, one after the other", bare(at), mostEmpty)
		}
		seen[at] = true
		data, header, err := s.Client.Get(ctx, at)
		if err != nil {
			return err
		}
		if err := left.take(len(data)); err != nil {
			return err
		}
		document, err := decode(data)
		if err != nil {
			return fmt.Errorf("%s: %s", bare(at), problem(err))
		}
		page, n := map[string][]map[string]any{}, 0
		for _, list := range lists {
			if page[list], err = objectsAt(document, list); err != nil {
				return fmt.Errorf("%s: %w", bare(at), err)
			}
			n += len(page[list])
		}
		if records, empty = records+n, empty+1; n > 0 {
			empty = 0
		}
		if err := visit(page); err != nil {
			return err
		}
		if at, err = turn.next(at, document, header, n); err != nil {
			return err
		}
	}
	return nil
}

// bare is a URL without its query, for messages.
func bare(text string) string {
	text, _, _ = strings.Cut(text, "?")
	return text
}

func decode(data []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	return Value(d)
}

// objectsAt returns the objects of the list at a path of a document. What is not there is
// an empty list.
func objectsAt(document any, path string) ([]map[string]any, error) {
	value := valueAt(document, path)
	list, ok := value.([]any)
	if !ok {
		if value == nil {
			return nil, nil
		}
		return nil, fmt.Errorf("expected a list at %s", quoted(path))
	}
	var objects []map[string]any
	for _, one := range list {
		object, ok := one.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("expected a list of objects at %s", quoted(path))
		}
		objects = append(objects, object)
	}
	return objects, nil
}

// valueAt returns what is at a path of a document, or nil.
func valueAt(document any, path string) any {
	for path != "" {
		object, ok := document.(map[string]any)
		if !ok {
			return nil
		}
		key, rest := path, ""
		if strings.HasPrefix(path, `"`) {
			quotedKey, err := strconv.QuotedPrefix(path)
			if err != nil {
				return nil
			}
			key, _ = strconv.Unquote(quotedKey)
			rest = strings.TrimPrefix(path[len(quotedKey):], ".")
		} else {
			key, rest, _ = strings.Cut(path, ".")
		}
		document, path = object[key], rest
	}
	return document
}

// turn turns the pages of a service.
type turn struct {
	paging *Paging
	base   *url.URL
	offset int
}

func (t *turn) with(u *url.URL, name, value string) {
	query := u.Query()
	query.Set(name, value)
	u.RawQuery = query.Encode()
}

// first returns the URL of the first page.
func (t *turn) first() string {
	u := *t.base
	if t.paging == nil {
		return u.String()
	}
	if t.paging.Size != "" {
		t.with(&u, t.paging.Size, strconv.Itoa(t.paging.Most))
	}
	if t.paging.Offset != "" {
		t.offset = t.paging.First
		t.with(&u, t.paging.Offset, strconv.Itoa(t.offset))
	}
	return u.String()
}

// next returns the URL of the page behind one with n records, or "".
func (t *turn) next(at string, document any, header http.Header, n int) (string, error) {
	if t.paging == nil {
		return "", nil
	}
	u, err := url.Parse(at)
	if err != nil {
		return "", err
	}
	switch {
	case t.paging.Link:
		return t.resolve(u, linkTo(header, "next"))
	case t.paging.Offset != "":
		if n == 0 || t.paging.Size != "" && n < t.paging.Most {
			return "", nil
		}
		if t.offset += n; t.paging.Pages {
			t.offset += 1 - n
		}
		t.with(u, t.paging.Offset, strconv.Itoa(t.offset))
		return u.String(), nil
	}
	var token string
	switch value := valueAt(document, t.paging.Next).(type) {
	case string:
		token = value
	case json.Number:
		token = value.String()
	}
	switch {
	case token == "":
		return "", nil
	case t.paging.As == "":
		return t.resolve(u, token)
	}
	t.with(u, t.paging.As, token)
	return u.String(), nil
}

// resolve returns the URL of a reference. A token goes to the service that is named, and
// nowhere else.
func (t *turn) resolve(from *url.URL, reference string) (string, error) {
	if reference == "" {
		return "", nil
	}
	u, err := from.Parse(reference)
	if err != nil || u.Scheme != t.base.Scheme || u.Host != t.base.Host {
		return "", fmt.Errorf("%s leads to another server, which is not followed", bare(from.String()))
	}
	return u.String(), nil
}

// linkTo returns the target of the first link with a relation (RFC 8288, section 3), or "".
func linkTo(header http.Header, relation string) string {
	for _, line := range header.Values("Link") {
		for rest := line; ; {
			_, after, ok := strings.Cut(rest, "<")
			if !ok {
				break
			}
			target, after, ok := strings.Cut(after, ">")
			if !ok {
				break
			}
			parameters, next, _ := strings.Cut(after, "<")
			for part := range strings.FieldsFuncSeq(parameters, func(r rune) bool { return r == ';' || r == ',' }) {
				name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
				if strings.EqualFold(name, "rel") && strings.EqualFold(strings.Trim(value, `"`), relation) {
					return target
				}
			}
			rest = "<" + next
			if next == "" {
				break
			}
		}
	}
	return ""
}

// follow asks for what the records of a list have not got, several at once.
func (s *Service) follow(ctx context.Context, f *Follow, list []map[string]any, left *budget) error {
	atOnce := s.AtOnce
	if atOnce <= 0 {
		atOnce = 4
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var done sync.WaitGroup
	turns := make(chan struct{}, atOnce)
	for _, record := range list {
		turns <- struct{}{}
		if ctx.Err() != nil {
			break
		}
		done.Go(func() {
			defer func() { <-turns }()
			if err := s.followOne(ctx, f, record, left); err != nil {
				cancel(err)
			}
		})
	}
	done.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return nil
}

func (s *Service) followOne(ctx context.Context, f *Follow, record map[string]any, left *budget) error {
	where, err := s.filled(f.From, record)
	if err != nil {
		return err
	}
	all := []any{}
	err = s.pages(ctx, where, f.Paging, []string{f.List}, left, func(page map[string][]map[string]any) error {
		for _, one := range page[f.List] {
			all = append(all, one)
		}
		return nil
	})
	record[f.Into] = all
	return err
}

// filled puts attributes of a record into a URL, and makes it one from that of the service
// on.
func (s *Service) filled(text string, record map[string]any) (string, error) {
	var b strings.Builder
	for rest := text; rest != ""; {
		before, after, ok := strings.Cut(rest, "{")
		b.WriteString(before)
		if !ok {
			break
		}
		name, tail, _ := strings.Cut(after, "}")
		rest = tail
		value := ""
		switch known := valueAt(record, name).(type) {
		case string:
			value = known
		case json.Number:
			value = known.String()
		}
		escape := url.PathEscape
		if strings.Contains(b.String(), "?") {
			escape = url.QueryEscape
		}
		switch value {
		case "":
			return "", fmt.Errorf("%s: a record has no %s to ask for more by", bare(s.URL), name)
		case ".", "..":
			return "", fmt.Errorf("%s: the %s of a record is %q, which leads to another path", bare(s.URL), name, value)
		}
		b.WriteString(escape(value))
	}
	base, err := url.Parse(s.URL)
	if err != nil {
		return "", err
	}
	return (&turn{base: base}).resolve(base, b.String())
}
