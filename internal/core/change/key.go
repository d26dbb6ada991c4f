package change

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Key returns a text that tells changes apart: equal ones have the same.
func Key(c Change) string {
	var k key
	c.key(&k)
	return k.String()
}

// key is a text in the making, of parts that cannot be mistaken for one another.
type key struct{ strings.Builder }

func (k *key) add(kind string, id estate.ID, texts ...string) *key {
	k.WriteString(kind + " " + strconv.FormatUint(uint64(id), 10))
	return k.texts(texts...)
}

func (k *key) texts(list ...string) *key {
	k.WriteString(" [")
	for _, text := range list {
		k.WriteString(strconv.Quote(text))
	}
	k.WriteByte(']')
	return k
}

func (k *key) membership(m estate.Membership) *key {
	for _, s := range estate.MembershipSettings() {
		k.texts(s.Text(m))
	}
	return k
}

func (k *key) addresses(list ...address.Address) *key {
	for _, a := range list {
		k.texts(a.String())
	}
	return k
}

func (k *key) member(m Member) *key {
	return k.addresses(m.Address).texts(filterText(m.Filter), strconv.FormatBool(m.JustNow)).membership(m.Membership)
}

func filterText(f selector.Filter) string {
	if f == nil {
		return ""
	}
	return f.String()
}

// said adds a list that may be empty or missing, which is not the same.
func (k *key) said(setting string, texts []string) *key {
	return k.texts(setting, strconv.FormatBool(texts == nil)).texts(texts...)
}

func (c SetSetting) key(k *key) { k.add("set", c.Group).said(c.Setting, c.Texts) }
func (c SetList) key(k *key)    { k.add("list", c.Group, c.Setting).texts(c.Drop...).texts(c.Add...) }
func (c InsertRule) key(k *key) {
	k.add("insert rule", c.Group, c.Setting, strconv.Itoa(c.At), c.Text)
}
func (c SetRule) key(k *key)    { k.add("set rule", c.Group, c.Setting, strconv.Itoa(c.At), c.Text) }
func (c RemoveRule) key(k *key) { k.add("remove rule", c.Group, c.Setting, strconv.Itoa(c.At)) }

func (c AddMember) key(k *key) { k.add("add member", c.Group).member(c.Member) }
func (c SetMember) key(k *key) {
	k.add("set member", c.Group, strconv.Itoa(c.Entry)).membership(c.Membership)
}
func (c RemoveMember) key(k *key) { k.add("remove member", c.Group, strconv.Itoa(c.Entry)) }
func (c SetMemberRule) key(k *key) {
	k.add("set member rule", c.Group, strconv.Itoa(c.Rule), filterText(c.Filter)).membership(c.Membership)
}
func (c RemoveMemberRule) key(k *key) { k.add("remove member rule", c.Group, strconv.Itoa(c.Rule)) }

func (c AddGroup) key(k *key) {
	k.add("add group", estate.None).addresses(c.Address)
	for _, s := range c.Settings {
		k.said(s.Setting, s.Texts)
	}
	for _, m := range c.Members {
		k.member(m)
	}
}
func (c RenameGroup) key(k *key) {
	k.add("rename group", c.Group, strconv.FormatBool(c.Forget)).addresses(c.To)
}
func (c RemoveGroup) key(k *key) { k.add("remove group", c.Group) }

func (c AddPerson) key(k *key) {
	k.add("add person", estate.None).addresses(c.Address).addresses(c.Also...)
	for _, s := range estate.PersonSettings() {
		k.texts(s.Text(c.Person))
	}
	for _, f := range c.Attributes {
		k.texts(f.Name, f.Value)
	}
}
func (c SetPerson) key(k *key)     { k.add("set person", c.Person, c.Field, c.Text) }
func (c SetAttribute) key(k *key)  { k.add("set attribute", c.Person, c.Attribute).texts(c.Values...) }
func (c SetPersonAlso) key(k *key) { k.add("set also", c.Person).addresses(c.Also...) }
func (c RenamePerson) key(k *key)  { k.add("rename person", c.Person).addresses(c.To) }
func (c RemovePerson) key(k *key)  { k.add("remove person", c.Person) }

func (c Accept) key(k *key)         { k.add("accept", estate.None, c.Acceptance.String()) }
func (c AddDomain) key(k *key)      { k.add("add domain", estate.None, c.Name) }
func (c RemoveDomain) key(k *key)   { k.add("remove domain", estate.None, c.Name) }
func (c SetNestedGates) key(k *key) { k.add("nested gates", estate.None, strconv.FormatBool(c.Open)) }
