package standin

import (
	"encoding/json"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/scim"
	"yorvet.example/yorvet/internal/estatefile"
)

type group = estatefile.NewGroup

// scimChange is a change of the estate that requests make.
type scimChange struct {
	e       *estate.Estate
	content *estatefile.Content
	made    map[string]string // by bulkId: the address of a group that has been created
	changed bool
}

func newSCIMChange(e *estate.Estate) *scimChange {
	return &scimChange{e: e, content: directory.ContentOf(e), made: map[string]string{}}
}

// find returns the group with an identifier.
func (c *scimChange) find(id string) (*group, error) {
	for i := range c.content.Groups {
		a, err := address.Parse(c.content.Groups[i].Fields[0].Text)
		if err == nil && strings.EqualFold(a.Key(), id) {
			return &c.content.Groups[i], nil
		}
	}
	return nil, &scimError{http.StatusNotFound, "", "there is no group " + id}
}

// operation is one of a PATCH request (RFC 7644, section 3.5.2).
type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value"`
}

// patch changes a group.
func (c *scimChange) patch(id string, data json.RawMessage) (any, error) {
	g, err := c.find(id)
	if err != nil {
		return nil, err
	}
	var request struct {
		Schemas    []string    `json:"schemas"`
		Operations []operation `json:"Operations"`
	}
	if err := json.Unmarshal(data, &request); err != nil {
		return nil, badSCIM("invalidSyntax", "this is no PatchOp: %s", scim.Problem(err))
	}
	if !slices.Contains(request.Schemas, scim.PatchSchema) {
		return nil, badSCIM("invalidSyntax", "schemas lacks %s", scim.PatchSchema)
	}
	for _, one := range request.Operations {
		if err := c.apply(g, one); err != nil {
			return nil, err
		}
	}
	c.changed = true
	return changedGroup(g.Fields[0].Text), nil
}

// apply makes one operation of a group.
func (c *scimChange) apply(g *group, one operation) error {
	op := strings.ToLower(one.Op)
	if op != "add" && op != "replace" && op != "remove" {
		return badSCIM("invalidSyntax", "there is no operation %q, expected add, replace or remove", one.Op)
	}
	if one.Path == "" {
		// The value is a part of the resource: each of its attributes is a path.
		object, ok := one.Value.(map[string]any)
		if !ok || op == "remove" {
			return badSCIM("noTarget", "the operation has no path, and no value that is a part of a group")
		}
		for _, name := range slices.Sorted(maps.Keys(object)) {
			value := object[name]
			if extension, ok := value.(map[string]any); ok && strings.EqualFold(name, scim.Extension) {
				for _, inner := range slices.Sorted(maps.Keys(extension)) {
					if err := c.set(g, op, inner, extension[inner]); err != nil {
						return err
					}
				}
				continue
			}
			if err := c.set(g, op, name, value); err != nil {
				return err
			}
		}
		return nil
	}
	path := one.Path
	if len(path) > len(scim.Extension)+1 && strings.EqualFold(path[:len(scim.Extension)+1], scim.Extension+":") {
		path = path[len(scim.Extension)+1:]
	} else if len(path) > 8 && strings.EqualFold(path[:8], "members[") && strings.HasSuffix(path, "]") {
		attribute, value, ok := parseEq(path[8 : len(path)-1])
		if !ok || !strings.EqualFold(attribute, "value") || op != "remove" {
			return badSCIM("invalidPath", "of paths with a filter only remove of members[value eq \"ID\"] is taken, not %s", one.Path)
		}
		return c.dropMember(g, value)
	}
	return c.set(g, op, path, one.Value)
}

// set makes an operation of an attribute.
func (c *scimChange) set(g *group, op, name string, value any) error {
	switch strings.ToLower(name) {
	case "members":
		return c.setMembers(g, op, value)
	case "owners", "moderators":
		return c.setListed(g, op, strings.ToLower(name), value)
	case "also":
		texts, err := textsOf(value)
		if err != nil {
			return err
		}
		return setList(g, op, "also", texts)
	case "rules":
		return c.setRules(g, op, value)
	case "displayname":
		text, _ := value.(string)
		if strings.EqualFold(text, g.Fields[0].Text) {
			text = ""
		}
		setText(g, "title", text)
	case "about":
		text, _ := value.(string)
		setText(g, "about", text)
	case "address":
		text, _ := value.(string)
		if _, err := address.Parse(text); err != nil || op == "remove" {
			return badSCIM("invalidValue", "a group needs an address, and %q is none", text)
		}
		c.readdress(g.Fields[0].Text, text)
	case "id", "schemas", "meta", "externalid":
	default:
		return badSCIM("invalidPath", "a group has no attribute %s that can be changed", name)
	}
	return nil
}

