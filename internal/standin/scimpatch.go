package standin

import (
	"encoding/json"
	"maps"
	"net/http"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/directory/scim"
)

// scimChange is a change of the estate that requests make, of several operations.
// What they do is collected for as long as one does not depend on another, since it
// takes as long to make an estate for one of them as for all.
type scimChange struct {
	e       *estate.Estate
	pending []change.Change
	touched map[estate.ID]map[string]bool // by group: what pending changes are about
	coming  map[string]bool               // groups that pending changes add, by key of the address
	gone    []estate.ID                   // groups that pending changes remove
	made    map[string]string             // by bulkId: the address of a group that has been created
	changed bool
}

func newSCIMChange(e *estate.Estate) *scimChange {
	c := &scimChange{e: e, made: map[string]string{}}
	c.begin()
	return c
}

func (c *scimChange) begin() {
	c.pending, c.gone = nil, nil
	c.touched, c.coming = map[estate.ID]map[string]bool{}, map[string]bool{}
}

// flush makes the changes that are pending.
func (c *scimChange) flush() error {
	if len(c.pending) == 0 {
		return nil
	}
	e, err := change.Apply(c.e, append(c.pending, change.Cascade(c.e, c.gone, nil)...)...)
	if err != nil {
		return badSCIM("invalidValue", "the estate would not hold: %v", err)
	}
	c.e, c.changed = e, true
	c.begin()
	return nil
}

// find returns the group with an identifier.
func (c *scimChange) find(id string) (estate.ID, error) {
	g, ok := whose(c.e, id)
	if len(c.gone) > 0 || !ok && len(c.pending) > 0 {
		if err := c.flush(); err != nil {
			return estate.None, err
		}
		g, ok = whose(c.e, id)
	}
	if !ok || !c.e.IsGroup(g) {
		return estate.None, &scimError{http.StatusNotFound, "", "there is no group " + id}
	}
	return g, nil
}

// The things of a group that changes are about, apart from settings: all members, and one
// of them.
const (
	aboutMembers = "members"
	aboutMember  = "member "
)

// about returns the group with an identifier, for a change of something of it: as it is
// after all changes that this one depends on.
func (c *scimChange) about(id, what string) (estate.ID, error) {
	g, err := c.find(id)
	if err != nil {
		return g, err
	}
	met := c.touched[g]
	clash := met[what] || met[aboutMembers] && strings.HasPrefix(what, aboutMember)
	for other := range met {
		clash = clash || what == aboutMembers && strings.HasPrefix(other, aboutMember)
	}
	if clash {
		if err := c.flush(); err != nil {
			return g, err
		}
		if g, err = c.find(id); err != nil {
			return g, err
		}
	}
	if c.touched[g] == nil {
		c.touched[g] = map[string]bool{}
	}
	c.touched[g][what] = true
	return g, nil
}

// add notes changes.
func (c *scimChange) add(changes ...change.Change) { c.pending = append(c.pending, changes...) }

// operation is one of a PATCH request (RFC 7644, section 3.5.2).
type operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value"`
}

// patch changes a group.
func (c *scimChange) patch(id string, data json.RawMessage) (any, error) {
	if _, err := c.find(id); err != nil {
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
		parts, err := one.parts()
		if err != nil {
			return nil, err
		}
		for _, part := range parts {
			if id, err = c.set(id, part); err != nil {
				return nil, err
			}
		}
	}
	return changedGroup(id), nil
}

// part is what an operation does with one attribute.
type part struct {
	op, name string
	value    any
}

