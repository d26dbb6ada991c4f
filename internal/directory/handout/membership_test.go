package handout

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
)

// A step tells whatever a membership says, in JSON and in its columns.
func TestMembershipSettingsAreSteps(t *testing.T) {
	for _, s := range estate.MembershipSettings() {
		value := "2026-03-02"
		switch s.Form {
		case estate.FormFlag:
			value = "true"
		case estate.FormWord:
			value = s.Words[1]
		}
		var m estate.Membership
		if err := s.Set(&m, value); err != nil {
			t.Fatal(err)
		}
		var one Step
		one.says(m)
		data, err := json.Marshal(one)
		if err != nil {
			t.Fatal(err)
		}
		at := slices.Index(stepColumns, s.Name)
		if !strings.Contains(string(data), `"`+s.Name+`":`) || at < 0 || one.cells()[at] != value {
			t.Errorf("a step that says %s is %s, %q", s.Name, data, one.cells())
		}
	}
}
