package present

import (
	"encoding/json"
	"fmt"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
)

// Whatever a membership says stands in the list of members, in JSON as in a table.
func TestMembershipSettingsAreListed(t *testing.T) {
	for _, s := range estate.MembershipSettings() {
		value, want := "2026-03-02", any("2026-03-02")
		switch s.Form {
		case estate.FormFlag:
			value, want = "true", true
		case estate.FormWord:
			value, want = s.Words[1], s.Words[1]
		}
		var m estate.Membership
		if err := s.Set(&m, value); err != nil {
			t.Fatal(err)
		}
		data, err := json.Marshal(ListedMember{SaidOfMembership: saidOfMembership(m)})
		if err != nil {
			t.Fatal(err)
		}
		told := map[string]any{}
		if err := json.Unmarshal(data, &told); err != nil {
			t.Fatal(err)
		}
		if got := told[s.Name]; fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %v is %v in the list of members", s.Name, want, got)
		}
	}
}
