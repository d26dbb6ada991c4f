package change

import "yorvet.example/yorvet/internal/core/estate"

func ofGroup(group estate.ID, setting string) Subject {
	return Subject{Group: group, Person: estate.None, Setting: setting}
}

func ofPerson(person estate.ID, setting string) Subject {
	return Subject{Group: estate.None, Person: person, Setting: setting}
}

func ofEntry(e *estate.Estate, group estate.ID, entry int) Subject {
	return Subject{Group: group, Person: e.Entries(group)[entry].Member, Setting: "members"}
}

// About implements Change, as do the methods of that name below.
func (c SetSetting) About(*estate.Estate) Subject { return ofGroup(c.Group, c.Setting) }

func (c SetList) About(e *estate.Estate) Subject {
	s := ofGroup(c.Group, c.Setting)
	if all := append(c.Drop[:len(c.Drop):len(c.Drop)], c.Add...); len(all) == 1 && c.Setting != "also" {
		if setting, ok := estate.GroupSetting(c.Setting); ok && setting.Form == estate.FormParties {
			if v, err := setting.Parse(all[0]); err == nil {
				if id, ok := e.Find(v.Address); ok {
					s.Person = id
				}
			}
		}
	}
	return s
}
func (c InsertRule) About(*estate.Estate) Subject { return ofGroup(c.Group, c.Setting) }
func (c SetRule) About(*estate.Estate) Subject    { return ofGroup(c.Group, c.Setting) }
func (c RemoveRule) About(*estate.Estate) Subject { return ofGroup(c.Group, c.Setting) }

func (c AddMember) About(e *estate.Estate) Subject {
	s := ofGroup(c.Group, "members")
	if id, ok := e.Find(c.Member.Address); ok && !c.Member.IsRule() {
		s.Person = id
	}
	return s
}
func (c SetMember) About(e *estate.Estate) Subject      { return ofEntry(e, c.Group, c.Entry) }
func (c RemoveMember) About(e *estate.Estate) Subject   { return ofEntry(e, c.Group, c.Entry) }
func (c SetMemberRule) About(*estate.Estate) Subject    { return ofGroup(c.Group, "members") }
func (c RemoveMemberRule) About(*estate.Estate) Subject { return ofGroup(c.Group, "members") }

func (c AddGroup) About(*estate.Estate) Subject      { return ofGroup(estate.None, "address") }
func (c RenameGroup) About(*estate.Estate) Subject   { return ofGroup(c.Group, "address") }
func (c RemoveGroup) About(*estate.Estate) Subject   { return ofGroup(c.Group, "address") }
func (c AddPerson) About(*estate.Estate) Subject     { return ofPerson(estate.None, "address") }
func (c SetPerson) About(*estate.Estate) Subject     { return ofPerson(c.Person, c.Field) }
func (c SetAttribute) About(*estate.Estate) Subject  { return ofPerson(c.Person, c.Attribute) }
func (c SetPersonAlso) About(*estate.Estate) Subject { return ofPerson(c.Person, "also") }
func (c RenamePerson) About(*estate.Estate) Subject  { return ofPerson(c.Person, "address") }
func (c RemovePerson) About(*estate.Estate) Subject  { return ofPerson(c.Person, "address") }

func (c Accept) About(*estate.Estate) Subject         { return ofGroup(estate.None, "accept") }
func (c AddDomain) About(*estate.Estate) Subject      { return ofGroup(estate.None, "domains") }
func (c RemoveDomain) About(*estate.Estate) Subject   { return ofGroup(estate.None, "domains") }
func (c SetNestedGates) About(*estate.Estate) Subject { return ofGroup(estate.None, "nested-gates") }
