// Package records reads JSON (RFC 8259) as records: documents, lines of documents, and
// services over HTTPS that page. What a record is called, and which list of a document it
// stands in, a map says.
package records

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/directory"
)

// deepest is how deep a record may be nested.
const deepest = 100

// Read calls visit with the records of a text: of each list that is at one of the paths,
// which are keys with dots between them, "" for the document itself. Keys with a dot in them
// are quoted ("a.b".c). A list or several documents one after the other (JSON lines) are
// records themselves at the path "". Errors name the line.
func Read(r io.Reader, name string, paths []string, visit func(*directory.Entry)) error {
	counted := NewLines(bufio.NewReaderSize(r, 1<<16))
	d := json.NewDecoder(counted)
	d.UseNumber()
	w := &walker{d: d, paths: paths, met: map[string]bool{}}
	w.visit = func(path string, record map[string]any) error {
		e, err := entryOf(path, record)
		if err != nil {
			return err
		}
		e.Line = counted.At(d.InputOffset())
		for _, list := range e.Nested {
			for _, one := range list {
				one.Line = e.Line
			}
		}
		visit(e)
		return nil
	}
	documents := 0
	for {
		err := w.document()
		if errors.Is(err, io.EOF) && documents > 0 {
			break
		}
		if err != nil {
			return fmt.Errorf("%s:%d:1: %s", name, counted.At(d.InputOffset()), problem(err))
		}
		documents++
	}
	for _, path := range paths {
		if !w.met[path] {
			return fmt.Errorf("%s: the document has no list %s; it has %s", name, quoted(path), w.offered())
		}
	}
	return nil
}

// Lists returns the paths of the lists of objects in a text that are not within other lists;
// "" for the documents themselves.
func Lists(r io.Reader, name string) ([]string, error) {
	counted := NewLines(bufio.NewReaderSize(r, 1<<16))
	d := json.NewDecoder(counted)
	var paths []string
	note := func(path string) {
		if !slices.Contains(paths, path) {
			paths = append(paths, path)
		}
	}
	for documents := 0; ; documents++ {
		var value any
		err := d.Decode(&value)
		if errors.Is(err, io.EOF) && documents > 0 {
			return paths, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s:%d:1: %s", name, counted.At(d.InputOffset()), problem(err))
		}
		before := len(paths)
		find("", value, note)
		if _, isObject := value.(map[string]any); isObject && len(paths) == before && !slices.Contains(paths, "") {
			note("")
		}
		if documents > 0 {
			return []string{""}, nil // several documents: each is a record
		}
	}
}

// find notes the lists of objects in a value.
func find(path string, value any, note func(string)) {
	switch value := value.(type) {
	case []any:
		if len(value) > 0 {
			if _, ok := value[0].(map[string]any); ok {
				note(path)
			}
		}
	case map[string]any:
		keys := make([]string, 0, len(value))
		for key := range value {
			keys = append(keys, key)
		}
		slices.Sort(keys)
		for _, key := range keys {
			find(Join(path, key), value[key], note)
		}
	}
}

func quoted(path string) string {
	if path == "" {
		return "at its top"
	}
	return strconv.Quote(path)
}

// problem words an error of package json for people.
func problem(err error) string {
	if kind, ok := errors.AsType[*json.UnmarshalTypeError](err); ok {
		return "expected an object, not " + kind.Value
	}
	switch text := err.Error(); {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return "the text ends too early"
	case strings.HasPrefix(text, "json: ") || strings.HasPrefix(text, "invalid character"):
		return "this is no JSON"
	}
	return err.Error()
}

// walker goes through a document to the lists that are asked for.
type walker struct {
	d     *json.Decoder
	paths []string
	visit func(path string, record map[string]any) error
	met   map[string]bool
	lists []string // that were met and not asked for
}

// offered returns the lists of records that a document has.
func (w *walker) offered() string {
	if len(w.lists) == 0 {
		return "no other"
	}
	return strings.Join(w.lists, ", ")
}

func (w *walker) document() error {
	token, err := w.d.Token()
	if err != nil {
		return err
	}
	switch {
	case token == json.Delim('['):
		if !slices.Contains(w.paths, "") {
			w.lists = append(w.lists, `"" (the document)`)
			return w.skipRest()
		}
		return w.list("")
	case token != json.Delim('{'):
		return errors.New("expected an object or a list of objects")
	case slices.Contains(w.paths, "") && len(w.paths) == 1:
		w.met[""] = true
		left := mostValues
		record, err := object(w.d, 0, &left)
		if err != nil {
			return err
		}
		return w.visit("", record)
	}
	return w.keys("")
}

// object reads the rest of an object.
func object(d *json.Decoder, depth int, left *int) (map[string]any, error) {
	record := map[string]any{}
	for d.More() {
		token, err := d.Token()
		if err != nil {
			return nil, err
		}
		key := fmt.Sprint(token)
		if _, twice := record[key]; twice {
			return nil, fmt.Errorf("%q stands in one object for the second time", key)
		}
		if record[key], err = value(d, depth+1, left); err != nil {
			return nil, err
		}
	}
	_, err := d.Token()
	return record, err
}

