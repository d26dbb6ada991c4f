// Package scim reads users and groups over SCIM 2.0 (RFC 7643, RFC 7644), or from
// a file of resources.
package scim

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/records"
)

// Limits that no honest service meets.
const (
	mostResources = 2_000_000
	mostOfPage    = 10_000           // resources of one page
	mostParts     = 2_000_000        // values of one page, by the commas between
	mostText      = 1 << 30          // bytes of all pages
	whole         = 30 * time.Minute // for all of them
)

// Extension is the schema of what Yorvet says of groups beyond RFC 7643, which
// gives groups no address: address, also, about, owners, moderators.
const Extension = "urn:yorvet.example:scim:schemas:MailGroup:1.0"

// A Service is where resources are.
type Service struct {
	URL    string // the base, such as https://id.kelpmere.example/scim/v2
	Token  string // a bearer token (RFC 6750), or ""
	Page   int    // resources of a page that are asked for; 0: 200
	Client *http.Client
}

// Read calls visit with every user and group of a service as an entry. partial is set where
// the service says of a later page that there are fewer than it said before.
func (s *Service) Read(ctx context.Context, visit func(*directory.Entry)) (partial bool, err error) {
	ctx, end := context.WithTimeoutCause(ctx, whole, fmt.Errorf("%s: the service does not end within %v", s.URL, whole))
	defer end()
	for _, kind := range []string{"Users", "Groups"} {
		fewer, err := s.readAll(ctx, kind, visit)
		if err != nil {
			return false, err
		}
		partial = partial || fewer
	}
	return partial, nil
}

// Limits returns what a service says of the bulk requests that it takes (RFC 7643,
// section 5). One that says nothing is taken to take any.
func (s *Service) Limits(ctx context.Context) directory.Limits {
	data, _, err := s.client().Get(ctx, strings.TrimSuffix(s.URL, "/")+"/ServiceProviderConfig")
	var says struct {
		Bulk *struct {
			Supported      bool `json:"supported"`
			MaxOperations  int  `json:"maxOperations"`
			MaxPayloadSize int  `json:"maxPayloadSize"`
		} `json:"bulk"`
	}
	if err != nil || json.Unmarshal(data, &says) != nil || says.Bulk == nil {
		return directory.Limits{}
	}
	return directory.Limits{
		Single:     !says.Bulk.Supported,
		Operations: max(says.Bulk.MaxOperations, 0),
		Bytes:      max(says.Bulk.MaxPayloadSize, 0),
	}
}

// page is a ListResponse (RFC 7644, section 3.4.2).
type page struct {
	Total     int               `json:"totalResults"`
	Resources []json.RawMessage `json:"Resources"`
	Schemas   []string          `json:"schemas"`

	size int // bytes
}

// readAll reads the pages of one kind of resources, and reports whether there are fewer
// than the service said at first. A service that gives the same resource again, which
// would never end, is an error.
func (s *Service) readAll(ctx context.Context, kind string, visit func(*directory.Entry)) (fewer bool, err error) {
	count := s.Page
	if count <= 0 {
		count = 200
	}
	seen := map[string]bool{}
	read, most := 0, 0 // bytes, resources that the service spoke of
	for start, number := 1, 0; ; {
		p, err := s.get(ctx, kind, start, count)
		if err != nil {
			return false, err
		}
		most, fewer = max(most, p.Total), fewer || p.Total < most
		if read += p.size; read > mostText {
			return false, fmt.Errorf("%s/%s: there is more than %d MiB", s.URL, kind, mostText>>20)
		}
		for _, raw := range p.Resources {
			number++
			var e *directory.Entry
			err := one(json.NewDecoder(bytes.NewReader(raw)), func(resource map[string]any) {
				e = entryOf(resource, strings.TrimSuffix(kind, "s"))
			})
			if err != nil {
				return false, fmt.Errorf("%s/%s: resource %d: %s", s.URL, kind, number, Problem(err))
			}
			e.Line = number
			if e.ID != "" && seen[e.ID] {
				return false, fmt.Errorf(
					"%s/%s: the service gives the resource %s again on the page from %d on; it does not page as RFC 7644 says",
					s.URL,
					kind,
					e.ID,
					start,
				)
			}
			seen[e.ID] = true
			visit(e)
		}
		start += len(p.Resources)
		switch {
		case len(p.Resources) == 0 || start > p.Total:
			if number < p.Total {
				return false, fmt.Errorf(
					"%s/%s: the service says that there are %d, and gives %d",
					s.URL,
					kind,
					p.Total,
					number,
				)
			}
			return fewer, nil
		case number > mostResources:
			return false, fmt.Errorf("%s/%s: there are more than %d resources", s.URL, kind, mostResources)
		}
	}
}

// get reads a page.
func (s *Service) get(ctx context.Context, kind string, start, count int) (*page, error) {
	query := url.Values{"startIndex": {strconv.Itoa(start)}, "count": {strconv.Itoa(count)}}
	where := strings.TrimSuffix(s.URL, "/") + "/" + kind
	data, _, err := s.client().Get(ctx, where+"?"+query.Encode())
	if err != nil {
		return nil, err
	}
	if bytes.Count(data, []byte(",")) > mostParts { // short ones take many times the memory of their text
		return nil, fmt.Errorf("%s: the page has more than %d values", where, mostParts)
	}
	p := &page{size: len(data)}
	if err := json.Unmarshal(data, p); err != nil {
		return nil, fmt.Errorf("%s: this is no page of resources: %s", where, Problem(err))
	}
	if len(p.Resources) > mostOfPage {
		return nil, fmt.Errorf("%s: the page has %d resources, of which %d were asked for", where, len(p.Resources), count)
	}
	return p, nil
}