// readdress gives a group another address, also where it is listed.
func (c *scimChange) readdress(old, now string) {
	for i := range c.content.Groups {
		g := &c.content.Groups[i]
		for j, f := range g.Fields {
			if f.Name == "address" && f.Text == old {
				g.Fields[j].Text = now
			}
			for k, text := range f.List {
				if text == old && (f.Name == "owners" || f.Name == "moderators") {
					g.Fields[j].List[k] = now
				}
			}
		}
		for j := range g.Members {
			if g.Members[j].Address == old {
				g.Members[j].Address = now
			}
		}
	}
}

func setText(g *group, name, text string) {
	g.Fields = slices.DeleteFunc(g.Fields, func(f estatefile.Field) bool { return f.Name == name })
	if text != "" {
		g.Fields = append(g.Fields, estatefile.Field{Name: name, Text: text})
	}
}

// setList adds to a list of texts, or makes or removes it.
func setList(g *group, op, name string, texts []string) error {
	var list []string
	g.Fields = slices.DeleteFunc(g.Fields, func(f estatefile.Field) bool {
		if f.Name == name {
			list = f.List
		}
		return f.Name == name
	})
	if op != "add" {
		list = nil
	}
	if op != "remove" {
		for _, text := range texts {
			if !slices.Contains(list, text) {
				list = append(list, text)
			}
		}
	}
	if len(list) > 0 {
		g.Fields = append(g.Fields, estatefile.Field{Name: name, List: list})
	}
	return nil
}

func textsOf(value any) ([]string, error) {
	var texts []string
	for _, one := range listOf(value) {
		text, ok := one.(string)
		if !ok {
			return nil, badSCIM("invalidValue", "expected texts, not %v", one)
		}
		texts = append(texts, text)
	}
	return texts, nil
}

// listOf returns a value as a list: one that is none is its only item.
func listOf(value any) []any {
	switch value := value.(type) {
	case nil:
		return nil
	case []any:
		return value
	}
	return []any{value}
}

func (c *scimChange) setListed(g *group, op, name string, value any) error {
	var texts []string
	for _, one := range listOf(value) {
		text, err := c.member(one)
		if err != nil {
			return err
		}
		texts = append(texts, text)
	}
	return setList(g, op, name, texts)
}

// setMembers adds members, or makes them those that are named. Who stays keeps
// what they chose.
func (c *scimChange) setMembers(g *group, op string, value any) error {
	if op == "remove" && value != nil {
		for _, one := range listOf(value) {
			object, _ := one.(map[string]any)
			id, _ := object["value"].(string)
			if err := c.dropMember(g, id); err != nil {
				return err
			}
		}
		return nil
	}
	var wanted []string
	for _, one := range listOf(value) {
		text, err := c.member(one)
		if err != nil {
			return err
		}
		wanted = append(wanted, text)
	}
	if op != "add" {
		g.Members = slices.DeleteFunc(
			g.Members,
			func(m estatefile.Member) bool { return m.Address != "" && !slices.Contains(wanted, m.Address) },
		)
	}
	for _, text := range wanted {
		if !slices.ContainsFunc(
			g.Members,
			func(m estatefile.Member) bool { return strings.EqualFold(m.Address, text) },
		) {
			g.Members = append(g.Members, estatefile.Member{Address: text})
		}
	}
	return nil
}

func (c *scimChange) dropMember(g *group, id string) error {
	before := len(g.Members)
	g.Members = slices.DeleteFunc(g.Members, func(m estatefile.Member) bool {
		a, err := address.Parse(m.Address)
		return err == nil && strings.EqualFold(a.Key(), id)
	})
	if len(g.Members) == before {
		return badSCIM("noTarget", "%s is no member", id)
	}
	return nil
}

// setRules makes the rules for members those that are given.
func (c *scimChange) setRules(g *group, op string, value any) error {
	texts, err := textsOf(value)
	if err != nil {
		return err
	}
	if op != "add" {
		g.Members = slices.DeleteFunc(g.Members, func(m estatefile.Member) bool { return m.Address == "" })
	}
	for _, text := range texts {
		filter, isRule := strings.CutPrefix(text, "where ")
		if !isRule && text != "everyone" {
			return badSCIM("invalidValue", "expected everyone, or where and a filter, not %q", text)
		}
		m := estatefile.Member{Everyone: !isRule}
		if isRule {
			m.Where = filter
		}
		g.Members = append(g.Members, m)
	}
	return nil
}

