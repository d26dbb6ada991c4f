package scim

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
)

// The schemas of RFC 7643 (section 8.7) and RFC 7644 (sections 3.4.2, 3.5.2, 3.7).
const (
	userSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	groupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"
	enterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	ListSchema       = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchSchema      = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	BulkSchema       = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	ErrorSchema      = "urn:ietf:params:scim:api:messages:2.0:Error"
)

// enterprise are the attributes of the enterprise extension.
var enterprise = []string{"employeeNumber", "costCenter", "organization", "division", "department"}

// ID returns the identifier that somebody of an estate has, where no service has
// given one: the key of the main address.
func ID(e *estate.Estate, id estate.ID) string { return e.Address(id).Key() }

// Export says how an estate is written as resources.
type Export struct {
	Map *directory.Map
	IDs *directory.Identifiers // that a service has given; nil: none
	// Made are the identifiers that what was written makes up, as none was given.
	Made   directory.Made
	Limits directory.Limits // of what the service takes in one request
}

func (x *Export) id(e *estate.Estate, id estate.ID) string {
	if given, _, _, ok := x.IDs.Of(e, id); ok {
		return given
	}
	x.Made.Note(ID(e, id))
	return ID(e, id)
}

// Carries says what resources hold.
func (x *Export) Carries() directory.Carries {
	return directory.Carries{
		Controls: true,
		Settings: []string{
			"title",
			"about",
			"managed-in",
		},
		Also:        true,
		AlsoPeople:  true,
		AlsoOutside: true,
		Owners:      true,
		Moderators:  true,
		Names:       true,
		Attributes:  func(name, _ string) bool { _, ok := x.Map.FieldOf(name); return ok },
		OneValue:    true,
		Mailbox:     func(m estate.MailboxState) bool { return m == estate.MailboxClosed },
		Rules:       func(estate.MemberRule) bool { return true },
		Unnamed:     true,
	}
}

// Write writes an estate as a list of resources.
func (x *Export) Write(w io.Writer, e *estate.Estate) error {
	var resources []any
	for i := range e.People() {
		resources = append(resources, x.User(e, e.PersonID(i)))
	}
	for g := range estate.ID(e.Groups()) {
		resources = append(resources, x.Group(e, g))
	}
	return encode(
		w,
		map[string]any{
			"schemas":      []string{ListSchema},
			"totalResults": len(resources),
			"startIndex":   1,
			"itemsPerPage": len(resources),
			"Resources":    resources,
		},
	)
}

// late are the control characters that package json leaves as they are. They stand
// in strings only.
var late = regexp.MustCompile(`[\x{7f}-\x{9f}]`)

func encode(w io.Writer, value any) error {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(value); err != nil {
		return err
	}
	data := late.ReplaceAllFunc(b.Bytes(), func(c []byte) []byte {
		r, _ := utf8.DecodeRune(c)
		return fmt.Appendf(nil, `\u%04x`, r)
	})
	_, err := w.Write(data)
	return err
}

// User returns a person as a resource (RFC 7643, section 4.1).
func (x *Export) User(e *estate.Estate, id estate.ID) map[string]any {
	p := e.Person(id)
	emails := []map[string]any{{"value": p.Address.String(), "primary": true, "type": "work"}}
	for _, a := range p.Also {
		emails = append(emails, map[string]any{"value": a.String(), "type": "other"})
	}
	user := map[string]any{
		"schemas":  []string{userSchema},
		"id":       x.id(e, id),
		"userName": p.Address.String(),
		"emails":   emails,
		"active":   p.Mailbox != estate.MailboxClosed,
		"meta":     map[string]any{"resourceType": "User"},
	}
	if p.Name != "" {
		user["displayName"], user["name"] = p.Name, map[string]any{"formatted": p.Name}
	}
	extension := map[string]any{}
	for _, f := range e.Attributes(id) {
		to, ok := x.Map.FieldOf(f.Name)
		switch {
		case !ok || user[to] != nil || extension[to] != nil: // a list is none of the schema's
		case slices.Contains(enterprise, to):
			extension[to] = f.Value
		default:
			user[to] = f.Value
		}
	}
	if len(extension) > 0 {
		user["schemas"], user[enterpriseSchema] = []string{userSchema, enterpriseSchema}, extension
	}
	return user
}