func (s *Service) client() *records.Client {
	return &records.Client{HTTP: s.Client, Token: s.Token, Accept: "application/scim+json"}
}

// Problem says in plain words what is wrong with a text that should be JSON.
func Problem(err error) string {
	var kind *json.UnmarshalTypeError
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &kind) && kind.Field != "":
		return fmt.Sprintf("%s is of the wrong kind, %s", kind.Field, kind.Value)
	case errors.As(err, &kind):
		return fmt.Sprintf("expected an object, not %s", kind.Value)
	case errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF),
		errors.As(err, &syntax) && strings.Contains(err.Error(), "unexpected end"):
		return "it ends too early"
	case errors.As(err, &syntax) && strings.Contains(err.Error(), "depth"):
		return "it is nested too deeply"
	case errors.As(err, &syntax):
		return "it is no JSON"
	}
	return err.Error()
}

// ReadFile calls visit with the resources of a file: a ListResponse, a list, or
// one resource after the other.
func ReadFile(r io.Reader, name string, visit func(*directory.Entry)) error {
	counted := records.NewLines(bufio.NewReaderSize(r, 1<<16))
	d := json.NewDecoder(counted)
	number := 0
	take := func(resource map[string]any) {
		number++
		e := entryOf(resource, "")
		e.Line = counted.At(d.InputOffset())
		visit(e)
	}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) && number > 0 {
			return nil
		}
		if err != nil {
			return fail(name, counted, d, err)
		}
		switch token {
		case json.Delim('['):
			for d.More() {
				if err := one(d, take); err != nil {
					return fail(name, counted, d, err)
				}
			}
			if _, err := d.Token(); err != nil {
				return fail(name, counted, d, err)
			}
		case json.Delim('{'):
			if err := object(d, take); err != nil {
				return fail(name, counted, d, err)
			}
		default:
			return fail(name, counted, d, errors.New("expected resources"))
		}
		number++
	}
}

// one reads one resource of a list.
func one(d *json.Decoder, take func(map[string]any)) error {
	value, err := records.Value(d)
	if err != nil {
		return err
	}
	resource, ok := value.(map[string]any)
	if !ok && value != nil {
		return errors.New("expected an object")
	}
	take(resource)
	return nil
}

// object reads the rest of an object: a list of resources, of which each is taken
// as it comes, or a resource.
func object(d *json.Decoder, take func(map[string]any)) error {
	resource := map[string]any{}
	isList := false
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		if name, ok := key.(string); ok && strings.EqualFold(name, "Resources") {
			isList = true
			if open, err := d.Token(); err != nil || open != json.Delim('[') {
				return errors.Join(err, errors.New("expected a list of Resources"))
			}
			for d.More() {
				if err := one(d, take); err != nil {
					return err
				}
			}
			if _, err := d.Token(); err != nil {
				return err
			}
			continue
		}
		name := fmt.Sprint(key)
		if _, twice := resource[name]; twice {
			return fmt.Errorf("%q stands in one object for the second time", name)
		}
		if resource[name], err = records.Value(d); err != nil {
			return err
		}
	}
	if _, err := d.Token(); err != nil {
		return err
	}
	if !isList {
		take(resource)
	}
	return nil
}

func fail(name string, c *records.Lines, d *json.Decoder, err error) error {
	return fmt.Errorf("%s:%d:1: this is no JSON of resources: %s", name, c.At(d.InputOffset()), Problem(err))
}

// entryOf flattens a resource: emails and emails.work for a list with types, name.
// formatted for a part, the attributes of extensions as if they were its own.
func entryOf(resource map[string]any, kind string) *directory.Entry {
	e := &directory.Entry{}
	e.ID, _ = resource["id"].(string)
	if kind == "" {
		kind = kindOf(resource)
	}
	e.Add("resourceType", kind)
	flatten(e, "", resource)
	return e
}

func kindOf(resource map[string]any) string {
	if meta, ok := resource["meta"].(map[string]any); ok {
		if kind, ok := meta["resourceType"].(string); ok {
			return kind
		}
	}
	if schemas, ok := resource["schemas"].([]any); ok {
		for _, s := range schemas {
			if text, _ := s.(string); strings.HasSuffix(text, ":Group") {
				return "Group"
			}
		}
	}
	return "User"
}

func flatten(e *directory.Entry, path string, object map[string]any) {
	keys := make([]string, 0, len(object))
	for key := range object {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		switch {
		case path == "" && (key == "schemas" || key == "meta" || key == "id"):
		case strings.HasPrefix(strings.ToLower(key), "urn:"):
			if extension, ok := object[key].(map[string]any); ok {
				e.Schema = key
				flatten(e, "", extension)
				e.Schema = ""
			}
		default:
			add(e, path+key, object[key])
		}
	}
}

// add adds a value of any shape to an entry.
func add(e *directory.Entry, path string, value any) {
	switch value := value.(type) {
	case string:
		e.Add(path, value)
	case bool:
		e.Add(path, strconv.FormatBool(value))
	case float64:
		e.Add(path, strconv.FormatFloat(value, 'f', -1, 64))
	case map[string]any:
		if inner, ok := value["value"]; ok && path != "" {
			add(e, path, inner)
			return
		}
		flatten(e, path+".", value)
	case []any:
		// The primary one comes first.
		for _, wanted := range []bool{true, false} {
			for _, item := range value {
				object, _ := item.(map[string]any)
				if primary, _ := object["primary"].(bool); primary != wanted {
					continue
				}
				if object["value"] != nil || object == nil {
					add(e, path, item)
				}
			}
		}
		for _, item := range value {
			if object, ok := item.(map[string]any); ok {
				if kind, ok := object["type"].(string); ok && object["value"] != nil && path != "members" {
					add(e, path+"."+strings.ToLower(kind), object["value"])
				}
			}
		}
	}
}