// create adds a group.
func (c *scimChange) create(data json.RawMessage) (any, error) {
	var resource map[string]any
	if err := json.Unmarshal(data, &resource); err != nil {
		return nil, badSCIM("invalidSyntax", "this is no group: %s", scim.Problem(err))
	}
	extension, _ := resource[scim.Extension].(map[string]any)
	text, _ := extension["address"].(string)
	if text == "" {
		text, _ = resource["displayName"].(string)
	}
	a, err := address.Parse(text)
	if err != nil {
		return nil, badSCIM("invalidValue", "a group needs an address in %s: %v", scim.Extension, err)
	}
	if _, taken := c.e.Exact(a); taken {
		return nil, &scimError{http.StatusConflict, "uniqueness", text + " is taken"}
	}
	g := group{Fields: []estatefile.Field{{Name: "address", Text: a.String()}}}
	delete(resource, "id")
	delete(extension, "address")
	if err := c.apply(&g, operation{Op: "add", Value: resource}); err != nil {
		return nil, err
	}
	c.content.Groups = append(c.content.Groups, g)
	c.changed = true
	return changedGroup(a.Key()), nil
}

// remove takes a group out, and out of those that list it.
func (c *scimChange) remove(id string) error {
	g, err := c.find(id)
	if err != nil {
		return err
	}
	gone := g.Fields[0].Text
	c.content.Groups = slices.DeleteFunc(c.content.Groups, func(g group) bool { return g.Fields[0].Text == gone })
	for i := range c.content.Groups {
		g := &c.content.Groups[i]
		g.Members = slices.DeleteFunc(g.Members, func(m estatefile.Member) bool { return m.Address == gone })
		for j := range g.Fields {
			if f := &g.Fields[j]; f.Name == "owners" || f.Name == "moderators" {
				f.List = slices.DeleteFunc(f.List, func(text string) bool { return text == gone })
			}
		}
	}
	c.changed = true
	return nil
}

// bulk makes several changes (RFC 7644, section 3.7): all of them, or none.
func (c *scimChange) bulk(data json.RawMessage) (any, error) {
	var request struct {
		Schemas    []string `json:"schemas"`
		Operations []struct {
			Method string          `json:"method"`
			Path   string          `json:"path"`
			BulkID string          `json:"bulkId"`
			Data   json.RawMessage `json:"data"`
		} `json:"Operations"`
	}
	if err := json.Unmarshal(data, &request); err != nil {
		return nil, badSCIM("invalidSyntax", "this is no BulkRequest: %s", scim.Problem(err))
	}
	if !slices.Contains(request.Schemas, scim.BulkSchema) || len(request.Operations) > mostBulk {
		return nil, badSCIM("invalidSyntax", "expected %s with at most %d operations", scim.BulkSchema, mostBulk)
	}
	// What is created comes first, so that others may refer to it.
	order := make([]int, 0, len(request.Operations))
	for _, posts := range []bool{true, false} {
		for i, one := range request.Operations {
			if (one.Method == http.MethodPost) == posts {
				order = append(order, i)
			}
		}
	}
	for _, i := range order {
		if one := request.Operations[i]; one.Method == http.MethodPost && one.BulkID != "" {
			var resource map[string]any
			if json.Unmarshal(one.Data, &resource) == nil {
				if extension, ok := resource[scim.Extension].(map[string]any); ok {
					c.made[one.BulkID], _ = extension["address"].(string)
				}
			}
		}
	}
	answers := make([]map[string]any, len(request.Operations))
	for _, i := range order {
		one := request.Operations[i]
		id, isGroup := strings.CutPrefix(one.Path, "/Groups/")
		status := http.StatusOK
		id, err := url.PathUnescape(id)
		switch {
		case err != nil:
			err = badSCIM("invalidPath", "%v", err)
		case one.Method == http.MethodPost && one.Path == "/Groups":
			status = http.StatusCreated
			_, err = c.create(one.Data)
		case one.Method == http.MethodPatch && isGroup:
			_, err = c.patch(id, one.Data)
		case one.Method == http.MethodDelete && isGroup:
			status = http.StatusNoContent
			err = c.remove(id)
		default:
			err = badSCIM(
				"invalidPath",
				"%s %s is none of POST /Groups, PATCH /Groups/ID and DELETE /Groups/ID",
				one.Method,
				one.Path,
			)
		}
		if err != nil {
			return nil, err
		}
		answers[i] = map[string]any{"method": one.Method, "status": strconv.Itoa(status)}
		if one.BulkID != "" {
			answers[i]["bulkId"] = one.BulkID
		}
	}
	return map[string]any{
		"schemas":    []string{"urn:ietf:params:scim:api:messages:2.0:BulkResponse"},
		"Operations": answers,
	}, nil
}
