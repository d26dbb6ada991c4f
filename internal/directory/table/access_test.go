package table_test

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/sample"
)

// Whatever a group may set has its column, and what the demo sets stands there.
func TestEverySettingHasAColumn(t *testing.T) {
	files := table.Write(sample.Demo(t, demo.Estate).Estate())
	groups := string(files["groups.csv"])
	header, _, _ := strings.Cut(groups, "\n")
	columns := "," + strings.TrimSuffix(header, "\r") + ","
	for setting := range estate.GroupSettings() {
		if !strings.Contains(columns, ","+setting.Name+",") {
			t.Errorf("%s has no column in %s", setting.Name, header)
		}
	}
	e := sample.Load(t, "yorvet: 1\ndomains: [kelp.example]\npeople: []\ngroups:\n"+
		"  - {address: g@kelp.example, access: {find: anyone, join: inside, ask: nobody, read: owners, see-members: members, manage: moderators}}\n").Estate()
	if got := string(table.Write(e)["groups.csv"]); !strings.Contains(got, ",moderators,members,owners,anyone,nobody,inside,") {
		t.Errorf("access is written as %s", got)
	}
}