// parts returns an operation by its attributes: where it has no path, its value is a
// part of the resource.
func (o operation) parts() ([]part, error) {
	op := strings.ToLower(o.Op)
	if op != "add" && op != "replace" && op != "remove" {
		return nil, badSCIM("invalidSyntax", "there is no operation %q, expected add, replace or remove", o.Op)
	}
	path, extension := o.Path, scim.Extension+":"
	switch {
	case path == "":
		object, ok := o.Value.(map[string]any)
		if !ok || op == "remove" {
			return nil, badSCIM("noTarget", "the operation has no path, and no value that is a part of a group")
		}
		return attributes(op, object), nil
	case len(path) > len(extension) && strings.EqualFold(path[:len(extension)], extension):
		path = path[len(extension):]
	case len(path) > 8 && strings.EqualFold(path[:8], "members[") && strings.HasSuffix(path, "]"):
		attribute, value, ok := parseEq(path[8 : len(path)-1])
		if !ok || !strings.EqualFold(attribute, "value") || op != "remove" {
			return nil, badSCIM("invalidPath",
				"of paths with a filter only remove of members[value eq \"ID\"] is taken, not %s", o.Path)
		}
		return []part{{op, "members", map[string]any{"value": value}}}, nil
	}
	return []part{{op, path, o.Value}}, nil
}

// attributes returns the attributes of a resource as parts, those of the extension, too.
func attributes(op string, object map[string]any) []part {
	var list []part
	for _, name := range slices.Sorted(maps.Keys(object)) {
		if inner, ok := object[name].(map[string]any); ok && strings.EqualFold(name, scim.Extension) {
			list = append(list, attributes(op, inner)...)
			continue
		}
		list = append(list, part{op, name, object[name]})
	}
	return list
}

// set changes an attribute of a group, and returns its identifier, which may have
// changed with it.
func (c *scimChange) set(id string, p part) (string, error) {
	switch name := strings.ToLower(p.name); name {
	case "members":
		return id, c.setMembers(id, p)
	case "owners", "moderators", "also":
		return id, c.setList(id, name, p)
	case "rules":
		return id, c.setRules(id, p)
	case "displayname", "about":
		return id, c.setText(id, map[string]string{"displayname": "title", "about": "about"}[name], p)
	case "address":
		return c.rename(id, p)
	case "id", "schemas", "meta", "externalid":
		return id, nil
	}
	return id, badSCIM("invalidPath", "a group has no attribute %s that can be changed", p.name)
}

func (c *scimChange) rename(id string, p part) (string, error) {
	text, _ := p.value.(string)
	to, err := address.Parse(text)
	if err != nil || p.op == "remove" {
		return id, badSCIM("invalidValue", "a group needs an address, and %q is none", text)
	}
	g, err := c.about(id, "address")
	if err != nil {
		return id, err
	}
	c.add(change.RenameGroup{Group: g, To: to, Forget: true})
	return to.Key(), c.flush()
}

func (c *scimChange) setText(id, setting string, p part) error {
	g, err := c.about(id, setting)
	if err != nil {
		return err
	}
	text, _ := p.value.(string)
	if p.op == "remove" || setting == "title" && strings.EqualFold(text, c.e.Address(g).String()) {
		text = ""
	}
	set := change.SetSetting{Group: g, Setting: setting}
	if text != "" {
		set.Texts = []string{text}
	}
	c.add(set)
	return nil
}

