package scim

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
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
	Made directory.Made
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

// WriteDifference writes what has to be done in a service as one bulk request
// (RFC 7644, section 3.7), whose operations are those of section 3.5.2 for groups
// that change, and POST and DELETE for those that come and go. It returns what
// cannot be said so.
func (x *Export) WriteDifference(w io.Writer, d *directory.Difference) ([]directory.Loss, error) {
	c := &changes{Export: x, d: d}
	operations := []any{}
	for i := range d.Groups {
		if one := c.group(&d.Groups[i]); one != nil {
			operations = append(operations, one)
		}
	}
	return c.losses, encode(w, map[string]any{"schemas": []string{BulkSchema}, "Operations": operations})
}

type changes struct {
	*Export
	d      *directory.Difference
	losses []directory.Loss
}

func (c *changes) lose(what string, g *directory.GroupDifference) {
	c.losses = append(c.losses, directory.Loss{What: what, Count: 1, Example: c.d.New.Address(g.New).String()})
}

func (c *changes) group(g *directory.GroupDifference) any {
	switch {
	case g.Old == estate.None:
		c.losses = append(c.losses, directory.GroupLosses(c.d.New, g.New, c.Carries())...)
		return map[string]any{"method": "POST", "path": "/Groups", "bulkId": ID(c.d.New, g.New),
			"data": c.newGroup(c.d.New, g.New)}
	case g.New == estate.None:
		return map[string]any{"method": "DELETE", "path": "/Groups/" + url.PathEscape(c.id(c.d.Old, g.Old))}
	}
	var operations []any
	set := func(op, path string, value any) {
		one := map[string]any{"op": op, "path": path}
		if value != nil {
			one["value"] = value
		}
		operations = append(operations, one)
	}
	c.fields(g, set)
	c.members(g, set)
	for _, field := range g.OtherChanges {
		c.lose(field, g)
	}
	if len(operations) == 0 {
		return nil
	}
	return map[string]any{"method": "PATCH", "path": "/Groups/" + url.PathEscape(c.id(c.d.Old, g.Old)),
		"data": map[string]any{"schemas": []string{PatchSchema}, "Operations": operations}}
}

// fields sets the settings of a group that differ.
func (c *changes) fields(g *directory.GroupDifference, set func(op, path string, value any)) {
	now := c.d.New.Group(g.New)
	replace := func(field, path string, value any, empty bool) {
		switch {
		case !slices.Contains(g.Fields, field):
		case empty:
			set("remove", path, nil)
		default:
			set("replace", path, value)
		}
	}
	name := now.Title
	if name == "" {
		name = now.Address.String()
	}
	schema, at := c.addressAt()
	path := at
	if schema != "" {
		path = schema + ":" + at
	}
	replace("address", path, addressValue(at, now.Address), false)
	if path != "displayName" {
		replace("title", "displayName", name, false)
	} else if slices.Contains(g.Fields, "title") {
		c.lose("title", g)
	}
	replace("also", Extension+":also", addresses(now.Also), len(now.Also) == 0)
	replace("about", Extension+":about", now.About, now.About == "")
	replace("owners", Extension+":owners", c.listed(c.d.New, now.Owners), len(now.Owners) == 0)
	replace("moderators", Extension+":moderators", c.listed(c.d.New, now.Moderators), len(now.Moderators) == 0)
	if len(g.AddRules)+len(g.DropRules) > 0 {
		rules := ruleTexts(c.d.New.Rules(g.New))
		if len(rules) == 0 {
			set("remove", Extension+":rules", nil)
		} else {
			set("replace", Extension+":rules", rules)
		}
	}
}

// members adds and takes out members of a group.
func (c *changes) members(g *directory.GroupDifference, set func(op, path string, value any)) {
	var added []map[string]any
	for _, id := range g.Add {
		if m, ok := c.newMember(g, id); ok {
			added = append(added, m)
		}
	}
	if len(added) > 0 {
		set("add", "members", added)
	}
	for _, id := range g.Drop {
		if !id.IsNobody() {
			value := strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(c.id(c.d.Old, id))
			set("remove", `members[value eq "`+value+`"]`, nil)
		}
	}
}

// newMember returns a member that is added. A group that comes by the same
// request is named by its bulkId (RFC 7644, section 3.7.2); who is not in the
// service is a loss.
func (c *changes) newMember(g *directory.GroupDifference, id estate.ID) (map[string]any, bool) {
	comes := slices.ContainsFunc(
		c.d.Groups,
		func(other directory.GroupDifference) bool { return other.Old == estate.None && other.New == id },
	)
	if comes {
		return map[string]any{"value": "bulkId:" + ID(c.d.New, id), "type": "Group"}, true
	}
	if _, _, _, known := c.IDs.Of(c.d.New, id); c.IDs != nil && !known || id.IsNobody() {
		c.losses = append(c.losses, directory.Loss{What: "a member without a resource in the service", Count: 1,
			Example: c.d.New.Address(id).String() + " in " + c.d.New.Address(g.New).String()})
		return nil, false
	}
	return c.member(c.d.New, id), true
}