// Group returns a group as a resource (RFC 7643, section 4.2), with an extension
// for its addresses and what else RFC 7643 has no place for.
func (x *Export) Group(e *estate.Estate, g estate.ID) map[string]any {
	resource := x.newGroup(e, g)
	resource["id"], resource["meta"] = x.id(e, g), map[string]any{"resourceType": "Group"}
	return resource
}

// newGroup returns a group as a resource that has no identifier yet.
func (x *Export) newGroup(e *estate.Estate, g estate.ID) map[string]any {
	group := e.Group(g)
	extension := map[string]any{}
	if len(group.Also) > 0 {
		extension["also"] = addresses(group.Also)
	}
	if group.About != "" {
		extension["about"] = group.About
	}
	if len(group.Owners) > 0 {
		extension["owners"] = x.listed(e, group.Owners)
	}
	if len(group.Moderators) > 0 {
		extension["moderators"] = x.listed(e, group.Moderators)
	}
	if rules := ruleTexts(e.Rules(g)); len(rules) > 0 {
		extension["rules"] = rules
	}
	name := group.Title
	if name == "" {
		name = group.Address.String()
	}
	members := []map[string]any{}
	for _, entry := range e.Entries(g) {
		if !entry.Member.IsNobody() {
			members = append(members, x.member(e, entry.Member))
		}
	}
	resource := map[string]any{
		"schemas":     []string{groupSchema, Extension},
		"displayName": name,
		"members":     members,
		Extension:     extension,
	}
	x.putAddress(resource, group.Address)
	return resource
}

// addressAt returns the extension and the attribute in which the address of a group is
// kept: where the service has it, and else in an extension of our own.
func (x *Export) addressAt() (schema, name string) {
	at := Extension + ":address"
	if x.IDs != nil && x.IDs.AddressAt != "" {
		at = x.IDs.AddressAt
	}
	if i := strings.LastIndexByte(at, ':'); i >= 0 {
		return at[:i], at[i+1:]
	}
	return "", at
}

// addressValue returns an address as the attribute that holds it wants it: emails are
// objects (RFC 7643, section 2.4).
func addressValue(name string, a address.Address) any {
	if name == "emails" {
		return []map[string]any{{"value": a.String(), "primary": true}}
	}
	return a.String()
}

// putAddress puts the address of a group into a resource.
func (x *Export) putAddress(resource map[string]any, a address.Address) {
	schema, name := x.addressAt()
	if schema == "" {
		resource[name] = addressValue(name, a)
		return
	}
	extension, ok := resource[schema].(map[string]any)
	if !ok {
		extension = map[string]any{}
		resource[schema] = extension
		resource["schemas"] = append(resource["schemas"].([]string), schema)
	}
	extension[name] = addressValue(name, a)
}

func addresses(list []address.Address) []string {
	var out []string
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}

func (x *Export) member(e *estate.Estate, id estate.ID) map[string]any {
	kind := "User"
	if e.IsGroup(id) {
		kind = "Group"
	}
	return map[string]any{"value": x.id(e, id), "type": kind, "display": e.Address(id).String()}
}

func (x *Export) listed(e *estate.Estate, list []estate.Listed) []map[string]any {
	out := []map[string]any{}
	for _, one := range list {
		if !one.ID.IsNobody() {
			out = append(out, x.member(e, one.ID))
		}
	}
	return out
}

func ruleTexts(rules []estate.MemberRule) []string {
	var out []string
	for _, rule := range rules {
		if rule.Filter == nil {
			out = append(out, "everyone")
		} else {
			out = append(out, "where "+rule.Filter.String())
		}
	}
	return out
}