// texts returns a value as addresses: of the group itself, or of those that it lists.
func (c *scimChange) texts(setting string, value any) ([]string, error) {
	var list []string
	for _, one := range listOf(value) {
		if setting == "also" {
			text, ok := one.(string)
			if !ok {
				return nil, badSCIM("invalidValue", "expected texts, not %v", one)
			}
			list = append(list, text)
			continue
		}
		a, err := c.member(one)
		if err != nil {
			return nil, err
		}
		list = append(list, a.String())
	}
	return list, nil
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

// setList adds to a list of addresses, or makes or removes it.
func (c *scimChange) setList(id, setting string, p part) error {
	texts, err := c.texts(setting, p.value)
	if err != nil {
		return err
	}
	g, err := c.about(id, setting)
	if err != nil {
		return err
	}
	s, _ := estate.GroupSetting(setting)
	has := s.Texts(c.e, c.e.Group(g))
	switch {
	case p.op == "remove" && p.value != nil:
		c.add(change.SetList{Group: g, Setting: setting, Drop: texts})
	case p.op == "add":
		texts = slices.DeleteFunc(texts, func(text string) bool { return slices.Contains(has, text) })
		c.add(change.SetList{Group: g, Setting: setting, Add: texts})
	case p.op == "remove" || len(texts) == 0:
		c.add(change.SetSetting{Group: g, Setting: setting})
	default:
		c.add(change.SetSetting{Group: g, Setting: setting, Texts: texts})
	}
	return nil
}

// member returns the address of a member that a request names, who has to be known.
func (c *scimChange) member(value any) (address.Address, error) {
	object, ok := value.(map[string]any)
	if !ok {
		return address.Address{}, badSCIM("invalidValue", "expected a member such as {\"value\": ID}, not %v", value)
	}
	text, _ := object["value"].(string)
	if of, ok := strings.CutPrefix(text, "bulkId:"); ok {
		a, err := address.Parse(c.made[of])
		if err != nil {
			return a, badSCIM("invalidValue", "no operation before this one has the bulkId %s", of)
		}
		return a, nil // though its operation may come only later
	}
	if id, known := whose(c.e, text); known {
		return c.e.Address(id), nil
	}
	a, err := address.Parse(text)
	if err != nil || !c.coming[a.Key()] {
		return a, badSCIM("invalidValue", "there is no resource %q", text)
	}
	return a, nil
}

// setMembers adds members, takes some out, or makes them those that are named. Who
// stays keeps what they chose.
func (c *scimChange) setMembers(id string, p part) error {
	if p.op == "remove" && p.value != nil {
		for _, one := range listOf(p.value) {
			object, _ := one.(map[string]any)
			text, _ := object["value"].(string)
			if err := c.dropMember(id, text); err != nil {
				return err
			}
		}
		return nil
	}
	var wanted []address.Address
	for _, one := range listOf(p.value) {
		a, err := c.member(one)
		if err != nil {
			return err
		}
		wanted = append(wanted, a)
	}
	g, err := c.about(id, aboutMembers)
	if err != nil {
		return err
	}
	left := map[string]bool{}
	for _, a := range wanted {
		left[a.Key()] = true
	}
	for i, entry := range c.e.Entries(g) {
		key := c.e.Address(entry.Member).Key()
		if !left[key] && p.op != "add" {
			c.add(change.RemoveMember{Group: g, Entry: i})
		}
		left[key] = false
	}
	for _, a := range wanted {
		if left[a.Key()] {
			left[a.Key()] = false
			c.add(change.AddMember{Group: g, Member: change.Member{Address: a}})
		}
	}
	return nil
}

// dropMember takes the member with an identifier out of a group.
func (c *scimChange) dropMember(id, member string) error {
	g, err := c.about(id, aboutMember+strings.ToLower(member))
	if err != nil {
		return err
	}
	found := false
	for i, entry := range c.e.Entries(g) {
		if strings.EqualFold(c.e.Address(entry.Member).Key(), member) {
			c.add(change.RemoveMember{Group: g, Entry: i})
			found = true
		}
	}
	if !found {
		return badSCIM("noTarget", "%s is no member", member)
	}
	return nil
}

// setRules makes the rules for members those that are given, or adds them.
func (c *scimChange) setRules(id string, p part) error {
	rules, err := memberRules(p.value)
	if err != nil {
		return err
	}
	g, err := c.about(id, "rules")
	if err != nil {
		return err
	}
	if p.op != "add" {
		for i := range c.e.Rules(g) {
			c.add(change.RemoveMemberRule{Group: g, Rule: i})
		}
	}
	for _, m := range rules {
		c.add(change.AddMember{Group: g, Member: m})
	}
	return nil
}

// memberRules reads rules for members.
func memberRules(value any) ([]change.Member, error) {
	var list []change.Member
	for _, one := range listOf(value) {
		text, _ := one.(string)
		where, isRule := strings.CutPrefix(text, "where ")
		if !isRule && text != "everyone" {
			return nil, badSCIM("invalidValue", "expected everyone, or where and a filter, not %v", one)
		}
		var m change.Member
		if isRule {
			var err error
			if m.Filter, err = selector.ParseFilter(where); err != nil {
				return nil, badSCIM("invalidValue", "%v", err)
			}
		}
		list = append(list, m)
	}
	return list, nil
}