// Value reads a value, which is as d.Decode gives it. A name that stands twice in one object is an
// error: readers differ in which of the two they take (RFC 8259, section 4).
func Value(d *json.Decoder) (any, error) {
	left := mostValues
	return value(d, 0, &left)
}

// mostValues is how many values one record, or one page of a service, may hold: short ones take many
// times the memory of their text.
const mostValues = 500_000

// value reads a value at a depth; left is how many more there may be.
func value(d *json.Decoder, depth int, left *int) (any, error) {
	token, err := d.Token()
	if depth > deepest {
		return nil, fmt.Errorf("it is nested deeper than %d", deepest)
	}
	if *left--; *left < 0 {
		return nil, fmt.Errorf("it holds more than %d values", mostValues)
	}
	switch {
	case err != nil:
		return nil, err
	case token == json.Delim('{'):
		return object(d, depth, left)
	case token != json.Delim('['):
		return token, nil
	}
	list := []any{}
	for d.More() {
		one, err := value(d, depth+1, left)
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	_, err = d.Token()
	return list, err
}

// keys goes through the rest of an object at a path.
func (w *walker) keys(path string) error {
	for w.d.More() {
		token, err := w.d.Token()
		if err != nil {
			return err
		}
		at := Join(path, fmt.Sprint(token))
		wanted := slices.Contains(w.paths, at)
		leads := slices.ContainsFunc(w.paths, func(p string) bool { return strings.HasPrefix(p, at+".") })
		if token, err = w.d.Token(); err != nil {
			return err
		}
		switch {
		case token == json.Delim('[') && wanted:
			err = w.list(at)
		case token == json.Delim('{') && wanted:
			w.met[at] = true
			left, record := mostValues, map[string]any(nil)
			if record, err = object(w.d, 0, &left); err == nil {
				err = w.visit(at, record)
			}
		case token == json.Delim('{') && leads:
			err = w.keys(at)
		case token == json.Delim('['):
			if len(w.lists) < 20 && !slices.Contains(w.lists, at) {
				w.lists = append(w.lists, at)
			}
			err = w.skipRest()
		case token == json.Delim('{'):
			err = w.skipRest()
		case wanted:
			w.met[at] = true // null, or what is no list
		}
		if err != nil {
			return err
		}
	}
	_, err := w.d.Token()
	return err
}

// list visits the objects of the rest of a list.
func (w *walker) list(path string) error {
	w.met[path] = true
	for w.d.More() {
		one, err := Value(w.d)
		if err != nil {
			return err
		}
		record, ok := one.(map[string]any)
		if !ok && one != nil {
			return errors.New("expected an object, not " + kind(one))
		}
		if err := w.visit(path, record); err != nil {
			return err
		}
	}
	_, err := w.d.Token()
	return err
}

// kind is what a value is that is no object.
func kind(value any) string {
	switch value.(type) {
	case []any:
		return "a list"
	case string:
		return "a text"
	case bool:
		return "true or false"
	}
	return "a number"
}

// skipRest passes over the rest of a list or object.
func (w *walker) skipRest() error {
	for depth := 1; depth > 0; {
		token, err := w.d.Token()
		if err != nil {
			return err
		}
		switch token {
		case json.Delim('['), json.Delim('{'):
			depth++
		case json.Delim(']'), json.Delim('}'):
			depth--
		}
	}
	return nil
}

// Join returns the path of a key within what is at a path.
func Join(path, key string) string {
	if key == "" || strings.ContainsAny(key, `."`) {
		key = strconv.Quote(key)
	}
	if path == "" {
		return key
	}
	return path + "." + key
}

// entryOf makes a record an entry, whose attributes are called by their paths. Of a list of
// objects, the objects are records within the record, and what they hold is called by the
// whole path, too.
func entryOf(list string, record map[string]any) (*directory.Entry, error) {
	e := &directory.Entry{Records: list}
	return e, flatten(e, "", record, 0)
}

func flatten(e *directory.Entry, path string, value any, depth int) error {
	if depth > deepest {
		return fmt.Errorf("it is nested deeper than %d", deepest)
	}
	switch value := value.(type) {
	case string:
		e.Add(path, value)
	case bool:
		e.Add(path, strconv.FormatBool(value))
	case json.Number:
		e.Add(path, value.String())
	case map[string]any:
		keys := make([]string, 0, len(value))
		for key := range value {
			keys = append(keys, key)
		}
		slices.Sort(keys)
		for _, key := range keys {
			if err := flatten(e, Join(path, key), value[key], depth+1); err != nil {
				return err
			}
		}
	case []any:
		for _, one := range value {
			if object, ok := one.(map[string]any); ok {
				inner := &directory.Entry{}
				if err := flatten(inner, "", object, depth+1); err != nil {
					return err
				}
				if e.Nested == nil {
					e.Nested = map[string][]*directory.Entry{}
				}
				e.Nested[path] = append(e.Nested[path], inner)
			}
			if err := flatten(e, path, one, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}
