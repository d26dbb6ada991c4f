package directory

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// Settings returns the settings of a group that are not the default, but for
// addresses, owners, moderators and access, as they are written.
func Settings(g *estate.Group) []estatefile.Field {
	var fields []estatefile.Field
	for setting := range estate.GroupSettings() {
		switch setting.Form {
		case estate.FormAddress, estate.FormAddresses, estate.FormParties, estate.FormAccess:
			continue
		}
		texts := setting.Texts(nil, g)
		switch {
		case setting.Form.IsList() && texts != nil:
			fields = append(fields, estatefile.Field{Name: setting.Name, List: texts})
		case len(texts) > 0:
			fields = append(fields, estatefile.Field{Name: setting.Name, Text: texts[0]})
		}
	}
	return fields
}
