package scim

import (
	"bytes"
	"encoding/json"
	"io"
	"net/url"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
)

// WriteDifference writes what has to be done in a service as a bulk request (RFC 7644,
// section 3.7), whose operations are those of section 3.5.2 for groups that change, and
// POST and DELETE for those that come and go. What is more than the service takes in one
// request becomes several, one a line; without bulk requests each line is one operation,
// with its method, path and data. It returns how many requests there are, and what cannot
// be said so.
func (x *Export) WriteDifference(w io.Writer, d *directory.Difference) (requests int, losses []directory.Loss,
	err error) {
	c := &changes{Export: x, d: d, request: make([]int, len(d.Groups))}
	operations := c.operations()
	if requests = c.divide(operations); requests == 1 && !x.Limits.Single {
		return 1, c.losses, encode(w, bulkRequest(c.present(operations)))
	}
	// Who is in another request cannot be referred to, so it is said again.
	c.losses = nil
	operations = c.operations()
	for n := range requests {
		var list []any
		for i, one := range operations {
			if one != nil && c.request[i] == n {
				list = append(list, one)
			}
		}
		var request any = bulkRequest(list)
		if x.Limits.Single {
			delete(list[0].(map[string]any), "bulkId")
			request = list[0]
		}
		if err := encodeLine(w, request); err != nil {
			return 0, nil, err
		}
	}
	return requests, c.losses, nil
}

func bulkRequest(operations []any) map[string]any {
	return map[string]any{"schemas": []string{BulkSchema}, "Operations": operations}
}

type changes struct {
	*Export
	d       *directory.Difference
	request []int // by group of the difference: in which request it is, or left out
	losses  []directory.Loss
}

// leftOut stands for the request of what no request can hold.
const leftOut = -1

// operations returns the operation for each group, or nil.
func (c *changes) operations() []any {
	list := make([]any, len(c.d.Groups))
	for i := range c.d.Groups {
		switch one := c.group(i); {
		case c.request[i] == leftOut:
			c.lose("what is larger than the service takes in a request", &c.d.Groups[i])
		case one != nil:
			list[i] = one
		}
	}
	return list
}

func (c *changes) present(operations []any) []any {
	list := []any{}
	for _, one := range operations {
		if one != nil {
			list = append(list, one)
		}
	}
	return list
}

// divide puts operations into requests, as many as the limits ask for.
func (c *changes) divide(operations []any) (requests int) {
	held, size := 0, 0
	for i, one := range operations {
		if one == nil {
			continue
		}
		data, _ := json.Marshal(one) // of maps, lists and texts
		if c.Limits.Bytes > 0 && len(data)+envelope > c.Limits.Bytes {
			c.request[i] = leftOut
			continue
		}
		full := c.Limits.Single || c.Limits.Operations > 0 && held == c.Limits.Operations ||
			c.Limits.Bytes > 0 && size+len(data)+1+envelope > c.Limits.Bytes
		if requests == 0 || full {
			requests, held, size = requests+1, 0, 0
		}
		held, size = held+1, size+len(data)+1
		c.request[i] = requests - 1
	}
	if requests == 0 && !slices.Contains(c.request, leftOut) && !c.Limits.Single {
		return 1 // one that asks for nothing
	}
	return requests
}

// envelope is how many bytes a bulk request has beside its operations, at most.
const envelope = 128

// encodeLine writes a value on one line.
func encodeLine(w io.Writer, value any) error {
	var indented, b bytes.Buffer
	if err := encode(&indented, value); err != nil {
		return err
	}
	if err := json.Compact(&b, indented.Bytes()); err != nil {
		return err
	}
	b.WriteByte('\n')
	_, err := w.Write(b.Bytes())
	return err
}

func (c *changes) lose(what string, g *directory.GroupDifference) {
	c.losses = append(c.losses, directory.Loss{What: what, Count: 1, Example: c.d.New.Address(g.New).String()})
}

// group returns the operation for a group, or nil.
func (c *changes) group(i int) any {
	g := &c.d.Groups[i]
	switch {
	case g.Old == estate.None:
		c.losses = append(c.losses, directory.GroupLosses(c.d.New, g.New, c.Carries())...)
		data := c.newGroup(c.d.New, g.New)
		members := []map[string]any{}
		for _, entry := range c.d.New.Entries(g.New) {
			if m, ok := c.newMember(i, entry.Member); ok {
				members = append(members, m)
			}
		}
		data["members"] = members
		return map[string]any{"method": "POST", "path": "/Groups", "bulkId": ID(c.d.New, g.New), "data": data}
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
	c.members(i, set)
	for _, field := range g.OtherChanges {
		c.lose(field, g)
	}
	if len(g.Memberships) > 0 {
		c.lose("what members chose", g)
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
func (c *changes) members(i int, set func(op, path string, value any)) {
	g := &c.d.Groups[i]
	var added []map[string]any
	for _, id := range g.Add {
		if m, ok := c.newMember(i, id); ok {
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

// newMember returns a member that is added to a group of the difference. A group that
// comes by the same request is named by its bulkId (RFC 7644, section 3.7.2); who is not in
// the service yet is a loss.
func (c *changes) newMember(group int, id estate.ID) (map[string]any, bool) {
	in := c.d.New.Address(c.d.Groups[group].New).String()
	comes := slices.IndexFunc(c.d.Groups, func(other directory.GroupDifference) bool {
		return other.Old == estate.None && other.New == id
	})
	_, _, _, known := c.IDs.Of(c.d.New, id)
	switch {
	case comes >= 0 && !c.Limits.Single && c.request[comes] == c.request[group]:
		return map[string]any{"value": "bulkId:" + ID(c.d.New, id), "type": "Group"}, true
	case comes >= 0:
		c.losses = append(c.losses, directory.Loss{What: "a member that comes by another request, so export again " +
			"after that,",
			Count: 1, Example: c.d.New.Address(id).String() + " in " + in})
		return nil, false
	case c.IDs != nil && !known || id.IsNobody():
		c.losses = append(c.losses, directory.Loss{What: "a member without a resource in the service", Count: 1,
			Example: c.d.New.Address(id).String() + " in " + in})
		return nil, false
	}
	return c.member(c.d.New, id), true
}
