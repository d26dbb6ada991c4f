package standin

import (
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/directory/scim"
)

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
	if len(c.gone) > 0 {
		if err := c.flush(); err != nil {
			return nil, err
		}
	}
	if _, taken := c.e.Exact(a); taken || c.coming[a.Key()] {
		return nil, &scimError{http.StatusConflict, "uniqueness", text + " is taken"}
	}
	c.coming[a.Key()] = true // a group may list itself
	g := change.AddGroup{Address: a}
	for _, p := range attributes("add", resource) {
		if err := c.describe(&g, p); err != nil {
			return nil, err
		}
	}
	c.add(g)
	return changedGroup(a.Key()), nil
}

// describe makes an attribute one of a new group.
func (c *scimChange) describe(g *change.AddGroup, p part) error {
	say := func(setting string, texts ...string) {
		if len(texts) > 0 && texts[0] != "" {
			g.Settings = append(g.Settings, change.Said{Setting: setting, Texts: texts})
		}
	}
	switch name := strings.ToLower(p.name); name {
	case "members":
		for _, one := range listOf(p.value) {
			a, err := c.member(one)
			if err != nil {
				return err
			}
			g.Members = append(g.Members, change.Member{Address: a})
		}
	case "rules":
		rules, err := memberRules(p.value)
		g.Members = append(g.Members, rules...)
		return err
	case "owners", "moderators", "also":
		texts, err := c.texts(name, p.value)
		say(name, texts...)
		return err
	case "displayname":
		if text, _ := p.value.(string); !strings.EqualFold(text, g.Address.String()) {
			say("title", text)
		}
	case "about":
		text, _ := p.value.(string)
		say("about", text)
	case "address", "id", "schemas", "meta", "externalid":
	default:
		return badSCIM("invalidPath", "a group has no attribute %s that can be changed", p.name)
	}
	return nil
}

// remove takes a group out, and out of those that list it.
func (c *scimChange) remove(id string) error {
	if len(c.pending) > len(c.gone) { // others than removals
		if err := c.flush(); err != nil {
			return err
		}
	}
	g, ok := whose(c.e, id)
	if !ok || !c.e.IsGroup(g) || slices.Contains(c.gone, g) {
		return &scimError{http.StatusNotFound, "", "there is no group " + id}
	}
	c.add(change.RemoveGroup{Group: g})
	c.gone = append(c.gone, g)
	return nil
}

// bulkOperation is one of a BulkRequest (RFC 7644, section 3.7).
type bulkOperation struct {
	Method string          `json:"method"`
	Path   string          `json:"path"`
	BulkID string          `json:"bulkId"`
	Data   json.RawMessage `json:"data"`
}

// promise notes the address of a group that an operation is to create, for those that
// refer to it.
func (c *scimChange) promise(one bulkOperation) {
	var resource map[string]any
	if one.Method != http.MethodPost || one.BulkID == "" || json.Unmarshal(one.Data, &resource) != nil {
		return
	}
	if extension, ok := resource[scim.Extension].(map[string]any); ok {
		c.made[one.BulkID], _ = extension["address"].(string)
	}
}

// one makes one operation of a BulkRequest, and returns its status.
func (c *scimChange) one(o bulkOperation) (int, error) {
	id, isGroup := strings.CutPrefix(o.Path, "/Groups/")
	id, err := url.PathUnescape(id)
	switch {
	case err != nil:
		return 0, badSCIM("invalidPath", "%v", err)
	case o.Method == http.MethodPost && o.Path == "/Groups":
		_, err = c.create(o.Data)
		return http.StatusCreated, err
	case o.Method == http.MethodPatch && isGroup:
		_, err = c.patch(id, o.Data)
		return http.StatusOK, err
	case o.Method == http.MethodDelete && isGroup:
		return http.StatusNoContent, c.remove(id)
	}
	const text = "%s %s is none of POST /Groups, PATCH /Groups/ID and DELETE /Groups/ID"
	return 0, badSCIM("invalidPath", text, o.Method, o.Path)
}

// bulk makes several changes (RFC 7644, section 3.7): all of them, or none.
func (c *scimChange) bulk(data json.RawMessage) (any, error) {
	var request struct {
		Schemas    []string        `json:"schemas"`
		Operations []bulkOperation `json:"Operations"`
	}
	if err := json.Unmarshal(data, &request); err != nil {
		return nil, badSCIM("invalidSyntax", "this is no BulkRequest: %s", scim.Problem(err))
	}
	if !slices.Contains(request.Schemas, scim.BulkSchema) || len(request.Operations) > mostBulk {
		return nil, badSCIM("invalidSyntax", "expected %s with at most %d operations", scim.BulkSchema, mostBulk)
	}
	for _, one := range request.Operations {
		c.promise(one)
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
	answers := make([]map[string]any, len(request.Operations))
	for _, i := range order {
		one := request.Operations[i]
		status, err := c.one(one)
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
